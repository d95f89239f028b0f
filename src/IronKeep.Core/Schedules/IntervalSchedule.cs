using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Due on a wall-clock grid that restarts at every local midnight: "every 15 minutes between 08:00 and 18:00 on weekdays".
/// A window that ends before it starts runs past midnight and belongs to the day it starts on. Source: docs/semantics.md, section 1
/// (Schedules).
/// </summary>
public sealed record IntervalSchedule(int Minutes, LocalTime? From, LocalTime? To, Weekdays Days) : Schedule
{
    private const int MinutesOfDay = 24 * 60;

    public ScheduleTail Tail { get; init; } = ScheduleTail.None;

    internal override GapRule Gaps => GapRule.Grid;

    // A window past midnight reaches into the day after the last.
    internal override (int First, int Last) Reach => Tail.Reach.Last == int.MaxValue ? Tail.Reach : (Tail.Reach.First, Tail.Reach.Last + 1);

    internal override DayTimes Open(ClosedDays? closed) => new Reader(this);

    public override string ToSentence()
    {
        var (count, unit) = Minutes % 60 == 0 ? (Minutes / 60, "hour") : (Minutes, "minute");
        var grid = $"every {count} {unit}{(count == 1 ? "" : "s")}";
        var window = From is { } from && To is { } to ? $" between {SentenceWords.Time(from)} and {SentenceWords.Time(to)}" : "";
        return grid + window + (Days == Weekdays.Daily ? "" : $" on {Days}") + Tail;
    }

    private sealed class Reader : DayTimes
    {
        private readonly IntervalSchedule schedule;
        private readonly int[] own,
            early,
            late;

        public Reader(IntervalSchedule schedule)
        {
            this.schedule = schedule;
            var grid = Enumerable
                .Range(0, (MinutesOfDay + schedule.Minutes - 1) / schedule.Minutes)
                .Select(i => i * schedule.Minutes)
                .ToArray();
            (own, early, late) = (grid, [], grid);
            if (schedule.From is not { } from || schedule.To is not { } to)
                return;
            var (first, last) = (from.Hour * 60 + from.Minute, to.Hour * 60 + to.Minute);
            if (first <= last)
                late = own = [.. grid.Where(m => m >= first && m <= last)];
            else
            {
                early = [.. grid.Where(m => m <= last)];
                late = [.. grid.Where(m => m >= first)];
                own = [.. early, .. late];
            }
        }

        public override int[] On(int day)
        {
            var today = Takes(day);
            if (early.Length == 0)
                return today ? late : [];
            return (today, Takes(day - 1)) switch
            {
                (true, true) => own,
                (true, false) => late,
                (false, true) => early,
                _ => [],
            };
        }

        private bool Takes(int day) => schedule.Tail.Allows(day) && schedule.Days.ContainsDay(day);
    }
}
