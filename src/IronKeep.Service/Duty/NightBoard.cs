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
    /// <summary>The cells of each job on each machine, from a first night on; null where nothing was planned.</summary>
    private sealed class Cells(LocalDate first) : Dictionary<(string Job, string Machine), NightCell?[]>
    {
        /// <summary>Where a night stands among the cells.</summary>
        public int IndexOf(LocalDate night) => Period.DaysBetween(first, night);
    }

    /// <summary>What is known of a night of a job while its planned runs are gone through, oldest first.</summary>
    private sealed class Tally
    {
        private int weight = int.MaxValue;
        private long? run;

        public int Count { get; private set; }

        public void Add(Outcome? outcome, long? ran)
        {
            Count++;
            var its = outcome is { } one ? Array.IndexOf(ByWeight, one) : int.MaxValue;
            // Without any outcome the last run stands for the night; else the first of the worst.
            if (its < weight || weight == int.MaxValue)
                (weight, run) = (its, ran);
        }

        public NightCell CellOf(string date) => new(date, weight == int.MaxValue ? null : ByWeight[weight], Count, run);
    }

    private sealed record Remembered(string Key, long UpTo, Cells Cells);

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
        var over = one is null ? await OverAsync(db, oldest, open, zone, cancel) : new Cells(oldest);
        var moving = await ReadAsync(db, one, open, newest.PlusDays(1), zone, now, cancel);
        var empty = Enumerable.Range(0, nights).Select(i => new NightCell(Text(oldest.PlusDays(i)), null, 0, null)).ToArray();
        var (ended, before, since) = (Period.DaysBetween(oldest, open), over.IndexOf(oldest), moving.IndexOf(oldest));
        return jobs.ToDictionary(
            job => job,
            job =>
            {
                var (then, late) = (over.GetValueOrDefault(job), moving.GetValueOrDefault(job));
                var row = new NightCell[nights];
                for (var i = 0; i < nights; i++)
                    row[i] = (i < ended ? then?[before + i] : late?[since + i]) ?? empty[i];
                return (IReadOnlyList<NightCell>)row;
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
        var nights = Period.DaysBetween(first, end);
        var begins = Enumerable.Range(0, nights).Select(i => Begin(first.PlusDays(i), zone)).ToArray();
        var names = Enumerable.Range(0, nights).Select(i => Text(first.PlusDays(i))).ToArray();
        var tallies = new Dictionary<(string, string), Tally?[]>();
        foreach (var p in planned.Where(p => p.Until is null))
            Add(p.Job, p.Machine, NightAt(p.Due), p.Outcome, p.RunId);
        var last = NightAt(to);
        // What stands for a long absence is in each night that it reaches into.
        foreach (var p in planned.Where(p => p.Until is not null))
            for (var i = NightAt(p.Due); i <= Math.Min(NightAt(p.Until!.Value), last); i++)
                Add(p.Job, p.Machine, i, p.Outcome, p.RunId);
        var cells = new Cells(first);
        foreach (var (of, row) in tallies)
        {
            var made = cells[of] = new NightCell?[nights];
            for (var i = 0; i < nights; i++)
                made[i] = row[i]?.CellOf(names[i]);
        }
        return cells;

        int NightAt(Instant at)
        {
            var found = Array.BinarySearch(begins, at);
            return Math.Clamp(found >= 0 ? found : ~found - 1, 0, nights - 1);
        }

        void Add(string of, string machine, int night, Outcome? outcome, long? run)
        {
            if (!tallies.TryGetValue((of, machine), out var row))
                tallies[(of, machine)] = row = new Tally?[nights];
            (row[night] ??= new Tally()).Add(outcome, run);
        }
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
