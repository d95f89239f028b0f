using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Healing;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// Brings back what damaged copies of a store lack from the other stores that hold copies of the same jobs, then looks which copies are
/// whole again.
/// </summary>
public sealed class HealWork(
    OpenStores stores,
    CopyBook copies,
    CharterInForce charter,
    IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock
) : IRunWork
{
    private const int MostNamed = 1000;

    public RunKind Kind => RunKind.Heal;

    /// <summary>What it left hurt has its alert already.</summary>
    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) => [];

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var name = live.Run.Store!;
        var store = stores.Get(name);
        if (!store.Can.Heals)
            return new RunEnding(
                Outcome.Refused,
                $"store {name} is of a layout that cannot be healed from another; the next run of a job stores anew what its sources still "
                    + $"have"
            );
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var others = Reachable(live, await HelpersAsync(db, charter, name, cancel));
        if (others.Count == 0)
            return new RunEnding(
                Outcome.NotNeeded,
                $"no other store holds copies of the jobs whose copies in store {name} are hurt; the next run of a job stores anew what "
                    + $"its sources still have"
            );
        var before = store.Check(CheckScope.Everything with { Depth = CheckDepth.Presence }, null, cancel);
        if (before.Copies.Length == 0)
            return new RunEnding(
                Outcome.NotNeeded,
                $"store {name} has everything its copies need, as far as is known; a content check looks closer"
            );
        live.Log(
            LogSeverity.Info,
            $"healing store {name} from {Counted.Named([.. others.Select(o => o.Name)])}: "
                + $"{Counted.Of(before.Copies.Length, "copy is", "copies are")} hurt"
        );
        var report = store.Heal([.. others.Select(o => o.Store)], cancel);
        foreach (var path in report.Healed.Take(MostNamed))
            live.Log(LogSeverity.Info, $"{path.Path} of copy {path.CopyId} came back from copy {path.From}");
        if (report.Healed.Length > MostNamed)
            live.Log(LogSeverity.Info, $"and {report.Healed.Length - MostNamed} more paths");
        var began = clock.Now();
        var after = store.Check(CheckScope.Everything with { Depth = CheckDepth.Presence }, null, cancel);
        foreach (var copy in after.Copies)
            CheckWork.Name(live, LogSeverity.Warning, copy, "still cannot be restored whole");
        await CheckWork.RecordAsync(copies, db, name, store, after, began);
        live.Report(new Progress(report.Healed.Length, report.Bytes, report.Bytes, report.Bytes, 0, after.Copies.Length));
        var done = $"{Counted.Of(report.Healed.Length, "path")} of store {name} brought back ({new ByteSize(report.Bytes)} stored)";
        return after.Copies.Length == 0
            ? new RunEnding(
                Outcome.Ok,
                $"{done}; {(before.Copies.Length == 1 ? "its hurt copy is" : $"all {before.Copies.Length} hurt copies are")} whole again"
            )
            : new RunEnding(
                Outcome.Warned,
                $"{done}; {Counted.Of(after.Copies.Length, "copy stays", "copies stay")} hurt, and the log names what is missing"
            );
    }

    /// <summary>The other stores of the charter that hold copies of jobs of which this store has hurt ones.</summary>
    public static async Task<List<string>> HelpersAsync(KeepContext db, CharterInForce charter, string name, CancellationToken cancel)
    {
        var jobs = await CopyBook
            .Alive(db)
            .Where(c => c.Store == name && c.State == CopyState.Unsound)
            .Select(c => c.Job)
            .Distinct()
            .ToListAsync(cancel);
        var having = await CopyBook
            .Alive(db)
            .Where(c => c.Store != name && jobs.Contains(c.Job) && c.State != CopyState.Missing)
            .Select(c => c.Store)
            .Distinct()
            .ToListAsync(cancel);
        return [.. having.Where(charter.Charter.Stores.ContainsKey).Order(StringComparer.Ordinal)];
    }

    private List<(string Name, IStoreLayout Store)> Reachable(LiveRun live, List<string> names)
    {
        var found = new List<(string, IStoreLayout)>();
        foreach (var name in names)
        {
            try
            {
                var store = stores.Get(name);
                store.CheckStillThere();
                found.Add((name, store));
            }
            catch (Exception e) when (e is PlaceException or StoreDamageException)
            {
                live.Log(LogSeverity.Warning, $"store {name} cannot help: {e.Message}");
            }
        }
        return found;
    }
}
