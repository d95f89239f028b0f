using NodaTime;
using NodaTime.TimeZones;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Turns a schedule in a zone into instants. Source: docs/semantics.md, section 1 (Schedules). Far from clock changes a local time is one
/// subtraction; near them every date is mapped through the zone.
/// </summary>
public static class DueInstants
{
    private const long SecondsOfDay = 86_400;

    /// <summary>
    /// Due instants strictly after <paramref name="after"/> and up to and including <paramref name="upTo"/>, ascending, each
    /// once. An <paramref name="after"/> that is itself a due instant is not given again. Lazy: the caller may stop early.
    /// <paramref name="closed"/> is the calendar that working days go by.
    /// </summary>
    public static IEnumerable<Instant> Between(Schedule schedule, DateTimeZone zone, Instant after, Instant upTo, ClosedDays? closed = null)
    {
        if (schedule.End is { } end && end < upTo)
            upTo = end;
        if (upTo <= after)
            yield break;
        var (from, to) = (after.ToUnixTimeSeconds(), upTo.ToUnixTimeSeconds());
        var times = schedule.Open(closed);
        var span = new SpanOfOffset(zone);
        var pending = new SortedSet<long>();
        // A clock change can carry a local time to the neighbouring date, so the search starts a day early.
        var (first, last) = schedule.Reach;
        var day = Math.Max(DayOf(from + span.OffsetAt(from)) - 1, first == int.MinValue ? first : first - 1);
        var lastDay = Math.Min(last == int.MaxValue ? last : last + 1, Civil.LastDay);
        for (; day <= lastDay; day++)
        {
            if (span.Covers(day))
            {
                var start = day * SecondsOfDay - span.Offset;
                if (start > to)
                    break;
                foreach (var minute in times.On(day))
                {
                    var second = start + minute * 60L;
                    if (second > to)
                        break;
                    if (second > from)
                        yield return Instant.FromUnixTimeSeconds(second);
                }
                continue;
            }
            foreach (var minute in times.On(day))
            foreach (var second in Resolve(schedule.Gaps, zone, day, minute))
                if (second > from && second <= to)
                    pending.Add(second);
            var next = StartOf(day + 1, zone);
            // What is due before the next date begins can no longer be preceded by anything.
            while (pending.Count > 0 && pending.Min < next)
            {
                yield return Instant.FromUnixTimeSeconds(pending.Min);
                pending.Remove(pending.Min);
            }
            if (next > to)
                break;
        }
        foreach (var second in pending)
            yield return Instant.FromUnixTimeSeconds(second);
    }

    /// <summary>The first due instant strictly after <paramref name="asOf"/>; null when none comes within 45 years.</summary>
    public static Instant? Next(Schedule schedule, DateTimeZone zone, Instant asOf, ClosedDays? closed = null)
    {
        foreach (var instant in Between(schedule, zone, asOf, asOf + Duration.FromDays(Schedule.YearsToLook * 366), closed))
            return instant;
        return null;
    }

    /// <summary>What a person should know about a due instant near a clock change; null where there is nothing to say.</summary>
    public static string? Note(Schedule schedule, DateTimeZone zone, Instant due, ClosedDays? closed = null)
    {
        var local = due.InZone(zone);
        var mapping = zone.MapLocal(local.LocalDateTime);
        if (mapping.Count > 1)
        {
            return schedule.Gaps != GapRule.Grid ? "the clock shows this time twice; due once, at the first"
                : mapping.First().ToInstant() == due ? "the clock shows this time twice; this is the first"
                : "the clock shows this time twice; this is the second";
        }
        var change = zone.GetZoneInterval(due);
        // A time that the zone leaves out shows later on the clock than it was named.
        if (schedule.Gaps == GapRule.Grid || !change.HasStart || due - change.Start > Duration.FromDays(1))
            return null;
        var times = schedule.Open(closed);
        for (var day = Civil.ToDay(local.Date) - 1; day <= Civil.ToDay(local.Date); day++)
        {
            var left = times
                .On(day)
                .Where(m =>
                    zone.MapLocal(LocalOf(day, m)).Count == 0 && Resolve(schedule.Gaps, zone, day, m).Contains(due.ToUnixTimeSeconds())
                )
                .ToList();
            if (left.Count > 0)
                return $"the clock leaves out "
                    + $"{string.Join(" and ", left.Select(m => SentenceWords.Time(LocalTime.FromMinutesSinceMidnight(m))))} on this date";
        }
        return null;
    }

    private static IEnumerable<long> Resolve(GapRule rule, DateTimeZone zone, int day, int minute)
    {
        var mapping = zone.MapLocal(LocalOf(day, minute));
        if (mapping.Count == 0)
        {
            if (rule == GapRule.Clock)
                yield return mapping.LateInterval.Start.ToUnixTimeSeconds();
            else if (rule == GapRule.Standard)
                yield return day * SecondsOfDay + minute * 60L - mapping.EarlyInterval.WallOffset.Seconds;
            yield break;
        }
        yield return mapping.First().ToInstant().ToUnixTimeSeconds();
        if (mapping.Count > 1 && rule == GapRule.Grid)
            yield return mapping.Last().ToInstant().ToUnixTimeSeconds();
    }

    // A zone can leave out a whole date; it then begins, and ends, where the clock goes on.
    private static long StartOf(int day, DateTimeZone zone)
    {
        var mapping = zone.MapLocal(LocalOf(day, 0));
        return (mapping.Count == 0 ? mapping.LateInterval.Start : mapping.First().ToInstant()).ToUnixTimeSeconds();
    }

    private static LocalDateTime LocalOf(int day, int minute) => Civil.ToDate(day).At(LocalTime.FromMinutesSinceMidnight(minute));

    private static int DayOf(long localSeconds) => (int)Math.Floor(localSeconds / (double)SecondsOfDay);

    /// <summary>Remembers the stretch of time over which the zone keeps one offset.</summary>
    private struct SpanOfOffset(DateTimeZone zone)
    {
        private long start = long.MaxValue,
            end = long.MinValue;

        public int Offset { get; private set; }

        public int OffsetAt(long second)
        {
            Load(second);
            return Offset;
        }

        /// <summary>Whether this local date and its neighbours lie within one offset; then <see cref="Offset"/> is theirs.</summary>
        public bool Covers(int day)
        {
            if (Within(day))
                return true;
            var noon = day * SecondsOfDay + SecondsOfDay / 2 - Offset;
            if (noon < start || noon >= end)
                Load(noon);
            return Within(day);
        }

        private readonly bool Within(int day) => (day - 1) * SecondsOfDay - Offset >= start && (day + 2) * SecondsOfDay - Offset <= end;

        private void Load(long second)
        {
            var interval = zone.GetZoneInterval(Instant.FromUnixTimeSeconds(second));
            start = interval.HasStart ? interval.Start.ToUnixTimeSeconds() : long.MinValue / 2;
            end = interval.HasEnd ? interval.End.ToUnixTimeSeconds() : long.MaxValue / 2;
            Offset = interval.WallOffset.Seconds;
        }
    }
}
