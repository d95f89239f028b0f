using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>When stores are verified.</summary>
public sealed class CheckTimes(CharterInForce inForce, RunQueue queue) : ITimedWork
{
    public string What => "check";

    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) =>
        charter.Stores.Values.Where(s => s.VerifyWhen is not null).Select(s => (s.Name, s.VerifyWhen!));

    public Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel) =>
        UpkeepTimes.QueueAsync(
            db,
            queue,
            new RunRequest(RunKind.Check, null, store, Actor.Schedule) { Due = due, Order = OrderOf(inForce.Charter.Stores[store], due) },
            cancel
        );

    /// <summary>
    /// With a time in which everything is to be read again, each verification reads its share: the time to the next one, of that time.
    /// </summary>
    private CheckOrder OrderOf(StoreDefinition store, Instant due)
    {
        if (store.VerifyWithin is not { } within)
            return new CheckOrder(store.VerifyBudget?.Bytes);
        var next = DueInstants.Next(store.VerifyWhen!, inForce.Charter.Zone, due);
        return new CheckOrder(store.VerifyBudget?.Bytes, Share: next is { } n ? (n - due) / within.ToDuration() : 1);
    }
}

/// <summary>When the bins of stores are reclaimed.</summary>
public sealed class ReclaimTimes(RunQueue queue) : ITimedWork
{
    public string What => "reclaim";

    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) =>
        charter.Stores.Values.Where(s => s.ReclaimWhen is not null).Select(s => (s.Name, s.ReclaimWhen!));

    public Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel) =>
        UpkeepTimes.QueueAsync(db, queue, new RunRequest(RunKind.Reclaim, null, store, Actor.Schedule) { Due = due }, cancel);
}

internal static class UpkeepTimes
{
    /// <summary>Queues it with the caller's change, unless one of its kind waits or works already.</summary>
    public static async Task QueueAsync(KeepContext db, RunQueue queue, RunRequest request, CancellationToken cancel)
    {
        if (await db.Runs.AnyAsync(r => r.Kind == request.Kind && r.Store == request.Store && r.State != RunState.Ended, cancel))
            return;
        await queue.AddAsync(db, request, cancel);
    }
}
