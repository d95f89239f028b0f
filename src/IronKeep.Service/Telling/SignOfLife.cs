using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Says through each route, and through what the charter tells, that it works, so that its silence is noticed. Source: docs/semantics.md,
/// section 6 (Watching).
/// </summary>
public sealed class SignOfLife(CharterInForce inForce, TellingDesk desk, TimeProvider clock) : ITimedWork
{
    public string What => "sign-of-life";

    /// <summary>By route; the empty name stands for what the charter tells.</summary>
    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) =>
        charter.SignOfLife is not { } when ? []
        : charter.Tells.IsEmpty ? charter.Routes.Keys.Select(r => (r, when))
        : charter.Routes.Keys.Prepend("").Select(r => (r, when));

    public async Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel)
    {
        var route = store;
        var charter = inForce.Charter;
        var by = charter.Routes.GetValueOrDefault(route);
        if (by is null && route.Length > 0)
            return;
        var open = await db.Alerts.AsNoTracking().Where(a => a.State != AlertState.Closed).ToListAsync(cancel);
        var mine = open.Where(a =>
                by is null
                    ? !charter.Routes.Values.Any(r => Routing.Takes(charter, r, TellingDesk.MatterOf(a)))
                    : Routing.Takes(charter, by, TellingDesk.MatterOf(a))
            )
            .OrderByDescending(a => a.Severity)
            .ToList();
        var name = by is null ? "what no route takes" : $"route {by.Name}";
        var to = Addressees.Of(charter, by?.Tells ?? charter.Tells, clock.Now());
        var list = string.Concat(
            mine.Take(MostNamed)
                .Select(a => $"  {Kebab.Of(a.Class).ToUpperInvariant()} {a.Subject.Words} ({Severities.Words(a.Severity)})\n")
        );
        if (mine.Count > MostNamed)
            list += $"  and {Counted.Of(mine.Count - MostNamed, "more alert")}\n";
        await desk.WriteAsync(
            db,
            to,
            new Words(
                $"sign of life of {name}, "
                    + (mine.Count == 0 ? "nothing is open" : $"{Counted.Of(mine.Count, "alert is", "alerts are")} open"),
                $"This is the sign of life of {name}. It comes at {charter.SignOfLife!.Words}; when it does not, something is wrong.\n\n"
                    + $"Told now: {string.Join("; ", to.Select(t => t.Why).Distinct())}.\n"
                    + (mine.Count == 0 ? "Nothing is open that goes this way.\n" : $"Open and told this way:\n{list}"),
                "sign-of-life",
                new SignOfLifeAnswer(name, mine.Count)
            ),
            cancel
        );
    }

    private const int MostNamed = 20;
}
