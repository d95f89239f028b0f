using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// When a job is due, in local words. A schedule has no zone of its own: the job brings it. Two kinds exist: clock times on
/// certain weekdays, and a grid of intervals. Equality is by meaning, so "mon-fri" equals "weekdays".
/// </summary>
public abstract record Schedule
{
    /// <summary>The local times of one date, in order of the wall clock, before the zone's gaps and repeats are looked at.</summary>
    internal abstract IEnumerable<LocalTime> TimesOn(LocalDate date);

    /// <summary>What happens to a local time that does not exist, or exists twice.</summary>
    internal abstract IEnumerable<Instant> Resolve(LocalDateTime local, DateTimeZone zone);

    /// <summary>The schedule as a sentence that <see cref="ScheduleSentence.Read"/> reads back to an equal schedule.</summary>
    public abstract string ToSentence();

    public sealed override string ToString() => ToSentence();
}

/// <summary>Due at fixed clock times on certain weekdays: "weekdays at 23:00". Source: docs/semantics.md, section 1.</summary>
public sealed record ClockSchedule(Weekdays Days, ImmutableArray<LocalTime> Times) : Schedule
{
    internal override IEnumerable<LocalTime> TimesOn(LocalDate date) => Days.Contains(date.DayOfWeek) ? Times : [];

    /// <summary>A time in the spring gap is due at the first instant after it; a repeated time is due once, at the first.</summary>
    internal override IEnumerable<Instant> Resolve(LocalDateTime local, DateTimeZone zone)
    {
        var mapping = zone.MapLocal(local);
        yield return mapping.Count == 0 ? mapping.LateInterval.Start : mapping.First().ToInstant();
    }

    public override string ToSentence() => $"{Days} at {string.Join(", ", Times.Select(Sentences.Time))}";

    public bool Equals(ClockSchedule? other) => other is not null && Days == other.Days && Times.SequenceEqual(other.Times);
    public override int GetHashCode() => Times.Aggregate(Days.GetHashCode(), HashCode.Combine);
}

/// <summary>
/// Due on a wall-clock grid that restarts at every local midnight: "every 15 minutes between 08:00 and 18:00 on weekdays".
/// A window that ends before it starts runs past midnight and belongs to the day it starts on. Source: docs/semantics.md, section 1.
/// </summary>
public sealed record IntervalSchedule(int Minutes, LocalTime? From, LocalTime? To, Weekdays Days) : Schedule
{
    private const int MinutesOfDay = 24 * 60;

    internal override IEnumerable<LocalTime> TimesOn(LocalDate date)
    {
        var today = Days.Contains(date.DayOfWeek);
        var yesterday = Days.Contains(date.PlusDays(-1).DayOfWeek);
        for (var minute = 0; minute < MinutesOfDay; minute += Minutes)
        {
            var time = LocalTime.FromMinutesSinceMidnight(minute);
            if (From is not { } from || To is not { } to)
            {
                if (today) yield return time;
            }
            else if (from <= to)
            {
                if (today && time >= from && time <= to) yield return time;
            }
            else if ((today && time >= from) || (yesterday && time <= to)) yield return time;
        }
    }

    /// <summary>A grid time in the gap is left out; one in the repeated hour is due both times.</summary>
    internal override IEnumerable<Instant> Resolve(LocalDateTime local, DateTimeZone zone)
    {
        var mapping = zone.MapLocal(local);
        if (mapping.Count > 0) yield return mapping.First().ToInstant();
        if (mapping.Count > 1) yield return mapping.Last().ToInstant();
    }

    public override string ToSentence()
    {
        var (count, unit) = Minutes % 60 == 0 ? (Minutes / 60, "hour") : (Minutes, "minute");
        var grid = $"every {count} {unit}{(count == 1 ? "" : "s")}";
        var window = From is { } from && To is { } to ? $" between {Sentences.Time(from)} and {Sentences.Time(to)}" : "";
        return grid + window + (Days == Weekdays.Daily ? "" : $" on {Days}");
    }
}

internal static class Sentences
{
    public static string Time(LocalTime time) => $"{time.Hour:00}:{time.Minute:00}";
}
