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
    public Task<string> DoAsync(CancellationToken stopping) =>
        reports.CarryOutAsync(
            $"run {order.Run}, copy {order.CopyId} to {order.To}, as {order.By} asked for",
            cancel => Task.FromResult(GiveBack(cancel)),
            e =>
                e switch
                {
                    RunFailedException failed => failed,
                    StoreDamageException or InvalidDataException => new RunFailedException(FailureClass.DataDamaged, e.Message, e),
                    IOException or UnauthorizedAccessException => RestoreFailures.Of(order.To, e),
                    _ => null,
                },
            "what was restored by then is there, and the rest is not",
            stopping
        );

    private string GiveBack(CancellationToken cancel)
    {
        var begun = Ask<OrderBeginRequest>("begin", new(line.Instance), cancel);
        if (begun.Stop)
            return "given up";
        reports.Pace.PerSecond = begun.PerSecond;
        var report = Restore(cancel);
        foreach (var problem in report.Problems)
            reports.Log(LogSeverity.Warning, $"{problem.Path}: {problem.Problem}");
        Ask("end", Ending(report, cancel), cancel);
        return $"{report.Files} files, {report.Problems.Count} problems";
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

    private RestoreEndRequest Ending(RestoreReport r, CancellationToken cancel) =>
        new(
            reports.Last(cancel),
            r.Files,
            r.Folders,
            r.Links,
            r.Bytes,
            r.Overwritten,
            r.Beside,
            r.Problems.Count,
            r.Problems is [var first, ..] ? Shortened($"{first.Path}: {first.Problem}") : null
        );

    private static string Shortened(string text) => text.Length <= WorkReports.MostText ? text : text[..WorkReports.MostText] + "…";

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
