using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Runs;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// What is due beside jobs. Due instants that passed while the service was away are served once, late, for nothing depends on their exact
/// time; that one was served, and what came of it, is one change.
/// </summary>
public sealed class TimedWorks(CharterInForce inForce, IEnumerable<ITimedWork> works, Leading leading, RunQueue queue, TimeProvider clock)
{
    private static readonly Duration WatermarkLag = Duration.FromMinutes(10);

    /// <summary>One look; the caller holds the loop.</summary>
    public async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        var watches = await db.TimedMarks.AsNoTracking().ToListAsync(cancel);
        var now = clock.Now();
        var moves = new List<(ITimedWork Work, string Store, Instant? Due)>();
        foreach (var work in works)
        {
            foreach (var (store, when) in work.Times(inForce.Charter))
            {
                var known = watches.Find(w => w.Store == store && w.What == work.What);
                if (known is not null)
                    watches.Remove(known);
                if (known is not null && now <= known.Watermark)
                    continue;
                var due = known is null
                    ? null
                    : DueInstants.Between(when, inForce.Charter.Zone, known.Watermark, now).Select(d => (Instant?)d).LastOrDefault();
                if (known is not null && due is null && now - known.Watermark < WatermarkLag)
                    continue;
                moves.Add((work, store, due));
            }
        }
        // One that fails keeps no other from being served.
        foreach (
            var part in moves
                .Where(m => m.Due is not null)
                .Select(m => new[] { m })
                .Append([.. moves.Where(m => m.Due is null)])
                .Where(p => p.Length > 0)
        )
            await MoveAsync(db, part, now, cancel);
        if (watches.Count == 0)
            return;
        foreach (var gone in watches)
            await db.TimedMarks.Where(w => w.Store == gone.Store && w.What == gone.What).ExecuteDeleteAsync(cancel);
    }

    private async Task MoveAsync(
        KeepContext db,
        (ITimedWork Work, string Store, Instant? Due)[] moves,
        Instant now,
        CancellationToken cancel
    )
    {
        db.ChangeTracker.Clear();
        await using var change = await leading.BeginAsync(db, cancel);
        foreach (var (work, store, due) in moves)
        {
            var watch = await db.TimedMarks.FindAsync([store, work.What], cancel);
            if (watch is null)
                db.TimedMarks.Add(
                    new TimedMark
                    {
                        Store = store,
                        What = work.What,
                        Watermark = now,
                    }
                );
            else
                watch.Watermark = now;
            if (due is { } instant)
                await work.DoAsync(db, store, instant, cancel);
        }
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        // Only now can the dispatch see what was queued.
        if (moves.Any(m => m.Due is not null))
            queue.Wake();
    }
}
