using System.Globalization;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Nights: from noon to noon in the charter's zone, named by the date on which they begin. A span has 23 or 25 hours where the
/// clock is changed. Source: docs/semantics.md, section 6.
/// </summary>
public static class NightBoard
{
    private static readonly LocalTime Cut = LocalTime.Noon;

    // Worst first: what a cell shows when a night had several outcomes.
    private static readonly Outcome[] ByWeight =
    [
        Outcome.Failed, Outcome.TimedOut, Outcome.Missed, Outcome.Refused, Outcome.Suspect, Outcome.HeldBack, Outcome.Warned, Outcome.Cancelled, Outcome.Ok, Outcome.NotNeeded,
    ];

    /// <summary>The last night: the one that began at noon of the day before <paramref name="now"/>'s local date.</summary>
    public static (Instant From, Instant To) LastNight(DateTimeZone zone, Instant now)
    {
        var today = now.InZone(zone).Date;
        return (Begin(today.PlusDays(-1), zone), Begin(today, zone));
    }

    /// <summary>The local date on which the night of an instant began.</summary>
    public static LocalDate NightOf(Instant instant, DateTimeZone zone)
    {
        var local = instant.InZone(zone);
        return local.TimeOfDay >= Cut ? local.Date : local.Date.PlusDays(-1);
    }

    /// <summary>The last nights of each job, oldest first, the one in progress last.</summary>
    public static async Task<Dictionary<string, IReadOnlyList<NightCell>>> OfAsync(KeepContext db, IReadOnlyCollection<string> jobs, DateTimeZone zone, Instant now, int nights, CancellationToken cancel)
    {
        var newest = NightOf(now, zone);
        var oldest = newest.PlusDays(1 - nights);
        var from = Begin(oldest, zone);
        var planned = await db.PlannedRuns.AsNoTracking().Where(p => p.Due >= from && p.Due <= now && jobs.Contains(p.Job)).OrderBy(p => p.Due)
            .Select(p => new { p.Job, p.Due, p.Outcome, p.RunId }).ToListAsync(cancel);
        var byCell = planned.ToLookup(p => (p.Job, Night: NightOf(p.Due, zone)));
        return jobs.ToDictionary(job => job, job => (IReadOnlyList<NightCell>)Enumerable.Range(0, nights).Select(i =>
        {
            var date = oldest.PlusDays(i);
            var cell = byCell[(job, date)].ToList();
            var ended = cell.Where(p => p.Outcome is not null).ToList();
            var worst = ended.OrderBy(p => Array.IndexOf(ByWeight, p.Outcome!.Value)).FirstOrDefault();
            var outcome = worst is not null ? Kebab.From(worst.Outcome!.Value.ToString()) : cell.Count > 0 ? "running" : null;
            return new NightCell(date.ToString("uuuu-MM-dd", CultureInfo.InvariantCulture), outcome, cell.Count, (worst ?? cell.LastOrDefault())?.RunId);
        }).ToList());
    }

    private static Instant Begin(LocalDate date, DateTimeZone zone) => date.At(Cut).InZoneLeniently(zone).ToInstant();
}
