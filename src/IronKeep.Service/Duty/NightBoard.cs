using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Nights: from noon to noon in the charter's zone, named by the date on which they begin. A span has 23 or 25 hours where the
/// clock is changed. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class NightBoard
{
    /// <summary>The cells of each job on each machine, by the date of the night.</summary>
    private sealed class Cells : Dictionary<(string Job, string Machine), Dictionary<LocalDate, NightCell>>;

    private sealed record Remembered(string Key, long UpTo, Cells Cells);

    private static readonly Cells Nothing = [];
    private static readonly Dictionary<LocalDate, NightCell> NoNights = [];
    private volatile Remembered? remembered;

    /// <summary>The longest board that is shown.</summary>
    public const int MostNights = 30;
    private static readonly LocalTime Cut = LocalTime.Noon;

    // Worst first: what a cell shows when a night had several outcomes.
    private static readonly Outcome[] ByWeight =
    [
        Outcome.Failed,
        Outcome.TimedOut,
        Outcome.Missed,
        Outcome.Refused,
        Outcome.Suspect,
        Outcome.HeldBack,
        Outcome.Warned,
        Outcome.Cancelled,
        Outcome.Ok,
        Outcome.NotNeeded,
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

    /// <summary>
    /// The last nights of each job on each machine, oldest first, the one in progress last. Nights that are over are remembered until a
    /// fact says that something of them has changed, here or in another service, so that a board of a thousand jobs is quick.
    /// </summary>
    public async Task<Dictionary<(string Job, string Machine), IReadOnlyList<NightCell>>> OfAsync(
        KeepContext db,
        IReadOnlyCollection<(string Job, string Machine)> jobs,
        DateTimeZone zone,
        Instant now,
        int nights,
        CancellationToken cancel
    )
    {
        var newest = NightOf(now, zone);
        var oldest = newest.PlusDays(1 - nights);
        // Of a single job the nights are few.
        var one = jobs.Count == 1 ? jobs.First().Job : null;
        var open = one is null ? Latest(oldest, newest.PlusDays(-1)) : oldest;
        var over = one is null ? await OverAsync(db, oldest, open, zone, cancel) : Nothing;
        var moving = await ReadAsync(db, one, open, newest.PlusDays(1), zone, now, cancel);
        var empty = Enumerable
            .Range(0, nights)
            .Select(i => (Date: oldest.PlusDays(i), Cell: new NightCell(Text(oldest.PlusDays(i)), null, 0, null)))
            .ToArray();
        return jobs.ToDictionary(
            job => job,
            job =>
            {
                var (before, since) = (over.GetValueOrDefault(job, NoNights), moving.GetValueOrDefault(job, NoNights));
                return (IReadOnlyList<NightCell>)
                    Array.ConvertAll(empty, night => (night.Date < open ? before : since).GetValueOrDefault(night.Date) ?? night.Cell);
            }
        );
    }

    private async Task<Cells> OverAsync(KeepContext db, LocalDate oldest, LocalDate open, DateTimeZone zone, CancellationToken cancel)
    {
        // Asked for by more than one page: the longer board serves the shorter as well.
        var from = open.PlusDays(-MostNights);
        var key = $"{zone.Id} {open}";
        var upTo = await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
        if (remembered is { } known && known.Key == key)
        {
            var begin = Begin(open, zone);
            if (known.UpTo == upTo)
                return known.Cells;
            if (!await db.Facts.AnyAsync(f => f.Id > known.UpTo && f.Id <= upTo && f.Due < begin, cancel))
            {
                remembered = known with { UpTo = upTo };
                return known.Cells;
            }
        }
        var cells = await ReadAsync(db, null, oldest < from ? oldest : from, open, zone, Instant.MaxValue, cancel);
        remembered = new Remembered(key, upTo, cells);
        return cells;
    }

    private static async Task<Cells> ReadAsync(
        KeepContext db,
        string? job,
        LocalDate first,
        LocalDate end,
        DateTimeZone zone,
        Instant now,
        CancellationToken cancel
    )
    {
        var (from, to) = (Begin(first, zone), Instant.Min(Begin(end, zone) - Duration.Epsilon, now));
        // What stands for a long absence began before the nights that it reaches into.
        // Asked in two parts, each with an index of its own; together they would be answered by going through all there ever was.
        var all = job is null ? db.PlannedRuns.AsNoTracking() : db.PlannedRuns.AsNoTracking().Where(p => p.Job == job);
        var planned = await all.Where(p => p.Due < from && p.Until >= from)
            .Select(p => new
            {
                p.Job,
                p.Machine,
                p.Due,
                p.Outcome,
                p.RunId,
                p.Until,
            })
            .ToListAsync(cancel);
        planned.AddRange(
            await all.Where(p => p.Due >= from && p.Due <= to)
                .OrderBy(p => p.Due)
                .Select(p => new
                {
                    p.Job,
                    p.Machine,
                    p.Due,
                    p.Outcome,
                    p.RunId,
                    p.Until,
                })
                .ToListAsync(cancel)
        );
        var last = NightOf(to, zone);
        foreach (var span in planned.Where(p => p.Until is not null).ToList())
        {
            planned.Remove(span);
            for (
                var night = Latest(NightOf(span.Due, zone), first);
                night <= NightOf(span.Until!.Value, zone) && night <= last;
                night = night.PlusDays(1)
            )
                planned.Add(span with { Due = Begin(night, zone) });
        }
        var cells = new Cells();
        foreach (var of in planned.GroupBy(p => (p.Job, p.Machine)))
            cells[of.Key] = of.GroupBy(p => NightOf(p.Due, zone))
                .ToDictionary(
                    g => g.Key,
                    g =>
                    {
                        var worst = g.Where(p => p.Outcome is not null)
                            .OrderBy(p => Array.IndexOf(ByWeight, p.Outcome!.Value))
                            .FirstOrDefault();
                        return new NightCell(Text(g.Key), worst?.Outcome, g.Count(), (worst ?? g.Last()).RunId);
                    }
                );
        return cells;
    }

    /// <summary>The worst of some outcomes; null where there is none.</summary>
    public static Outcome? Worst(IEnumerable<Outcome?> outcomes)
    {
        var worst = int.MaxValue;
        foreach (var outcome in outcomes)
            if (outcome is { } one)
                worst = Math.Min(worst, Array.IndexOf(ByWeight, one));
        return worst == int.MaxValue ? null : ByWeight[worst];
    }

    private static LocalDate Latest(LocalDate a, LocalDate b) => a > b ? a : b;

    internal static string Text(LocalDate date) => date.ToString("uuuu-MM-dd", CultureInfo.InvariantCulture);

    private static Instant Begin(LocalDate date, DateTimeZone zone) => date.At(Cut).InZoneLeniently(zone).ToInstant();
}
