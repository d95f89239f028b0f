using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Stores;
using IronKeep.Stores.Posix;

namespace IronKeep.Service.Runs;

/// <summary>Makes a copy of a job's sources in its store.</summary>
public sealed class BackupWork(CharterInForce charter, OpenStores stores, CopyBook copies, TimeProvider clock) : IRunWork
{
    public RunKind Kind => RunKind.Backup;

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        if (!charter.Charter.Jobs.TryGetValue(live.Run.Job!, out var job))
            return new RunEnding(Outcome.Cancelled, $"the charter has no job {live.Run.Job} any more");
        // Links can have changed since the charter was applied.
        if (PlaceRules.Unsafe(job, charter.Charter.Stores.Values) is { } why) throw new RunFailedException(FailureClass.UnsafePlace, why);
        var takes = job.Takes.Select(t => Real(t, live)).Distinct().ToArray();
        var store = stores.Get(job.Into);
        var previous = await copies.NewestRecordAsync(job.Name, live.Run.Machine, job.Into, store, cancel);
        live.Log(LogSeverity.Info, previous is null
            ? $"{job.Name} to store {job.Into}: the first copy, so everything is read"
            : $"{job.Name} to store {job.Into}: compared with copy {previous.Id}");
        var order = new BackupOrder(CopyBook.NewId(clock.GetUtcNow()), job.Name, live.Run.Machine, [.. takes], job.LeavesOut, previous);
        var run = new BackupRun(store, order, clock, live.Log);
        using var progress = new Timer(_ => Report(), null, TimeSpan.FromMilliseconds(250), TimeSpan.FromMilliseconds(250));
        try
        {
            var record = await run.RunAsync(cancel);
            Report();
            await copies.AddAsync(record, job.Into, live.Now, cancel);
            return new RunEnding(record.Skipped > 0 ? Outcome.Warned : Outcome.Ok, Say(run.Figures, record.Id), CopyId: record.Id);
        }
        finally
        {
            Report();
        }

        void Report()
        {
            var f = run.Figures;
            live.Report(new Progress(f.Items, f.SelectedBytes, f.ReadBytes, f.NewBytes, f.StoredBytes, f.Skipped));
        }
    }

    private static string Say(RunFigures f, string copyId)
    {
        var taken = $"copy {copyId}: {Counted.Of(f.Items, "item")}, {new ByteSize(f.SelectedBytes)} taken";
        var change = f.FilesRead == 0 ? "nothing had changed" : $"{new ByteSize(f.ReadBytes)} read, {new ByteSize(f.NewBytes)} new, {new ByteSize(f.StoredBytes)} stored";
        var skipped = f.Skipped == 0 ? "" : $"; {f.Skipped} skipped or torn, named in the log";
        return $"{taken}; {change}{skipped}";
    }

    private static string Real(string path, LiveRun live)
    {
        var real = RealPaths.Of(path) ?? throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist or cannot be reached");
        if (real != path) live.Log(LogSeverity.Info, $"{path} leads to {real}, which is taken");
        return real;
    }
}
