using CsCheck;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>Quiet hours, closed days and spread, against a walk from minute to minute.</summary>
public sealed class DueTimesTests
{
    private static readonly Gen<LocalTime> GenTime = Gen.Int[0, 95].Select(q => LocalTime.FromMinutesSinceMidnight(q * 15));

    private static readonly Gen<QuietHours> GenQuiet = Gen.Select(GenTime, GenTime, Gen.Int[1, 126])
        .Select((from, to, days) => new QuietHours(from, to, new Weekdays(days)));

    private static readonly Gen<DueTimes> GenDue = Gen.Select(
            Sentences.Gen,
            GenQuiet.Array[0, 2],
            Gen.Int[0, 60].Array[0, 8],
            Gen.Select(Gen.Bool, Gen.Int[0, 2], Gen.Int[0, 180]),
            Pick.Of("Europe/Berlin", "Australia/Lord_Howe", "UTC")
        )
        .Select(
            (s, quiet, closed, rules, zone) =>
                new DueTimes(ScheduleTests.Read(s.Sentence), DateTimeZoneProviders.Tzdb[zone])
                {
                    Quiet = [.. quiet],
                    WhenQuiet = rules.Item1 ? WindowRule.Drop : WindowRule.Shift,
                    Closed = ClosedDays.Read([.. closed.Select(d => $"{new LocalDate(2027, 3, 1).PlusDays(d):uuuu-MM-dd}")]).Calendar,
                    WhenClosed = rules.Item2 switch
                    {
                        0 => null,
                        1 => WindowRule.Shift,
                        _ => WindowRule.Drop,
                    },
                    Spread = Duration.FromMinutes(rules.Item3),
                }
        );

    [Fact]
    public void Moves_and_drops_as_a_walk_from_minute_to_minute_does() =>
        Gen.Select(GenDue, Gen.Int[0, 50 * 1440], Gen.Int[1, 3000])
            .Sample(
                (due, at, minutes) =>
                {
                    var after = Instant.FromUtc(2027, 3, 1, 0, 0) + Duration.FromMinutes(at);
                    var upTo = after + Duration.FromMinutes(minutes);
                    var slow = new SortedSet<Instant>();
                    // Two days of quiet hours and nine closed ones at most lie before.
                    foreach (var named in DueInstants.Between(due.Schedule, due.Zone, after - Duration.FromDays(70), upTo, due.Closed))
                        if (Settle(due, named + due.Spread, upTo) is { } instant && instant > after && instant <= upTo)
                            slow.Add(instant);
                    var fast = due.Between(after, upTo).ToList();
                    Assert.True(
                        slow.SequenceEqual(fast),
                        $"{due}: slow {string.Join(' ', slow.Except(fast).Take(3))}, fast {string.Join(' ', fast.Except(slow).Take(3))}"
                    );
                    var all = due.All(after, upTo).ToList();
                    Assert.Equal(fast, all.Where(d => !d.Dropped).Select(d => d.At));
                    Assert.All(all, d =>
                        Assert.True(d.Dropped ? d.Why!.StartsWith("dropped: ", StringComparison.Ordinal) : d.At >= d.Named)
                    );
                },
                iter: 600
            );

    private static Instant? Settle(DueTimes due, Instant at, Instant last)
    {
        for (; at <= last; at += Duration.FromMinutes(1))
        {
            var local = at.InZone(due.Zone);
            if (due.WhenClosed is { } rule && due.Closed!.IsClosed(local.Date))
            {
                if (rule == WindowRule.Drop)
                    return null;
                continue;
            }
            if (!due.Quiet.Any(q => IsQuiet(q, at, due.Zone)))
                return at;
            if (due.WhenQuiet == WindowRule.Drop)
                return null;
        }
        return null;
    }

    private static bool IsQuiet(QuietHours q, Instant at, DateTimeZone zone)
    {
        for (var day = at.InZone(zone).Date.PlusDays(-1); day <= at.InZone(zone).Date; day = day.PlusDays(1))
        {
            if (!q.Days.Contains(day.DayOfWeek))
                continue;
            var last = q.To > q.From ? day : day.PlusDays(1);
            if (at >= zone.AtLeniently(day + q.From).ToInstant() && at < zone.AtLeniently(last + q.To).ToInstant())
                return true;
        }
        return false;
    }

    [Fact]
    public void Spread_is_stable_and_even()
    {
        var window = new Span(2, SpanUnit.Hours);
        var shares = Enumerable.Range(0, 1200).Select(i => (int)DueTimes.SpreadOf($"job-{i}", "heron", window).TotalMinutes).ToList();
        Assert.All(shares, s => Assert.InRange(s, 0, 119));
        // 1,200 jobs over 120 minutes are 10 a minute; a good hash leaves no minute with many times that.
        Assert.InRange(shares.GroupBy(s => s).Max(g => g.Count()), 11, 30);
        // The share is part of what people rely on: a new version must not move every run.
        Assert.Equal(Duration.FromMinutes(89), DueTimes.SpreadOf("ringing-register", "heron", window));
        Assert.NotEqual(DueTimes.SpreadOf("ringing-register", "heron", window), DueTimes.SpreadOf("ringing-register", "plover", window));
    }

    [Theory]
    [InlineData("2026-13-01", "there is no 2026-13-01")]
    [InlineData("feb 30", "there is no 'feb 30'")]
    [InlineData("2027-01-02 to 2026-12-24", "ends before it begins")]
    [InlineData("2027-01-01 to 2029-01-01", "at most 366")]
    [InlineData("christmas", "is not a date")]
    [InlineData("every sunday of may", "is not a closed day")]
    public void A_bad_closed_day_is_refused(string entry, string message) =>
        Assert.Contains(message, Assert.Single(ClosedDays.Read([entry]).Problems).Message);

    [Theory]
    [InlineData("08:00", 5, "expected 'to'")]
    [InlineData("08:00 to 25:00", 9, "24-hour clock")]
    [InlineData("08:00 to 18:00 on fooday", 18, "weekdays")]
    [InlineData("08:00 to 08:00", 0, "never end")]
    public void Bad_quiet_hours_are_refused(string text, int position, string message)
    {
        var problem = QuietHours.Read(text).Problem!;
        Assert.Equal(position, problem.Position);
        Assert.Contains(message, problem.Message);
    }
}
