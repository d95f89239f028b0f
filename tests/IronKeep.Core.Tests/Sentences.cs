using CsCheck;
using NodaTime;
using NodaTime.Calendars;

namespace IronKeep.Core.Tests;

/// <summary>
/// A random sentence with what it means, told apart from how the product reads it: which dates it takes, its times, or its grid.
/// </summary>
internal sealed record SentenceCase(
    string Sentence,
    Func<LocalDate, bool> Takes,
    IReadOnlyList<LocalTime> Times,
    int Grid,
    LocalTime? From,
    LocalTime? To
)
{
    public override string ToString() => Sentence;
}

internal static class Sentences
{
    private static readonly string[] DayNames = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    private static readonly string[] MonthNames = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
    private static readonly string[] OrdinalNames = ["last", "1st", "second", "3rd", "fourth", "5th"];

    private sealed record DayCase(string Words, Func<LocalDate, bool> Takes, string Tail = "");

    private static readonly Gen<LocalTime> GenTime = CsCheck.Gen.Int[0, 1439].Select(LocalTime.FromMinutesSinceMidnight);
    private static readonly Gen<LocalDate> GenDate = CsCheck.Gen.Int[0, 20_000].Select(d => new LocalDate(1996, 1, 1).PlusDays(d));

    private static readonly Gen<DayCase> GenWeekdays = CsCheck.Gen.OneOf(
        CsCheck.Gen.Int[1, 127].Select(mask => new DayCase(Names(mask, DayNames), d => (mask >> ((int)d.DayOfWeek - 1) & 1) == 1)),
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[0, 6], CsCheck.Gen.Int[0, 6])
            .Select(
                (a, b) =>
                    new DayCase($"{DayNames[a]}-{DayNames[b]}", d =>
                        a <= b
                            ? (int)d.DayOfWeek - 1 >= a && (int)d.DayOfWeek - 1 <= b
                            : (int)d.DayOfWeek - 1 >= a || (int)d.DayOfWeek - 1 <= b
                    )
            ),
        CsCheck.Gen.Const(new DayCase("Daily", _ => true)),
        CsCheck.Gen.Const(new DayCase("weekends", d => d.DayOfWeek is IsoDayOfWeek.Saturday or IsoDayOfWeek.Sunday))
    );

    private static readonly Gen<DayCase> GenMonths = CsCheck.Gen.OneOf(
        CsCheck.Gen.Const(new DayCase("month", _ => true)),
        CsCheck.Gen.Int[1, 4095].Select(mask => new DayCase(Names(mask, MonthNames), d => (mask >> (d.Month - 1) & 1) == 1))
    );

    private static readonly Gen<DayCase> GenDays = CsCheck.Gen.OneOf(
        GenWeekdays,
        GenWeekdays,
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[1, 40], GenDate)
            .Select(
                (n, from) =>
                    new DayCase($"every {n} days", d => d >= from && Period.DaysBetween(from, d) % n == 0, $" from {from:uuuu-MM-dd}")
            ),
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[1, 6], GenWeekdays, GenDate)
            .Select(
                (n, w, from) =>
                    new DayCase(
                        $"every {n} weeks on {w.Words}",
                        d => d >= from && w.Takes(d) && Period.DaysBetween(Monday(from), Monday(d)) / 7 % n == 0,
                        $" from {from:uuuu-MM-dd}"
                    )
            ),
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[0, 5], CsCheck.Gen.Int[0, 6], GenMonths)
            .Select(
                (n, w, m) =>
                    new DayCase($"{OrdinalNames[n]} {DayNames[w]} of {m.Words}", d =>
                        m.Takes(d)
                        && AllOf(d).Where(o => (int)o.DayOfWeek == w + 1).ToList() is var all
                        && (n == 0 ? all[^1] == d : all.Count >= n && all[n - 1] == d)
                    )
            ),
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[1, 28].Array[1, 3], CsCheck.Gen.Int[29, 31], CsCheck.Gen.Bool, GenMonths)
            .Select(
                (days, late, orLast, m) =>
                    orLast
                        ? new DayCase($"day {string.Join(",", days)},{late} or last of {m.Words}", d =>
                            m.Takes(d) && (days.Contains(d.Day) || d.Day == late || (AllOf(d)[^1] == d && d.Day < late))
                        )
                        : new DayCase($"day {string.Join(",", days)} of {m.Words}", d => m.Takes(d) && days.Contains(d.Day))
            ),
        CsCheck
            .Gen.Select(CsCheck.Gen.Bool, GenMonths)
            .Select(
                (first, m) =>
                    new DayCase($"{(first ? "first" : "last")} working day of {m.Words}", d =>
                        m.Takes(d)
                        && AllOf(d).Where(o => o.DayOfWeek < IsoDayOfWeek.Saturday).ToList() is var work
                        && d == (first ? work[0] : work[^1])
                    )
            ),
        GenMonths.Select(m => new DayCase($"last day of {m.Words}", d => m.Takes(d) && d.PlusDays(1).Day == 1)),
        CsCheck
            .Gen.Select(CsCheck.Gen.Int[1, 12], CsCheck.Gen.Int[1, 29])
            .Select((m, n) => new DayCase($"yearly on {MonthNames[m - 1]} {n}", d => d.Month == m && d.Day == n))
    );

    private static readonly Gen<SentenceCase> GenClock = CsCheck
        .Gen.Select(GenDays, GenTime.Array[1, 4], GenDate, GenDate.Array[0, 3], CsCheck.Gen.Bool)
        .Select(
            (days, times, until, except, ends) =>
            {
                // Far enough away that something is due before.
                var last = until.PlusYears(60);
                return new SentenceCase(
                    $"{days.Words} at "
                        + $"{string.Join(" , ", times.Select(Hour))}{days.Tail}{(ends ? $" until {last:uuuu-MM-dd}" : "")}"
                        + $"{(except.Length == 0 ? "" : " except " + string.Join(",", except.Select(e => $"{e:uuuu-MM-dd}")))}",
                    d => days.Takes(d) && !except.Contains(d) && (!ends || d <= last),
                    times,
                    0,
                    null,
                    null
                );
            }
        );

    private static readonly Gen<SentenceCase> GenGrid = CsCheck
        .Gen.Select(CsCheck.Gen.Int[1, 1440], GenWeekdays, GenTime, GenTime, CsCheck.Gen.Bool)
        .Select(
            (step, days, from, to, window) =>
            {
                // A window that no step falls into is refused, which is tested elsewhere.
                var grid = Enumerable.Range(0, 1440).Where(m => m % step == 0).Select(LocalTime.FromMinutesSinceMidnight);
                var open = window && grid.Any(t => from <= to ? t >= from && t <= to : t >= from || t <= to);
                return new SentenceCase(
                    $"EVERY {step} minutes{(open ? $" between {Hour(from)} and {Hour(to)}" : "")} on {days.Words}",
                    days.Takes,
                    [],
                    step,
                    open ? from : null,
                    open ? to : null
                );
            }
        );

    public static Gen<SentenceCase> Gen { get; } = CsCheck.Gen.OneOf(GenClock, GenClock, GenGrid);

    private static string Hour(LocalTime t) => $"{t.Hour:00}:{t.Minute:00}";

    private static string Names(int mask, string[] names) => string.Join(", ", names.Where((_, i) => (mask >> i & 1) == 1));

    private static LocalDate Monday(LocalDate d) =>
        LocalDate.FromWeekYearWeekAndDay(WeekYearRules.Iso.GetWeekYear(d), WeekYearRules.Iso.GetWeekOfWeekYear(d), IsoDayOfWeek.Monday);

    private static List<LocalDate> AllOf(LocalDate d) =>
        [.. Enumerable.Range(1, CalendarSystem.Iso.GetDaysInMonth(d.Year, d.Month)).Select(n => new LocalDate(d.Year, d.Month, n))];
}

/// <summary>
/// The referee: looks at every minute of the span, and for clock times at every local minute of every date, by the words of the
/// rules alone.
/// </summary>
internal static class EveryMinute
{
    public static List<Instant> Due(SentenceCase s, DateTimeZone zone, Instant after, Instant upTo) =>
        s.Grid == 0 ? Clock(s, zone, after, upTo) : Interval(s, zone, after, upTo);

    private static List<Instant> Clock(SentenceCase s, DateTimeZone zone, Instant after, Instant upTo)
    {
        var due = new SortedSet<Instant>();
        for (var date = after.InUtc().Date.PlusDays(-3); date <= upTo.InUtc().Date.PlusDays(3); date = date.PlusDays(1))
        {
            if (!s.Takes(date))
                continue;
            foreach (var time in s.Times)
            {
                // The first instant at which the wall clock shows this time or a later one, with no earlier instant behind it.
                var instant = (date + time)
                    .InZone(zone, mapping => mapping.Count switch
                        {
                            0 => mapping.LateInterval.Start.InZone(zone),
                            _ => mapping.First(),
                        })
                    .ToInstant();
                if (instant > after && instant <= upTo)
                    due.Add(instant);
            }
        }
        return [.. due];
    }

    private static List<Instant> Interval(SentenceCase s, DateTimeZone zone, Instant after, Instant upTo)
    {
        var due = new List<Instant>();
        var minute = Instant.FromUnixTimeSeconds(after.ToUnixTimeSeconds() / 60 * 60);
        for (minute += Duration.FromMinutes(1); minute <= upTo; minute += Duration.FromMinutes(1))
        {
            var local = minute.InZone(zone);
            var time = local.TimeOfDay;
            if (time.Second != 0 || (time.Hour * 60 + time.Minute) % s.Grid != 0)
                continue;
            var today = s.Takes(local.Date);
            var yesterday = s.Takes(local.Date.PlusDays(-1));
            var inside =
                s.From is not { } from || s.To is not { } to ? today
                : from <= to ? today && from <= time && time <= to
                : (today && time >= from) || (yesterday && time <= to);
            if (inside)
                due.Add(minute);
        }
        return due;
    }
}
