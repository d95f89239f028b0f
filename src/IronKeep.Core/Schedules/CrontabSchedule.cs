using System.Collections.Immutable;
using System.Numerics;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Five crontab fields: minute, hour, day of the month, month, weekday (POSIX crontab). When both the day of the month and the
/// weekday are restricted, either is enough. A field that begins with '*' does not restrict. Minutes and hours that are all plain
/// numbers are clock times; with '*', a range or a step they are a grid, as far as clock changes go.
/// </summary>
public sealed record CrontabSchedule : Schedule
{
    private readonly ulong minutes;
    private readonly uint hours,
        days,
        months,
        weekdays;
    private readonly bool anyDay,
        anyWeekday,
        grid;
    private readonly string text;

    internal CrontabSchedule(CrontabField minute, CrontabField hour, CrontabField day, CrontabField month, CrontabField weekday)
    {
        minutes = minute.Mask;
        hours = (uint)hour.Mask;
        days = (uint)day.Mask;
        months = (uint)month.Mask;
        // Both 0 and 7 are Sunday; bit 0 is Sunday here.
        weekdays = (uint)((weekday.Mask | (weekday.Mask >> 7)) & 0x7F);
        anyDay = day.Text[0] == '*';
        anyWeekday = weekday.Text[0] == '*';
        grid = minute.IsGrid || hour.IsGrid;
        text = string.Join(' ', minute.Text, hour.Text, day.Text, month.Text, weekday.Text);
    }

    internal override GapRule Gaps => grid ? GapRule.Grid : GapRule.Clock;

    public override string ToSentence() => text;

    public override ImmutableArray<string> Remarks =>
        !anyDay && !anyWeekday ? ["day of the month and weekday are both restricted, so it is due when either fits"] : [];

    /// <summary>A sentence where one says exactly the same, else the fields in words.</summary>
    public override string Words => AsSentence()?.ToSentence() ?? InWords();

    internal override DayTimes Open(ClosedDays? closed) => new Reader(this);

    public bool Equals(CrontabSchedule? other) => other is not null && text == other.text;

    public override int GetHashCode() => text.GetHashCode(StringComparison.Ordinal);

    private int[] Minutes => Bits(minutes);
    private int[] Hours => Bits(hours);

    private bool Includes(int day)
    {
        var date = Civil.Of(day);
        if ((months & (1u << date.Month)) == 0)
            return false;
        var byDay = (days & (1u << date.Day)) != 0;
        var byWeekday = (weekdays & (1u << ((Civil.Weekday(day) + 1) % 7))) != 0;
        return anyDay || anyWeekday ? byDay && byWeekday : byDay || byWeekday;
    }

    /// <summary>The schedule as a sentence that is due at just the same instants; null when no sentence is.</summary>
    public Schedule? AsSentence()
    {
        if (DaysAsRule() is not { } rule)
            return null;
        if (!grid)
            return new ClockSchedule(rule, [.. from h in Hours from m in Minutes select new LocalTime(h, m)]);
        if (rule is not WeekdayRule { Days: var on })
            return null;
        var times = (from h in Hours from m in Minutes select h * 60 + m).ToArray();
        if (times.Length < 2)
            return null;
        var step = times[1] - times[0];
        var even = times.Zip(times.Skip(1), (a, b) => b - a).All(d => d == step) && times[0] % step == 0;
        if (!even)
            return null;
        // The window may be left out when the whole day's grid is meant.
        var whole = times[0] == 0 && times[^1] + step >= 24 * 60;
        return whole
            ? new IntervalSchedule(step, null, null, on)
            : new IntervalSchedule(step, LocalTime.FromMinutesSinceMidnight(times[0]), LocalTime.FromMinutesSinceMidnight(times[^1]), on);
    }

    private DayRule? DaysAsRule()
    {
        var allDays = days == 0xFFFFFFFE;
        var allWeekdays = weekdays == 0x7F;
        var of = new Months((int)(months >> 1));
        // Where either is enough and one of them is everything, it is every day.
        if (!anyDay && !anyWeekday)
            return (allDays || allWeekdays) && of == Months.All ? new WeekdayRule(Weekdays.Daily) : null;
        if (allDays && of == Months.All)
            return new WeekdayRule(WeekdaySet);
        if (!allWeekdays)
            return null;
        return new MonthDayRule([.. Bits(days)], false, of);
    }

    private Weekdays WeekdaySet => new((int)((weekdays >> 1) | ((weekdays & 1) << 6)));

    private string InWords()
    {
        var (m, h) = (Minutes, Hours);
        var when =
            m.Length * h.Length <= 12
                ? "at " + string.Join(", ", from hour in h from minute in m select $"{hour:00}:{minute:00}")
                : $"at {(m.Length == 60 ? "every minute" : (m.Length == 1 ? "minute " : "minutes ") + Runs(m))} of "
                    + $"{(h.Length == 24 ? "every hour" : (h.Length == 1 ? "hour " : "hours ") + Runs(h))}";
        var byDay = $"day {Runs(Bits(days))}";
        var on = (anyDay && days == 0xFFFFFFFE, anyWeekday && weekdays == 0x7F) switch
        {
            (true, true) => "every day",
            (true, false) => $"on {WeekdaySet}",
            (false, true) => $"on {byDay}",
            _ => $"on {byDay} {(anyDay || anyWeekday ? "if it is" : "or on")} {WeekdaySet}",
        };
        return $"{when} {on} of {new Months((int)(months >> 1))}";
    }

    /// <summary>Numbers with their runs drawn together: "0-4,7".</summary>
    private static string Runs(int[] numbers)
    {
        var parts = new List<string>();
        for (var i = 0; i < numbers.Length; )
        {
            var j = i;
            while (j + 1 < numbers.Length && numbers[j + 1] == numbers[j] + 1)
                j++;
            parts.Add(j > i + 1 ? $"{numbers[i]}-{numbers[j]}" : string.Join(",", numbers[i..(j + 1)]));
            i = j + 1;
        }
        return string.Join(",", parts);
    }

    private static int[] Bits(ulong mask)
    {
        var bits = new int[BitOperations.PopCount(mask)];
        for (var i = 0; mask != 0; mask &= mask - 1)
            bits[i++] = BitOperations.TrailingZeroCount(mask);
        return bits;
    }

    private sealed class Reader(CrontabSchedule schedule) : DayTimes
    {
        private readonly int[] times = [.. from h in schedule.Hours from m in schedule.Minutes select h * 60 + m];

        public override int[] On(int day) => schedule.Includes(day) ? times : [];
    }
}
