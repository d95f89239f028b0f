using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Upkeep;

/// <summary>Frees the bytes of copies whose time in the bin is over, and of chunks that nothing needs.</summary>
public sealed class ReclaimWork(
    OpenStores stores,
    Copies.ShelfKeeper shelves,
    CharterInForce charter,
    IDbContextFactory<KeepContext> catalogue,
    ClockWatch clockWatch,
    TimeProvider clock
) : IRunWork
{
    public RunKind Kind => RunKind.Reclaim;

    public bool IsAlone => true;

    public WhenLost WhenLost => WhenLost.BegunAnew;

    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) =>
        RunAlerts.Usual(run, Subject.OfReclaim(run.Store!), charter, AlertClass.Failed);

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var name = live.Run.Store!;
        var store = stores.Get(name);
        var bin = charter.Charter.Stores[name].Bin;
        if (await clockWatch.DoubtAsync(cancel) is { } doubt)
            return new RunEnding(Outcome.HeldBack, $"{doubt}: nothing leaves the bin until the clock is set right or confirmed");
        var until = clock.Now() - bin.ToDuration();
        await shelves.SettleAsync(name, notes: true, cancel);
        HashSet<string> mayGo;
        await using (var before = await catalogue.CreateDbContextAsync(cancel))
        {
            // What the catalogue has in force, holds, or does not know, never leaves the store, whatever the store says.
            var now = clock.Now();
            mayGo = (
                await before
                    .Copies.Where(c =>
                        c.Store == name
                        && c.GoneAt == null
                        && c.BinnedAt != null
                        && c.BinnedAt <= until
                        && (c.HeldUntil == null || c.HeldUntil <= now)
                    )
                    .Select(c => c.Id)
                    .ToListAsync(cancel)
            ).ToHashSet();
        }
        var report = store.Reclaim(until.ToDateTimeOffset(), mayGo.Contains, cancel);
        foreach (var id in report.CopiesGone)
            live.Log(LogSeverity.Info, $"copy {id} left the bin; it can no longer be restored");
        await using var db = await catalogue.CreateDbContextAsync(CancellationToken.None);
        // What an interrupted reclaiming removed before the catalogue heard of it is gone as well.
        var there = store.ReadContents().Copies.Select(c => c.Record.Id).ToHashSet();
        foreach (
            var copy in await db
                .Copies.Where(c => c.Store == name && c.BinnedAt != null && c.GoneAt == null)
                .ToListAsync(CancellationToken.None)
        )
        {
            if (there.Contains(copy.Id))
                continue;
            copy.GoneAt = clock.Now();
            db.Say(
                new Fact
                {
                    At = copy.GoneAt.Value,
                    Kind = FactKind.CopyGone,
                    CopyId = copy.Id,
                    Store = name,
                    Job = copy.Job,
                    Machine = copy.Machine,
                    RunId = live.Run.Id,
                }
            );
        }
        await using (var change = await db.BeginChangeAsync(CancellationToken.None))
        {
            await db.SaveChangesAsync(CancellationToken.None);
            await change.CommitAsync(CancellationToken.None);
        }
        live.Report(new Progress(report.CopiesGone.Count, 0, 0, 0, 0, 0));
        var waiting = await CountInBin(db, name);
        return new RunEnding(
            Outcome.Ok,
            $"{Counted.Of(report.CopiesGone.Count, "copy", "copies")} left the bin of store {name}; "
                + $"{Counted.Of(report.PacksRemoved, store.Can.PartWord)} "
                + $"removed{(store.Can.TakesBackups ? $", {report.PacksRewritten} rewritten" : "")}, {new ByteSize(report.BytesFreed)} "
                + $"freed"
                + (waiting > 0 ? $"; {Counted.Of(waiting, "copy stays", "copies stay")} in the bin until their {bin} are over" : "")
        );
    }

    private static Task<int> CountInBin(KeepContext db, string store) =>
        Copies.CopyBook.Alive(db).CountAsync(c => c.Store == store && c.BinnedAt != null);
}
