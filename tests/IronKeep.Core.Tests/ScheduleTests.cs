using CsCheck;
using IronKeep.Core.Schedules;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Tests;

public sealed class ScheduleTests
{
    private static readonly string[] Zones =
    [
        "Europe/Berlin", "America/New_York", "America/Santiago", "Australia/Lord_Howe", "Asia/Kolkata", "Pacific/Apia", "Africa/Casablanca", "America/Havana", "UTC",
    ];

    [Theory]
    // The spring gap: due at the first instant after it. The autumn repeat: once, at the first.
    [InlineData("daily at 02:15", "Europe/Berlin", "2027-03-27T12:00:00Z", "2027-03-28T01:00:00Z")]
    [InlineData("daily at 02:15", "Europe/Berlin", "2027-10-30T12:00:00Z", "2027-10-31T00:15:00Z", "2027-11-01T01:15:00Z")]
    // Two times that fall on the same instant are one due instant.
    [InlineData("daily at 02:10, 02:40, 03:00", "Europe/Berlin", "2027-03-27T12:00:00Z", "2027-03-28T01:00:00Z", "2027-03-29T00:10:00Z")]
    // Lord Howe's gap is half an hour; Apia skipped 2011-12-30 as a whole, so its times are the next day's first instant.
    [InlineData("daily at 02:10", "Australia/Lord_Howe", "2026-10-03T00:00:00Z", "2026-10-03T15:30:00Z", "2026-10-04T15:10:00Z")]
    [InlineData("daily at 08:00", "Pacific/Apia", "2011-12-29T18:30:00Z", "2011-12-30T10:00:00Z", "2011-12-30T18:00:00Z")]
    [InlineData("weekdays at 23:00", "UTC", "2026-11-20T23:00:00Z", "2026-11-23T23:00:00Z")]
    [InlineData("fri-mon at 6:30", "UTC", "2026-11-23T06:30:00Z", "2026-11-27T06:30:00Z", "2026-11-28T06:30:00Z", "2026-11-29T06:30:00Z")]
    // A grid time in the gap is left out, one in the repeated hour is due both times.
    [InlineData("every 30 minutes between 01:30 and 03:00", "Europe/Berlin", "2027-03-27T12:00:00Z", "2027-03-28T00:30:00Z", "2027-03-28T01:00:00Z", "2027-03-28T23:30:00Z")]
    [InlineData("every 60 minutes between 02:00 and 03:00", "Europe/Berlin", "2027-10-30T12:00:00Z", "2027-10-31T00:00:00Z", "2027-10-31T01:00:00Z", "2027-10-31T02:00:00Z")]
    [InlineData("every 7 hours", "UTC", "2026-11-23T00:00:00Z", "2026-11-23T07:00:00Z", "2026-11-23T14:00:00Z", "2026-11-23T21:00:00Z", "2026-11-24T00:00:00Z")]
    // A window past midnight belongs to the day it starts on.
    [InlineData("every 2 hours between 22:00 and 02:00 on fri", "UTC", "2026-11-23T00:00:00Z", "2026-11-27T22:00:00Z", "2026-11-28T00:00:00Z", "2026-11-28T02:00:00Z", "2026-12-04T22:00:00Z")]
    public void Is_due_as_worked_out_by_hand(string sentence, string zone, string asOf, params string[] expected)
    {
        var due = DueInstants.Between(Read(sentence), DateTimeZoneProviders.Tzdb[zone], At(asOf), At(asOf) + Duration.FromDays(400)).Take(expected.Length);
        Assert.Equal(expected, due.Select(d => d.ToString()));
    }

    [Fact]
    public void Agrees_with_a_slow_look_at_every_minute()
    {
        Gen.Select(GenSchedule, Pick.Of(Zones), Gen.Int[0, 60_000], Gen.Int[0, 40 * 24 * 60]).Sample((schedule, zoneId, day, minutes) =>
        {
            var zone = DateTimeZoneProviders.Tzdb[zoneId];
            var after = Instant.FromUtc(1998, 1, 1, 0, 0) + Duration.FromMinutes(day * 293L);
            var upTo = after + Duration.FromMinutes(minutes);
            var slow = EveryMinute.Due(schedule, zone, after, upTo);
            var fast = DueInstants.Between(schedule, zone, after, upTo).ToList();
            Assert.True(slow.SequenceEqual(fast), $"{schedule} in {zoneId} after {after}: slow {string.Join(' ', slow.Except(fast).Take(3))}, fast {string.Join(' ', fast.Except(slow).Take(3))}");
        }, iter: 1500);
    }

    [Fact]
    public void A_schedule_shown_as_a_sentence_reads_back_as_itself() =>
        GenSchedule.Sample(schedule => Equals(Read(schedule.ToSentence()), schedule));

    [Theory]
    [InlineData("", 0, "empty")]
    [InlineData("weekdays", 8, "expected 'at'")]
    [InlineData("weekdys at 23:00", 0, "did you mean 'weekdays'")]
    [InlineData("daily at", 8, "a time such as 23:00")]
    [InlineData("daily at 25:00", 9, "24-hour clock")]
    [InlineData("daily at 24:00", 9, "next day's 00:00")]
    [InlineData("daily at 9pm", 9, "is not a time")]
    [InlineData("daily at 23:00 please", 15, "not expected here")]
    [InlineData("mon-foo at 10:00", 4, "is not a weekday")]
    [InlineData("at 10:00", 0, "weekdays are missing")]
    [InlineData("every 0 minutes", 6, "never due")]
    [InlineData("every ten minutes", 6, "not a whole number")]
    [InlineData("every 30 seconds", 9, "finest interval is one minute")]
    [InlineData("every 36 hours", 6, "longer than a day")]
    [InlineData("every 99999999999 hours", 6, "not a whole number")]
    [InlineData("every 7 hours between 01:00 and 06:00", 14, "never due")]
    [InlineData("every 2 hours between 08:00", 27, "expected 'and'")]
    [InlineData("every 2 days", 8, "not a unit of an interval")]
    public void A_bad_sentence_is_refused_with_its_place_and_the_way_out(string sentence, int position, string message)
    {
        var (schedule, problem) = ScheduleSentence.Read(sentence);
        Assert.Null(schedule);
        Assert.Equal(position, problem!.Position);
        Assert.Contains(message, problem.Message);
    }

    private static readonly Gen<LocalTime> GenTime = Gen.Int[0, 1439].Select(LocalTime.FromMinutesSinceMidnight);
    private static readonly Gen<Weekdays> GenDays = Gen.Int[1, 127].Select(m => new Weekdays(m));

    private static readonly Gen<Schedule> GenSchedule = Gen.OneOf<Schedule>(
        Gen.Select(GenDays, GenTime.Array[1, 4]).Select((days, times) => (Schedule)new ClockSchedule(days, [.. times.Distinct().Order()])),
        Gen.Select(Gen.Int[1, 1440], GenDays).Select((minutes, days) => (Schedule)new IntervalSchedule(minutes, null, null, days)),
        Gen.Select(Gen.Int[1, 90], GenTime, GenTime, GenDays).Select((minutes, from, to, days) => (Schedule)new IntervalSchedule(minutes, from, to, days))
            .Where(s => ScheduleSentence.Read(s.ToSentence()).Schedule is not null));

    internal static Schedule Read(string sentence)
    {
        var (schedule, problem) = ScheduleSentence.Read(sentence);
        return schedule ?? throw new InvalidOperationException($"{sentence}: {problem!.Message}");
    }

    private static Instant At(string text) => InstantPattern.General.Parse(text).Value;
}

/// <summary>
/// The referee: looks at every minute of the span, and for clock times at every local minute of every date, by the words of the
/// rules alone.
/// </summary>
internal static class EveryMinute
{
    public static List<Instant> Due(Schedule schedule, DateTimeZone zone, Instant after, Instant upTo) =>
        schedule is ClockSchedule clock ? Clock(clock, zone, after, upTo) : Interval((IntervalSchedule)schedule, zone, after, upTo);

    private static List<Instant> Clock(ClockSchedule schedule, DateTimeZone zone, Instant after, Instant upTo)
    {
        var due = new SortedSet<Instant>();
        for (var date = after.InUtc().Date.PlusDays(-3); date <= upTo.InUtc().Date.PlusDays(3); date = date.PlusDays(1))
        {
            if (!schedule.Days.Contains(date.DayOfWeek)) continue;
            foreach (var time in schedule.Times)
            {
                // The first instant at which the wall clock shows this time or a later one, with no earlier instant behind it.
                var instant = (date + time).InZone(zone, mapping => mapping.Count switch
                {
                    0 => mapping.LateInterval.Start.InZone(zone),
                    _ => mapping.First(),
                }).ToInstant();
                if (instant > after && instant <= upTo) due.Add(instant);
            }
        }
        return [.. due];
    }

    private static List<Instant> Interval(IntervalSchedule s, DateTimeZone zone, Instant after, Instant upTo)
    {
        var due = new List<Instant>();
        var minute = Instant.FromUnixTimeSeconds(after.ToUnixTimeSeconds() / 60 * 60);
        for (minute += Duration.FromMinutes(1); minute <= upTo; minute += Duration.FromMinutes(1))
        {
            var local = minute.InZone(zone);
            var time = local.TimeOfDay;
            if (time.Second != 0 || (time.Hour * 60 + time.Minute) % s.Minutes != 0) continue;
            var today = s.Days.Contains(local.DayOfWeek);
            var yesterday = s.Days.Contains(local.Date.PlusDays(-1).DayOfWeek);
            var inside = s.From is not { } from || s.To is not { } to ? today
                : from <= to ? today && from <= time && time <= to
                : (today && time >= from) || (yesterday && time <= to);
            if (inside) due.Add(minute);
        }
        return due;
    }
}
