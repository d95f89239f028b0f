using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>Due at fixed clock times on certain dates: "weekdays at 23:00". Source: docs/semantics.md, section 1 (Schedules).</summary>
public sealed record ClockSchedule(DayRule Days, ImmutableArray<LocalTime> Times) : Schedule
{
    public ScheduleTail Tail { get; init; } = ScheduleTail.None;

    internal override GapRule Gaps => GapRule.Clock;

    internal override (int First, int Last) Reach => (Math.Max(Tail.Reach.First, Days.Anchor ?? int.MinValue), Tail.Reach.Last);

    internal override DayTimes Open(ClosedDays? closed) => new Reader(this, closed);

    public override string ToSentence() => $"{Days} at {string.Join(", ", Times.Select(SentenceWords.Time))}{Tail}";

    public override ImmutableArray<string> Remarks =>
        Days switch
        {
            MonthDayRule { OrLast: false } rule when MonthsWithout(rule) is { Count: > 0 } without =>
            [
                $"day {rule.Days[^1]} does not exist in {without.Count} of the {Enumerable.Range(1, 12).Count(rule.Of.Contains)} months "
                    + $"({string.Join(",", without.Select(m => Months.Names[m - 1]))}), which are skipped; 'day {rule.Days[^1]} or last' "
                    + $"takes their last day instead",
            ],
            YearlyRule { Month: 2, Day: 29 } => ["feb 29 comes in leap years only"],
            OrdinalWeekdayRule { Ordinal: 5 } => ["a month without a fifth one is skipped: about two months in three"],
            _ => [],
        };

    /// <summary>The months that always lack the rule's last day, and February where only leap years have it.</summary>
    private static List<int> MonthsWithout(MonthDayRule rule) =>
        Enumerable.Range(1, 12).Where(m => rule.Of.Contains(m) && rule.Days[^1] > Civil.DaysIn(2027, m)).ToList();

    public bool Equals(ClockSchedule? other) =>
        other is not null && Days == other.Days && Tail == other.Tail && Times.SequenceEqual(other.Times);

    public override int GetHashCode() => Times.Aggregate(Days.GetHashCode(), HashCode.Combine);

    private sealed class Reader(ClockSchedule schedule, ClosedDays? closed) : DayTimes
    {
        private readonly int[] minutes = [.. schedule.Times.Select(t => t.Hour * 60 + t.Minute)];
        private readonly DayRule days = schedule.Days;
        private readonly ScheduleTail tail = schedule.Tail;

        public override int[] On(int day) => tail.Allows(day) && days.Includes(day, closed) ? minutes : [];
    }
}
