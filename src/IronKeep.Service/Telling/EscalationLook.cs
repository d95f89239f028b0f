using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Timetable;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Tells others of what nobody has seen in time, once for each route that says so. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class EscalationLook(CharterInForce inForce, TellingDesk desk, Leading leading, TimeProvider clock) : ILook
{
    public Duration Every { get; } = Duration.FromSeconds(30);

    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var soonest = charter
            .Routes.Values.Select(r => r.UnseenFor?.ToDuration())
            .OfType<Duration>()
            .DefaultIfEmpty(Duration.MaxValue)
            .Min();
        if (soonest == Duration.MaxValue)
            return;
        var now = clock.Now();
        var since = now - soonest;
        var unseen = await db.Alerts.AsNoTracking().Where(a => a.State == AlertState.Open && a.ToldAt <= since).ToListAsync(cancel);
        // Most have been told to others already; only what is due takes a change.
        foreach (var id in unseen.Where(a => DueOf(a, charter, now).Any()).Select(a => a.Id))
        {
            db.ChangeTracker.Clear();
            await using var change = await leading.BeginAsync(db, cancel);
            // Somebody may have seen it, or it may be over, since the look began.
            if (await db.Alerts.FindAsync([id], cancel) is not { State: AlertState.Open } alert)
                continue;
            foreach (var to in DueOf(alert, charter, now).ToList())
            {
                await desk.EscalateAsync(db, alert, to, cancel);
                alert.Escalated += to.Route + "\n";
            }
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
        }
    }

    /// <summary>What is to be told to others now; nothing while a maintenance window keeps it back.</summary>
    private static IEnumerable<Escalation> DueOf(Alert alert, Charter charter, Instant now)
    {
        var matter = TellingDesk.MatterOf(alert);
        if (Routing.Maintenance(charter, matter, now) is not null)
            return [];
        var told = alert.Escalated.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        return Routing.Escalations(charter, matter, alert.ToldAt ?? alert.OpenedAt).Where(e => e.At <= now && !told.Contains(e.Route));
    }
}
