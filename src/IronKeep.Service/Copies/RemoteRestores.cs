using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;

namespace IronKeep.Service.Copies;

/// <summary>What a restore did, wherever it was done, and the first of what it could not.</summary>
public sealed record RestoreTally(
    long Files,
    long Folders,
    long Links,
    long Bytes,
    long Overwritten,
    long Beside,
    long Problems,
    string? FirstProblem
)
{
    public static RestoreTally Of(RestoreReport r) =>
        new(
            r.Files,
            r.Folders,
            r.Links,
            r.Bytes,
            r.Overwritten,
            r.Beside,
            r.Problems.Count,
            r.Problems is [var first, ..] ? $"{first.Path}: {first.Problem}" : null
        );
}

/// <summary>Has an agent give back a copy on its machine and waits for it.</summary>
public sealed class RemoteRestores(AgentOrders orders, AgentPatience patience)
{
    /// <summary>Gives back what the order says of a copy; failures are <see cref="RunFailedException"/>.</summary>
    public async Task<RestoreTally> GiveBackAsync(
        LiveRun live,
        PooledStore store,
        CopyRecord record,
        RestoreOrder order,
        CancellationToken cancel
    )
    {
        using var leaving = new LeavingCopy(store, record);
        using var restore = new RemoteRestore(live, leaving);
        var told = leaving.Told;
        var given = orders.Give(
            order.Machine!,
            token => new RestoreOnMachine(
                token,
                live.Run.Id,
                record.Id,
                record.Job,
                record.Machine,
                record.Taken,
                [.. record.Takes],
                record.Items,
                record.Bytes,
                told.Depth,
                [.. told.Root],
                order.Paths,
                order.To,
                Kebab.Of(order.Existing),
                live.Run.By.Name ?? "nobody",
                order.Reason
            ),
            restore
        );
        try
        {
            await patience.WaitAsync(given, restore.Done, "what was restored by then is there, and the rest is not", cancel);
            return await restore.Done;
        }
        finally
        {
            given.End();
        }
    }
}

/// <summary>One restore on another machine: gives what is asked for of the copy, and takes what the agent says of it.</summary>
internal sealed class RemoteRestore(LiveRun live, LeavingCopy leaving) : IDepartures, IDisposable
{
    private readonly SaidLines said = new(live);
    private readonly TaskCompletionSource<RestoreTally> done = new(TaskCreationOptions.RunContinuationsAsynchronously);

    private bool over;

    /// <summary>Completes with what was done, or fails as the run does.</summary>
    public Task<RestoreTally> Done => done.Task;

    public byte[] Give(ReadOnlySpan<byte> asked) => leaving.Give(asked);

    public void Report(CopyReportRequest report)
    {
        var (items, bytes) = (SaidLines.Count(report.Figures.Items), SaidLines.Count(report.Figures.SelectedBytes));
        lock (said)
        {
            if (over)
                throw new OrderOverException();
            said.Take(report);
            live.Report(new Progress(items, bytes, bytes, 0, 0, SaidLines.Count(report.Figures.Skipped)));
        }
    }

    public void Fail(CopyFailRequest request)
    {
        Report(request.Report);
        done.TrySetException(new RunFailedException(request.Failure, SaidLines.Plain(request.Message)));
    }

    public void End(RestoreEndRequest request)
    {
        if (done.Task.IsCompleted)
            return;
        Report(request.Report);
        done.TrySetResult(
            new RestoreTally(
                SaidLines.Count(request.Files),
                SaidLines.Count(request.Folders),
                SaidLines.Count(request.Links),
                SaidLines.Count(request.Bytes),
                SaidLines.Count(request.Overwritten),
                SaidLines.Count(request.Beside),
                SaidLines.Count(request.Problems),
                request.FirstProblem is { } first ? SaidLines.Plain(first) : null
            )
        );
    }

    /// <summary>From here on nothing of it is taken.</summary>
    public void Dispose()
    {
        lock (said)
            over = true;
    }
}
