using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Steps;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent;

/// <summary>What of an order's words becomes paths, moments and commands here; what no charter could say is refused.</summary>
internal static class Ordered
{
    /// <summary>Names become folders here.</summary>
    public static void Check(CopyOrder order)
    {
        if (
            !CharterReader.IsName(order.Store)
            || !CharterReader.IsName(order.Job)
            || (order.Streams ?? []).Any(s => !CharterReader.IsName(s.Step.Name) || s.KeepsAs.Contains('/', StringComparison.Ordinal))
        )
            throw new RunFailedException(FailureClass.Unknown, "the order names a store or job that no charter could");
    }

    public static string[] Takes(CopyOrder order, RunLog log) => [.. order.Takes.Select(t => Real(t, log)).Distinct()];

    public static BackupOrder Of(CopyOrder order, string copy, string machine, string[] takes, CopyRecord? previous) =>
        new(copy, order.Job, machine, [.. takes], [.. order.LeavesOut], previous)
        {
            LeavesOutCaches = order.LeavesOutCaches,
            AllFileSystems = order.OtherFileSystems,
            Level = order.Compression,
            StillAt = [.. (order.StillAt ?? []).Select(Still)],
            Streams = [.. (order.Streams ?? []).Select(s => new StreamSource(StepsWork.Step(s.Step), s.KeepsAs))],
        };

    private static StillFolder Still(string words)
    {
        var (folder, problem) = StillFolder.Read(words);
        if (folder is null)
            throw new RunFailedException(FailureClass.Unknown, $"the order names a moment that no charter could: {problem!.Message}");
        return folder with { From = RealPaths.Of(folder.From) ?? folder.From };
    }

    private static string Real(string path, RunLog log)
    {
        var real = RealPaths.Of(path)
            ?? throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist or cannot be reached");
        if (real != path)
            log(LogSeverity.Info, $"{path} leads to {real}, which is taken");
        return real;
    }

    /// <summary>What went wrong as the failure of a run; null: nobody foresaw it.</summary>
    public static RunFailedException? Failure(Exception e) =>
        e switch
        {
            RunFailedException known => known,
            PlaceException place => new RunFailedException(BackupRun.ClassOf(place), place.Message, e),
            StoreDamageException => new RunFailedException(FailureClass.DataDamaged, e.Message, e),
            IronKeep.Stores.Sessions.ArrivalRefusedException or IOException or UnauthorizedAccessException => new RunFailedException(
                FailureClass.Unknown,
                e.Message,
                e
            ),
            _ => null,
        };
}

/// <summary>Makes copies in stores on this machine's own disks, where the machine allows it.</summary>
internal sealed class LocalCopies(StepRunner steps, AllowedFile allowed)
{
    /// <summary>
    /// Makes the copy; its record is there when this returns. Without a copy to compare with, the newest of the job that the store has is
    /// taken. <paramref name="begun"/> hears of its figures.
    /// </summary>
    public async Task<CopyRecord> MakeAsync(CopyOrder order, string copy, RunLog log, Action<RunFigures> begun, CancellationToken cancel)
    {
        var local = order.Local!;
        Ordered.Check(order);
        if (StoresHere.WhyNot(local.Folder, allowed.Read, allowed.Path) is { } not)
            throw new RunFailedException(FailureClass.AccessRefused, not);
        var takes = Ordered.Takes(order, log);
        var at = RealPaths.OfExistingPart(local.Folder);
        if (takes.FirstOrDefault(t => RealPaths.Contains(t, at) || RealPaths.Contains(at, t)) is { } odd)
            throw new RunFailedException(
                FailureClass.UnsafePlace,
                $"{odd} and the store in {local.Folder} lie in each other; take a narrower folder, or move the store"
            );
        using var store = PooledStore.Open(new FolderPlace(local.Folder));
        var previous = local.Previous is { } id ? store.ReadRecord(id) : Newest(store, order.Job, local.Machine);
        var run = new BackupRun(store, Ordered.Of(order, copy, local.Machine, takes, previous), TimeProvider.System, log) { Steps = steps };
        begun(run.Figures);
        return await run.RunAsync(cancel);
    }

    private static CopyRecord? Newest(PooledStore store, string job, string machine) =>
        store
            .ReadContents()
            .Copies.Where(c => c.Binned is null && c.Record.Job == job && c.Record.Machine == machine)
            .Select(c => c.Record)
            .MaxBy(r => r.Taken);
}
