using Cronos;
using CsCheck;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using IronKeep.Core.Schedules;
using NodaTime;
using Duration = NodaTime.Duration;

namespace IronKeep.Core.Tests;

/// <summary>Crontab fields and recurrence rules against libraries that compute the same, over random zones and years.</summary>
public sealed class RefereeTests
{
    private static readonly string[] Zones =
    [
        "Europe/Berlin",
        "America/New_York",
        "America/Santiago",
        "Australia/Lord_Howe",
        "Asia/Kolkata",
        "Pacific/Apia",
        "UTC",
    ];

    private static Gen<string> Field(int least, int most) =>
        Gen.OneOf(
            Gen.Const("*"),
            Gen.Const("*"),
            Gen.Int[least, most].Select(n => $"{n}"),
            Gen.Int[least, most].Array[2, 4].Select(a => string.Join(",", a)),
            Gen.Select(Gen.Int[least, most], Gen.Int[least, most]).Select((a, b) => $"{Math.Min(a, b)}-{Math.Max(a, b)}"),
            Gen.Int[1, Math.Max(2, most / 2)].Select(n => $"*/{n}"),
            Gen.Select(Gen.Int[least, most], Gen.Int[least, most], Gen.Int[1, 5])
                .Select((a, b, n) => $"{Math.Min(a, b)}-{Math.Max(a, b)}/{n}")
        );

    [Fact]
    public void Crontab_fields_agree_with_an_independent_library()
    {
        Gen.Select(
                Gen.Select(Field(0, 59), Field(0, 23), Field(1, 28)),
                Gen.Select(Field(1, 12), Field(0, 7)),
                Pick.Of(Zones),
                Gen.Int[0, 60_000]
            )
            .Sample(
                (time, date, zoneId, at) =>
                {
                    var (minute, hour, day) = time;
                    var (month, weekday) = date;
                    var from = Instant.FromUtc(1998, 1, 1, 0, 0) + Duration.FromMinutes(at * 293L);
                    var zone = DateTimeZoneProviders.Tzdb[zoneId];
                    // Apia left out a whole day in 2011; the library then gives instants of the day before it.
                    if (LeavesOutADay(zone, from, from + Duration.FromDays(120)))
                        return;
                    var ours = DueInstants
                        .Between(ScheduleTests.Read($"{minute} {hour} {day} {month} {weekday}"), zone, from, from + Duration.FromDays(120))
                        .Take(400)
                        .ToList();
                    // The library takes both days together; where both restrict, POSIX takes either.
                    var either = !day.StartsWith('*') && !weekday.StartsWith('*');
                    var theirs = either
                        ? Cron($"{minute} {hour} {day} {month} *", zoneId, from)
                            .Union(Cron($"{minute} {hour} * {month} {weekday}", zoneId, from))
                            .Order()
                            .Take(400)
                            .ToList()
                        : Cron($"{minute} {hour} {day} {month} {weekday}", zoneId, from);
                    // Where the clock leaves a grid time out, the library moves it to the end of the gap; a grid has no time there.
                    if (Grids.Any(g => minute.Contains(g) || hour.Contains(g)))
                        (ours, theirs) = (AwayFromChanges(ours, zone), AwayFromChanges(theirs, zone));
                    Assert.True(
                        theirs.SequenceEqual(ours),
                        $"{minute} {hour} {day} {month} {weekday} in {zoneId} after {from}: theirs "
                            + $"{string.Join(' ', theirs.Except(ours).Take(3))}, ours {string.Join(' ', ours.Except(theirs).Take(3))}"
                    );
                },
                iter: 3000
            );
    }

    private static readonly char[] Grids = ['*', '-', '/'];

    private static List<Instant> AwayFromChanges(List<Instant> instants, DateTimeZone zone) =>
        instants.Where(i => !zone.GetZoneInterval(i).HasStart || zone.GetZoneInterval(i).Start != i).Take(150).ToList();

    private static bool LeavesOutADay(DateTimeZone zone, Instant from, Instant to)
    {
        var intervals = zone.GetZoneIntervals(from, to).ToList();
        return intervals.Zip(intervals.Skip(1)).Any(pair => pair.Second.WallOffset.Seconds - pair.First.WallOffset.Seconds >= 12 * 3600);
    }

    private static List<Instant> Cron(string text, string zone, Instant from) =>
        CronExpression
            .Parse(text)
            .GetOccurrences(
                from.ToDateTimeUtc(),
                (from + Duration.FromDays(120)).ToDateTimeUtc(),
                TimeZoneInfo.FindSystemTimeZoneById(zone),
                fromInclusive: false,
                toInclusive: true
            )
            .Take(400)
            .Select(d => Instant.FromDateTimeUtc(d))
            .ToList();

    private static readonly string[] Weekdays = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

    private static Gen<string> Some(string name, Gen<string> value, int most = 3) =>
        Gen.Select(Gen.Int[0, 2], value.Array[1, most])
            .Select((n, values) => n == 0 ? $";{name}={string.Join(",", values.Distinct())}" : "");

    private static Gen<string> Number(int least, int most, bool negative = false) =>
        Gen.Select(Gen.Int[least, most], Gen.Bool).Select((n, minus) => $"{(negative && minus ? -n : n)}");

    private static readonly Gen<string> Weekday = Pick.Of(Weekdays);

    // A year's BYMONTHDAY without BYMONTH takes every month here and the start's month there; the RFC leaves it open.
    // BYSETPOS counts among what the other parts give.
    private static Gen<string> Positions(Gen<string> rule) =>
        Gen.Select(rule, Some("BYSETPOS", Number(1, 3, true), 2)).Select((r, p) => r.Contains("BY") ? r + p : r);

    private static readonly Gen<string> Rule = Gen.OneOf(
        Positions(
            Gen.Select(Some("BYMONTH", Number(1, 12)), Some("BYMONTHDAY", Number(1, 31, true)), Some("BYDAY", Weekday))
                .Select((a, b, c) => "FREQ=DAILY" + a + b + c)
        ),
        Positions(
            Gen.Select(Some("BYMONTH", Number(1, 12)), Some("BYDAY", Weekday), Some("WKST", Weekday, 1))
                .Select((a, b, c) => "FREQ=WEEKLY" + a + b + c)
        ),
        Positions(
            Gen.Select(
                    Some("BYMONTH", Number(1, 12)),
                    Some("BYMONTHDAY", Number(1, 31, true)),
                    Some("BYDAY", Gen.OneOf(Weekday, Gen.Select(Number(1, 5, true), Weekday).Select((n, d) => n + d)))
                )
                .Select((a, b, c) => "FREQ=MONTHLY" + a + b + c)
        ),
        Positions(
            Gen.Select(
                    Some("BYMONTH", Number(1, 12)),
                    Some("BYMONTHDAY", Number(1, 31, true)),
                    Some("BYDAY", Gen.OneOf(Weekday, Gen.Select(Number(1, 5, true), Weekday).Select((n, d) => n + d)))
                )
                .Select((a, b, c) => "FREQ=YEARLY" + (b.Length > 0 && a.Length == 0 ? ";BYMONTH=3,8" : a) + b + c)
        ),
        Positions(
            Gen.Select(Number(1, 366, true).Array[1, 3], Some("BYDAY", Weekday))
                .Select((d, c) => $"FREQ=YEARLY;BYYEARDAY={string.Join(",", d.Distinct())}" + c)
        ),
        Gen.Select(Number(1, 52, true).Array[1, 3], Weekday.Array[1, 2], Some("WKST", Weekday, 1))
            .Select((w, d, c) => $"FREQ=YEARLY;BYWEEKNO={string.Join(",", w.Distinct())};BYDAY={string.Join(",", d.Distinct())}" + c),
        Gen.Select(Some("BYHOUR", Number(0, 23)), Some("BYMINUTE", Number(0, 59)), Some("BYDAY", Weekday))
            .Select((a, b, c) => "FREQ=HOURLY" + a + b + c),
        Gen.Select(Some("BYHOUR", Number(0, 23)), Some("BYMINUTE", Number(0, 59)), Some("BYMONTH", Number(1, 12)))
            .Select((a, b, c) => "FREQ=MINUTELY" + a + b + c)
    );

    [Fact]
    public void Recurrence_rules_agree_with_an_independent_library()
    {
        Gen.Select(Rule, Gen.Int[1, 5], Some("COUNT", Number(1, 40), 1), Pick.Of(Zones), Gen.Int[0, 10_000], Gen.Int[0, 1439])
            .Sample(
                (rule, interval, count, zoneId, day, minute) =>
                {
                    // Week -44 is week 10 in a year of 53 weeks; the library then counts it twice.
                    if (rule.Contains("BYWEEKNO", StringComparison.Ordinal) && rule.Contains('-'))
                        count = "";
                    var text = rule + (interval > 1 ? $";INTERVAL={interval}" : "") + count;
                    var start = new LocalDate(1998, 1, 1).PlusDays(day) + LocalTime.FromMinutesSinceMidnight(minute);
                    var (schedule, problem) = ScheduleText.Read($"DTSTART:{start:uuuuMMdd'T'HHmmss} RRULE:{text}");
                    if (problem?.Message.StartsWith("this is never due", StringComparison.Ordinal) == true)
                        return;
                    Assert.True(schedule is not null, $"{text}: {problem?.Message}");
                    var sub =
                        text.StartsWith("FREQ=HOURLY", StringComparison.Ordinal)
                        || text.StartsWith("FREQ=MINUTELY", StringComparison.Ordinal);
                    // Rules by the hour and minute are compared away from clock changes, about which the two differ on purpose.
                    var zone = DateTimeZoneProviders.Tzdb[sub ? "Asia/Kolkata" : zoneId];
                    var from = start.InZoneLeniently(zone).ToInstant();
                    var upTo = from + Duration.FromDays(sub ? 20 : 900);
                    var ours = DueInstants.Between(schedule!, zone, from - Duration.FromSeconds(1), upTo).Take(60).ToList();
                    var calendarEvent = new CalendarEvent
                    {
                        Start = new CalDateTime(start.Year, start.Month, start.Day, start.Hour, start.Minute, 0, zone.Id),
                    };
                    // Its search goes to the end of the calendar unless told an end, and leaves out the year that the end lies in.
                    calendarEvent.RecurrenceRule = new RecurrenceRule(
                        count.Length > 0 ? text : $"{text};UNTIL={(upTo + Duration.FromDays(3700)).ToDateTimeUtc():yyyyMMdd'T'HHmmss'Z'}"
                    );
                    var theirs = Until(calendarEvent, upTo).Take(60).ToList();
                    Assert.True(
                        theirs.SequenceEqual(ours),
                        $"{text} from {start} in {zone.Id}: theirs {string.Join(' ', theirs.Except(ours).Take(3))}, ours "
                            + $"{string.Join(' ', ours.Except(theirs).Take(3))}"
                    );
                },
                iter: 400
            );
    }

    private static List<Instant> Until(CalendarEvent calendarEvent, Instant upTo)
    {
        var found = new List<Instant>();
        try
        {
            foreach (var occurrence in calendarEvent.GetOccurrences())
            {
                // Within a week its days come in the order of the rule's text.
                if (At(occurrence) > upTo + Duration.FromDays(8))
                    break;
                found.Add(At(occurrence));
            }
        }
        catch (Ical.Net.Evaluation.EvaluationOutOfRangeException)
        {
            // It looked to the end of the calendar and found no more.
        }
        return [.. found.Where(i => i <= upTo).Distinct().Order()];
    }

    private static Instant At(Occurrence occurrence) => Instant.FromDateTimeUtc(occurrence.Period.StartTime.AsUtc);
}
