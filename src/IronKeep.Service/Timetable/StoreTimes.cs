using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// What is due beside jobs: verifying and reclaiming stores, and the duty mail. Due instants that passed while the service was away
/// are served once, late, for nothing depends on their exact time.
/// </summary>
public sealed class StoreTimes(CharterInForce inForce, RunQueue queue, DutyMail dutyMail, TimeProvider clock)
{
    private const string Mail = "duty-mail";
    private static readonly Duration WatermarkLag = Duration.FromMinutes(10);

    /// <summary>One look; the caller holds the loop.</summary>
    public async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var watches = await db.StoreWatches.ToListAsync(cancel);
        List<(string Store, string What, Schedule? When)> wanted = [("", Mail, charter.DutyMail)];
        foreach (var s in charter.Stores.Values) wanted.AddRange([(s.Name, "check", s.VerifyWhen), (s.Name, "reclaim", s.ReclaimWhen)]);
        wanted.RemoveAll(w => w.When is null);
        var now = clock.Now();
        foreach (var (store, what, when) in wanted)
        {
            if (watches.Find(w => w.Store == store && w.What == what) is not { } watch)
            {
                db.StoreWatches.Add(new StoreWatch { Store = store, What = what, Watermark = now });
                continue;
            }
            watches.Remove(watch);
            if (now <= watch.Watermark) continue;
            var due = DueInstants.Between(when!, charter.Zone, watch.Watermark, now).Select(d => (Instant?)d).LastOrDefault();
            if (due is null && now - watch.Watermark < WatermarkLag) continue;
            watch.Watermark = now;
            if (due is null) continue;
            // The watermark is stored first: a mail that is not written is better than one that is written for ever.
            await db.SaveChangesAsync(cancel);
            if (what == Mail) await dutyMail.WriteAsync(cancel);
            else await QueueAsync(db, what == "check" ? RunKind.Check : RunKind.Reclaim, store, due.Value, cancel);
        }
        db.StoreWatches.RemoveRange(watches);
        await db.SaveChangesAsync(cancel);
    }

    private async Task QueueAsync(KeepContext db, RunKind kind, string store, Instant due, CancellationToken cancel)
    {
        if (await db.Runs.AnyAsync(r => r.Kind == kind && r.Store == store && r.State != RunState.Ended, cancel)) return;
        await queue.AddAsync(new RunRequest(kind, null, store, RunQueue.BySchedule) { Due = due, Order = kind == RunKind.Check ? OrderOf(inForce.Charter.Stores[store], due) : null }, cancel);
    }

    /// <summary>With a time in which everything is to be read again, each verification reads its share: the time to the next one, of that time.</summary>
    private Stores.CheckOrder OrderOf(StoreDeclaration store, Instant due)
    {
        if (store.RereadWithin is not { } within) return new Stores.CheckOrder(store.VerifyBudget?.Bytes);
        var zone = inForce.Charter.Zone;
        var next = DueInstants.Next(store.VerifyWhen!, zone, due);
        var whole = within.ToDuration();
        return new Stores.CheckOrder(store.VerifyBudget?.Bytes, Share: next is { } n ? (n - due) / whole : 1);
    }
}
