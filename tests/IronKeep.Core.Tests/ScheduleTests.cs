using CsCheck;
using IronKeep.Core.Schedules;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Tests;

public sealed class ScheduleTests
{
    private static readonly string[] Zones =
    [
        "Europe/Berlin",
        "America/New_York",
        "America/Santiago",
        "Australia/Lord_Howe",
        "Asia/Kolkata",
        "Pacific/Apia",
        "Africa/Casablanca",
        "America/Havana",
        "UTC",
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
    [InlineData(
        "every 30 minutes between 01:30 and 03:00",
        "Europe/Berlin",
        "2027-03-27T12:00:00Z",
        "2027-03-28T00:30:00Z",
        "2027-03-28T01:00:00Z",
        "2027-03-28T23:30:00Z"
    )]
    [InlineData(
        "every 60 minutes between 02:00 and 03:00",
        "Europe/Berlin",
        "2027-10-30T12:00:00Z",
        "2027-10-31T00:00:00Z",
        "2027-10-31T01:00:00Z",
        "2027-10-31T02:00:00Z"
    )]
    [InlineData(
        "every 7 hours",
        "UTC",
        "2026-11-23T00:00:00Z",
        "2026-11-23T07:00:00Z",
        "2026-11-23T14:00:00Z",
        "2026-11-23T21:00:00Z",
        "2026-11-24T00:00:00Z"
    )]
    // A window past midnight belongs to the day it starts on.
    [InlineData(
        "every 2 hours between 22:00 and 02:00 on fri",
        "UTC",
        "2026-11-23T00:00:00Z",
        "2026-11-27T22:00:00Z",
        "2026-11-28T00:00:00Z",
        "2026-11-28T02:00:00Z",
        "2026-12-04T22:00:00Z"
    )]
    public void Is_due_as_worked_out_by_hand(string sentence, string zone, string asOf, params string[] expected)
    {
        var due = DueInstants
            .Between(Read(sentence), DateTimeZoneProviders.Tzdb[zone], At(asOf), At(asOf) + Duration.FromDays(400))
            .Take(expected.Length);
        Assert.Equal(expected, due.Select(d => d.ToString()));
    }

    [Theory]
    [InlineData("every 3 days at 06:00 from 2026-11-20", "UTC", "2026-11-01T00:00:00Z", "2026-11-20T06:00:00Z", "2026-11-23T06:00:00Z")]
    // ISO weeks, counted from the week of the anchor; nothing resets at the year's end, which 2026 has 53 weeks before.
    [InlineData(
        "every 2 weeks on mon,sat at 12:00 from 2026-12-17",
        "UTC",
        "2026-12-01T00:00:00Z",
        "2026-12-19T12:00:00Z",
        "2026-12-28T12:00:00Z",
        "2027-01-02T12:00:00Z",
        "2027-01-11T12:00:00Z"
    )]
    [InlineData(
        "5th sun of month at 01:00",
        "UTC",
        "2026-11-23T00:00:00Z",
        "2026-11-29T01:00:00Z",
        "2027-01-31T01:00:00Z",
        "2027-05-30T01:00:00Z"
    )]
    [InlineData(
        "last fri of nov-feb at 20:00",
        "UTC",
        "2026-11-23T00:00:00Z",
        "2026-11-27T20:00:00Z",
        "2026-12-25T20:00:00Z",
        "2027-01-29T20:00:00Z",
        "2027-02-26T20:00:00Z",
        "2027-11-26T20:00:00Z"
    )]
    [InlineData("day 31 of month at 00:00", "UTC", "2027-01-31T00:00:00Z", "2027-03-31T00:00:00Z", "2027-05-31T00:00:00Z")]
    [InlineData(
        "day 15,31 or last of month at 00:00",
        "UTC",
        "2027-01-31T00:00:00Z",
        "2027-02-15T00:00:00Z",
        "2027-02-28T00:00:00Z",
        "2027-03-15T00:00:00Z",
        "2027-03-31T00:00:00Z"
    )]
    [InlineData("yearly on feb 29 at 12:00", "UTC", "2027-01-01T00:00:00Z", "2028-02-29T12:00:00Z", "2032-02-29T12:00:00Z")]
    [InlineData("first working day of jan,aug at 09:00", "UTC", "2026-12-01T00:00:00Z", "2027-01-01T09:00:00Z", "2027-08-02T09:00:00Z")]
    [InlineData("last day of feb at 23:59", "UTC", "2027-02-01T00:00:00Z", "2027-02-28T23:59:00Z", "2028-02-29T23:59:00Z")]
    [InlineData(
        "daily at 02:00 from 2026-11-25 until 2026-11-28 except 2026-11-26,2026-11-27",
        "UTC",
        "2026-11-01T00:00:00Z",
        "2026-11-25T02:00:00Z",
        "2026-11-28T02:00:00Z"
    )]
    [InlineData(
        "every 3 hours between 22:00 and 04:00 until 2026-11-24",
        "UTC",
        "2026-11-24T12:00:00Z",
        "2026-11-25T00:00:00Z",
        "2026-11-25T03:00:00Z"
    )]
    [InlineData("5th mon of feb at 03:00", "UTC", "2026-11-23T00:00:00Z", "2044-02-29T03:00:00Z", "2072-02-29T03:00:00Z")]
    // Both days restricted: either is enough. A field that begins with a star does not restrict.
    [InlineData(
        "0 4 13 * fri",
        "UTC",
        "2026-11-23T00:00:00Z",
        "2026-11-27T04:00:00Z",
        "2026-12-04T04:00:00Z",
        "2026-12-11T04:00:00Z",
        "2026-12-13T04:00:00Z"
    )]
    [InlineData("0 4 */2 * 5", "UTC", "2026-11-23T00:00:00Z", "2026-11-27T04:00:00Z", "2026-12-11T04:00:00Z")]
    [InlineData("@weekly", "UTC", "2026-11-23T00:00:00Z", "2026-11-29T00:00:00Z", "2026-12-06T00:00:00Z")]
    // RFC 5545: what the clock leaves out is read by the offset before the gap.
    [InlineData(
        "DTSTART:20270327T021500 RRULE:FREQ=DAILY;COUNT=3",
        "Europe/Berlin",
        "2027-03-01T00:00:00Z",
        "2027-03-27T01:15:00Z",
        "2027-03-28T01:15:00Z",
        "2027-03-29T00:15:00Z"
    )]
    [InlineData(
        "RRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1 DTSTART:20270101T180000",
        "UTC",
        "2027-01-01T00:00:00Z",
        "2027-01-29T18:00:00Z",
        "2027-02-26T18:00:00Z",
        "2027-03-31T18:00:00Z"
    )]
    public void Every_part_of_the_sentence_and_the_other_forms_are_due_as_worked_out_by_hand(
        string text,
        string zone,
        string asOf,
        params string[] expected
    )
    {
        var due = DueInstants
            .Between(Read(text), DateTimeZoneProviders.Tzdb[zone], At(asOf), At(asOf) + Duration.FromDays(18_000))
            .Take(expected.Length);
        Assert.Equal(expected, due.Select(d => d.ToString()));
    }

    [Fact]
    public void Agrees_with_a_slow_look_at_every_minute()
    {
        Gen.Select(Sentences.Gen, Pick.Of(Zones), Gen.Int[0, 60_000], Gen.Int[0, 40 * 24 * 60])
            .Sample(
                (case_, zoneId, day, minutes) =>
                {
                    var zone = DateTimeZoneProviders.Tzdb[zoneId];
                    var after = Instant.FromUtc(1998, 1, 1, 0, 0) + Duration.FromMinutes(day * 293L);
                    var upTo = after + Duration.FromMinutes(minutes);
                    var slow = EveryMinute.Due(case_, zone, after, upTo);
                    var fast = DueInstants.Between(Read(case_.Sentence), zone, after, upTo).ToList();
                    Assert.True(
                        slow.SequenceEqual(fast),
                        $"{case_.Sentence} in {zoneId} after {after}: slow {string.Join(' ', slow.Except(fast).Take(3))}, fast "
                            + $"{string.Join(' ', fast.Except(slow).Take(3))}"
                    );
                },
                iter: 3000
            );
    }

    [Fact]
    public void A_schedule_shown_as_a_sentence_reads_back_as_itself() =>
        Sentences.Gen.Sample(case_ => Equals(Read(Read(case_.Sentence).ToSentence()), Read(case_.Sentence)));

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
    [InlineData("every 2 fortnights", 8, "not a unit of an interval")]
    [InlineData("every 2 months at 09:00", 8, "day 1 of month")]
    [InlineData("every 2 days", 12, "expected 'at'")]
    [InlineData("every 2 days at 03:00", 0, "needs a date to count from; add 'from 2026-01-01'")]
    [InlineData("every 2 weeks at 03:00 from 2026-01-01", 14, "expected 'on'")]
    [InlineData("every 0 days at 03:00 from 2026-01-01", 6, "from 1 to 1000")]
    [InlineData("6th mon of month at 03:00", 0, "'6th' is not a weekday")]
    [InlineData("1st monday of month at 03:00", 4, "'monday' is not a weekday")]
    [InlineData("last fri at 03:00", 9, "expected 'of'")]
    [InlineData("last fri of mnth at 03:00", 12, "did you mean 'month'")]
    [InlineData("last fri of jan,foo at 03:00", 16, "not a month")]
    [InlineData("day 32 of month at 03:00", 4, "from 1 to 31")]
    [InlineData("day 30 of feb at 03:00", 0, "day 30 is never due: it does not exist in feb")]
    [InlineData("day 31 of feb,apr,jun at 03:00", 0, "or last of feb,apr,jun")]
    [InlineData("yearly on feb 30 at 03:00", 14, "feb has 29 days at most")]
    [InlineData("2nd working day of month at 03:00", 0, "only the first and the last working day")]
    [InlineData("1st day of month at 03:00", 0, "day 1 of month")]
    [InlineData("daily at 03:00 from 2026-02-30", 20, "the calendar does not have this date")]
    [InlineData("daily at 03:00 from tomorrow", 20, "'tomorrow' is not a date")]
    [InlineData("daily at 03:00 from 2026-06-01 until 2026-05-31", 31, "before it begins")]
    [InlineData("weekends at 03:00 from 2026-11-23 until 2026-11-27", 0, "never due")]
    [InlineData("daily at 03:00 from 2026-11-23 until 2026-11-23 except 2026-11-23", 0, "is not left out")]
    [InlineData("every 2 hours on sat from 2026-11-23 until 2026-11-27", 14, "no sat lies between")]
    [InlineData("daily at 03:00 until 2026-11-23 from 2026-11-20", 32, "not expected here")]
    [InlineData("* * * *", 7, "4 fields; a crontab schedule has five")]
    [InlineData("0 0 2 * * 1-5", 10, "6 fields")]
    [InlineData("60 2 * * *", 0, "not a value of the minute field; write a number from 0 to 59")]
    [InlineData("0 22-2 * * *", 2, "runs backwards; write '22-23,0-2'")]
    [InlineData("*/0 * * * *", 2, "not a step")]
    [InlineData("0 2 * * mno", 8, "a name such as 'mon'")]
    [InlineData("0 2 31 2,4 *", 4, "never due")]
    [InlineData("@reboot", 0, "when a machine starts")]
    [InlineData("@fortnightly", 0, "is not known")]
    [InlineData("0,,5 2 * * *", 2, "a value is missing")]
    [InlineData("RRULE:FREQ=DAILY", 16, "needs its start")]
    [InlineData("DTSTART:20260601T230000", 23, "the rule is missing")]
    [InlineData("DTSTART:20260601T230015 RRULE:FREQ=DAILY", 8, "the start has seconds")]
    [InlineData("DTSTART:2026-06-01 RRULE:FREQ=DAILY", 8, "is not a start")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=SECONDLY", 35, "finest interval is one minute")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=DAILY;BYSECOND=1", 41, "BYSECOND cannot be used")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=DAILY;BYDAYS=MO", 41, "did you mean BYDAY")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=DAILY;COUNT=2;UNTIL=20270101", 55, "both end the rule")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=WEEKLY;BYDAY=1MO", 48, "MONTHLY and YEARLY only")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=MONTHLY;BYWEEKNO=20", 52, "FREQ=YEARLY only")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=MONTHLY;BYMONTHDAY=0", 54, "from 1 to 31")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", 30, "never due")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=DAILY;BYSETPOS=1", 50, "add one of them")]
    [InlineData("DTSTART:20260601T230000 RRULE:FREQ=DAILY EXDATE:20260602T230000", 41, "not expected here")]
    public void A_bad_sentence_is_refused_with_its_place_and_the_way_out(string sentence, int position, string message)
    {
        var (schedule, problem) = ScheduleText.Read(sentence);
        Assert.Null(schedule);
        Assert.Equal(position, problem!.Position);
        Assert.Contains(message, problem.Message);
    }

    internal static Schedule Read(string text)
    {
        var (schedule, problem) = ScheduleText.Read(text);
        return schedule ?? throw new InvalidOperationException($"{text}: {problem!.Message}");
    }

    internal static Instant At(string text) => InstantPattern.General.Parse(text).Value;
}
