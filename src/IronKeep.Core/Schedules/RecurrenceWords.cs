using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using NodaTime.Text;

namespace IronKeep.Core.Schedules;

/// <summary>A recurrence rule in plain words: "every 2 weeks on mon,wed at 23:00, from 2026-06-01, 10 times".</summary>
internal static class RecurrenceWords
{
    private static readonly string[] Units = ["year", "month", "week", "day", "hour", "minute"];

    public static string Of(RecurrenceSchedule schedule)
    {
        var rule = schedule.Rule;
        var unit = Units[(int)rule.Frequency];
        var words = new List<string> { rule.Interval == 1 ? $"every {unit}" : $"every {rule.Interval} {unit}s" };
        if (rule.Months.Length > 0)
            words.Add($"in {string.Join(",", rule.Months.Select(m => Months.Names[m - 1]))}");
        if (rule.Weeks.Length > 0)
            words.Add($"in week {string.Join(",", rule.Weeks.Select(Place))}");
        if (rule.YearDays.Length > 0)
            words.Add($"on day {string.Join(",", rule.YearDays.Select(Place))} of the year");
        if (rule.MonthDays.Length > 0)
            words.Add($"on day {string.Join(",", rule.MonthDays.Select(Place))} of the month");
        if (rule.Days.Length > 0)
            words.Add(
                $"on "
                    + $"{string.Join(",", rule.Days.Select(Day))}"
                    + (
                        rule.Days.Any(d => d.Ordinal != 0)
                            ? rule.Frequency == Frequency.Yearly && rule.Months.Length == 0
                                ? " of the year"
                                : " of the month"
                            : ""
                    )
            );
        else if (rule is { Frequency: Frequency.Weekly, Positions.Length: 0 })
            words.Add($"on {Weekdays.Names[Civil.Weekday(Civil.ToDay(schedule.Start.Date))]}");
        var text = string.Join(' ', words) + At(schedule, rule);
        if (rule.Positions.Length > 0)
            text += $", of these only number {string.Join(",", rule.Positions.Select(Place))} of each {unit}";
        text += $", from {SentenceWords.Date(schedule.Start.Date)}";
        if (rule.Until is { } until)
            text += $", until {SentenceWords.Date(until.Date)} {SentenceWords.Time(until.TimeOfDay)}";
        if (rule.UntilInstant is { } instant)
            text += $", until {InstantPattern.General.Format(instant)}";
        if (rule.Count is { } count)
            text += $", {Counted.Of(count, "time")}";
        return text;
    }

    private static string At(RecurrenceSchedule schedule, RuleParts rule)
    {
        if (rule.Frequency == Frequency.Minutely)
            return (rule.Hours.Length > 0 ? $" in hours {string.Join(",", rule.Hours)}" : "")
                + (rule.Minutes.Length > 0 ? $" at minutes {string.Join(",", rule.Minutes)}" : "");
        ImmutableArray<int> minutes = rule.Minutes.Length > 0 ? rule.Minutes : [schedule.Start.Minute];
        if (rule.Frequency == Frequency.Hourly)
            return (rule.Hours.Length > 0 ? $" in hours {string.Join(",", rule.Hours)}" : "") + $" at minute {string.Join(",", minutes)}";
        ImmutableArray<int> hours = rule.Hours.Length > 0 ? rule.Hours : [schedule.Start.Hour];
        return " at " + string.Join(", ", from h in hours from m in minutes select $"{h:00}:{m:00}");
    }

    private static string Day(RuleDay day) =>
        day.Ordinal == 0 ? Weekdays.Names[day.Weekday] : $"{Place(day.Ordinal)} {Weekdays.Names[day.Weekday]}";

    // Counting from the end: -1 is the last.
    private static string Place(int number) =>
        number switch
        {
            > 0 => $"{number}",
            -1 => "last",
            _ => $"{-number} before the end",
        };
}
