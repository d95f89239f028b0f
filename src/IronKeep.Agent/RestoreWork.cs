using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Fetching;
using IronKeep.Runs.Restores;
using IronKeep.Stores;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;

namespace IronKeep.Agent;

/// <summary>Gives back a copy on this machine: fetches what is wanted of it, and writes it below a folder.</summary>
internal sealed class RestoreWork
{
    private readonly ServiceLine line;
    private readonly string home;
    private readonly RestoreOnMachine order;
    private readonly WorkReports reports;
    private long files,
        bytes;

    public RestoreWork(ServiceLine line, string home, RestoreOnMachine order)
    {
        (this.line, this.home, this.order) = (line, home, order);
        reports = new WorkReports(line, At(""), () =>
            new CopyFigures(Interlocked.Read(ref files), Interlocked.Read(ref bytes), 0, 0, 0, 0, 0, 0, 0, 0)
        );
    }

    /// <summary>In one sentence how it ended.</summary>
    public async Task<string> DoAsync(CancellationToken stopping)
    {
        using var giveUp = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        using var ended = new CancellationTokenSource();
        var reporting = Task.CompletedTask;
        var what = $"run {order.Run}, copy {order.CopyId} to {order.To}, as {order.By} asked for";
        try
        {
            var begun = Ask<OrderBeginRequest>("begin", new(ServiceLine.Instance), giveUp.Token);
            if (begun.Stop)
                return $"{what}: given up";
            reports.Pace.PerSecond = begun.PerSecond;
            reporting = reports.KeepOnAsync(giveUp, ended.Token);
            var report = Restore(giveUp.Token);
            foreach (var problem in report.Problems)
                reports.Log(LogSeverity.Warning, $"{problem.Path}: {problem.Problem}");
            await reports.CatchUpAsync(giveUp.Token);
            Ask("end", Ending(report), giveUp.Token);
            return $"{what}: {report.Files} files, {report.Problems.Count} problems";
        }
        catch (LineException e)
        {
            if (e.Fault is LineFault.Wrong or LineFault.Away)
                await reports.TellAsync(FailureClass.Unknown, e.Message);
            return $"{what}: {e.Message}";
        }
        catch (OperationCanceledException)
        {
            if (stopping.IsCancellationRequested)
                await reports.TellAsync(
                    FailureClass.Interrupted,
                    "the agent was stopped in the middle of it; what was restored by then is there, and the rest is not"
                );
            return $"{what}: given up";
        }
        catch (Exception e)
            when (e is RunFailedException or InvalidDataException or StoreDamageException or IOException or UnauthorizedAccessException)
        {
            var failure =
                e as RunFailedException
                ?? (
                    e is StoreDamageException or InvalidDataException
                        ? new RunFailedException(FailureClass.DataDamaged, e.Message)
                        : RestoreFailures.Of(order.To, e)
                );
            await reports.TellAsync(failure.Class, failure.Message);
            return $"{what} failed: {failure.Message}";
        }
        finally
        {
            await ended.CancelAsync();
            await reporting;
        }
    }

    private RestoreReport Restore(CancellationToken cancel)
    {
        if (Kebab.Read<ExistingRule>(order.Existing) is not { } existing)
            throw new RunFailedException(
                FailureClass.Unknown,
                $"the order's rule '{order.Existing}' is not known here; is this agent old?"
            );
        var forbidden = new ForbiddenFolders([(home, "the agent's own folder")]);
        var record = new CopyRecord(
            order.CopyId,
            order.Job,
            order.Of,
            order.Taken,
            order.Taken,
            [.. order.Takes],
            order.Items,
            order.Bytes,
            0,
            order.Depth,
            [.. order.Root]
        );
        using var restorer = new TreeRestorer(new FetchedTrees(new Link(this, cancel)), Note, existing, forbidden);
        return restorer.Restore(record, order.Paths, order.To, cancel);
    }

    private void Note(long doneFiles, long doneBytes)
    {
        Interlocked.Exchange(ref files, doneFiles);
        Interlocked.Exchange(ref bytes, doneBytes);
    }

    private RestoreEndRequest Ending(RestoreReport r) =>
        new(
            reports.Now(),
            r.Files,
            r.Folders,
            r.Links,
            r.Bytes,
            r.Overwritten,
            r.Beside,
            r.Problems.Count,
            r.Problems is [var first, ..] ? Shortened($"{first.Path}: {first.Problem}") : null
        );

    private static string Shortened(string text) => text.Length <= MostText ? text : text[..MostText] + "…";

    private const int MostText = 4000;

    private string At(string what) => $"restores/{order.Token}{(what.Length > 0 ? "/" + what : "")}";

    private CopyReportAnswer Ask<TBody>(string what, TBody body, CancellationToken cancel) =>
        Patiently.Ask(() => line.PostAsync<TBody, CopyReportAnswer>(At(what), body, cancel), cancel);

    private sealed class Link(RestoreWork work, CancellationToken cancel) : IFetchLink
    {
        public byte[] Fetch(ReadOnlyMemory<byte> asked)
        {
            var pace = work.reports.Pace;
            var answer = Patiently.Ask(() => work.line.PostBytesAsync(work.At("chunks"), asked, pace, cancel), cancel);
            // What has come is made up for by asking for the next a little later.
            for (var left = answer.Length; left > 0 && pace.PerSecond is { } rate; left -= (int)Math.Min(left, rate))
                pace.TakeAsync((int)Math.Min(left, rate), cancel).GetAwaiter().GetResult();
            return answer;
        }
    }
}
