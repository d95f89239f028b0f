using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>How often a recurrence rule begins a new period.</summary>
internal enum Frequency
{
    Yearly,
    Monthly,
    Weekly,
    Daily,
    Hourly,
    Minutely,
}

/// <summary>A weekday of a rule, with its ordinal within the month or year (0: every one; negative: from the end).</summary>
internal readonly record struct RuleDay(int Ordinal, int Weekday);

/// <summary>The parts of one recurrence rule (RFC 5545, section 3.3.10). An empty list is a part that was not given.</summary>
internal sealed record RuleParts(Frequency Frequency)
{
    public int Interval { get; init; } = 1;
    public int? Count { get; init; }

    /// <summary>The last local minute (UNTIL in local time or as a date), or <see cref="UntilInstant"/> when it is in UTC.</summary>
    public LocalDateTime? Until { get; init; }
    public Instant? UntilInstant { get; init; }
    public ImmutableArray<int> Months { get; init; } = [];
    public ImmutableArray<int> Weeks { get; init; } = [];
    public ImmutableArray<int> YearDays { get; init; } = [];
    public ImmutableArray<int> MonthDays { get; init; } = [];
    public ImmutableArray<RuleDay> Days { get; init; } = [];
    public ImmutableArray<int> Hours { get; init; } = [];
    public ImmutableArray<int> Minutes { get; init; } = [];
    public ImmutableArray<int> Positions { get; init; } = [];

    /// <summary>The day a week starts on, 0 for Monday.</summary>
    public int WeekStart { get; init; }
}

/// <summary>
/// An RFC 5545 recurrence rule with its start (DTSTART), in local time. Instances are those that fit the rule; a start that does
/// not fit is no instance. A rule by the hour or minute is a grid as far as clock changes go; all others follow section 3.3.5: a
/// time that the clock leaves out is read by the offset before the gap.
/// </summary>
public sealed record RecurrenceSchedule : Schedule
{
    private readonly string text;

    /// <summary>How many years a COUNT is followed; one that has not ended by then goes on.</summary>
    private const int CountYears = 300;

    internal RecurrenceSchedule(LocalDateTime start, string? zone, RuleParts rule, string text)
    {
        NamedZone = zone;
        Start = start;
        Rule = rule;
        this.text = text;
        LastMinute = rule.Until is { } until ? MinuteOf(until) : long.MaxValue;
        if (rule.Count is { } count)
            LastMinute = Math.Min(LastMinute, LastOf(count));
    }

    /// <summary>DTSTART: the first local time that the rule can give.</summary>
    public LocalDateTime Start { get; }

    public override string? NamedZone { get; }

    internal RuleParts Rule { get; }

    /// <summary>The last local minute that can be given, counted from 1970-01-01T00:00.</summary>
    internal long LastMinute { get; }

    internal long FirstMinute => MinuteOf(Start);

    internal override GapRule Gaps => Rule.Frequency >= Frequency.Hourly ? GapRule.Grid : GapRule.Standard;

    internal override (int First, int Last) Reach =>
        (Civil.ToDay(Start.Date), LastMinute == long.MaxValue ? int.MaxValue : (int)(LastMinute / 1440));

    internal override Instant? End => Rule.UntilInstant;

    public override string ToSentence() => text;

    public override string Words => RecurrenceWords.Of(this);

    internal override DayTimes Open(ClosedDays? closed) => new RecurrenceDays(this);

    public bool Equals(RecurrenceSchedule? other) => other is not null && text == other.text;

    public override int GetHashCode() => text.GetHashCode(StringComparison.Ordinal);

    private static long MinuteOf(LocalDateTime local) => Civil.ToDay(local.Date) * 1440L + local.Hour * 60 + local.Minute;

    private long LastOf(int count)
    {
        var times = new RecurrenceDays(this);
        var day = Civil.ToDay(Start.Date);
        for (var last = Math.Min(day + CountYears * 366L, Civil.LastDay); day <= last; day++)
        {
            foreach (var minute in times.On(day))
                if (--count == 0)
                    return day * 1440L + minute;
        }
        return long.MaxValue;
    }
}
