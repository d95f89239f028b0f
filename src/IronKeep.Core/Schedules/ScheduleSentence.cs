using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Reads schedule sentences: clock times on certain dates, and intervals, each with its limits. Case-insensitive.
/// The grammar is in docs/semantics.md, section 1 (Schedules).
/// </summary>
public static class ScheduleSentence
{
    internal const string Forms =
        "write 'weekdays at 23:00', 'mon,thu at 06:30, 18:30', 'last fri of month at 20:00' or 'every 15 minutes between 08:00 and 18:00 "
        + "on weekdays'";
    private const int MostMinutes = 24 * 60;
    private const int MostCount = 1000;

    /// <summary>The schedule, or the problem; exactly one of the two is null. One that is never due is a problem.</summary>
    public static (Schedule? Schedule, SentenceProblem? Problem) Read(string sentence)
    {
        var words = new SentenceWords(sentence, Forms);
        try
        {
            if (words.Count == 0)
                throw SentenceWords.Wrong(0, $"the schedule is empty; {Forms}");
            var interval = words.Ahead() == "every" && words.Ahead(2) is not ("days" or "day" or "weeks" or "week");
            return (interval ? Interval(words) : Clock(words), null);
        }
        catch (SentenceException e)
        {
            return (null, new SentenceProblem(e.Position, e.Message));
        }
    }

    /// <summary>
    /// Reads the DAYS part alone, as rotation groups use it: "mon-thu", "last fri of month", "every 2 weeks on sat from 2026-01-03".
    /// </summary>
    public static (DayRule? Days, SentenceProblem? Problem) ReadDays(string sentence)
    {
        var words = new SentenceWords(sentence, "write 'daily', 'mon-thu', 'last fri of month' or 'day 1 of jan,jul'");
        try
        {
            if (words.Count == 0)
                throw SentenceWords.Wrong(0, "no nights are named; write 'daily', 'mon-thu' or 'last fri of month'");
            var days = Days(words);
            var from = words.Take("from") ? words.Date() : (LocalDate?)null;
            words.End();
            return (days(from), null);
        }
        catch (SentenceException e)
        {
            return (null, new SentenceProblem(e.Position, e.Message));
        }
    }

    private static ClockSchedule Clock(SentenceWords words)
    {
        var days = Days(words);
        words.Expect("at", "then the time");
        var times = new SortedSet<LocalTime> { words.Time() };
        while (words.Take(","))
            times.Add(words.Time());
        var tail = Tail(words);
        var schedule = new ClockSchedule(days(tail.From), [.. times]) { Tail = tail };
        if (!schedule.IsEverDue())
            throw SentenceWords.Wrong(
                0,
                $"this is never due: no date from "
                    + $"{(tail.From is { } f ? SentenceWords.Date(f) : "now on")}"
                    + $"{(tail.Until is { } u ? $" until {SentenceWords.Date(u)}" : "")} "
                    + $"is '{schedule.Days}'{(tail.Except.Length > 0 ? " and is not left out" : "")}"
            );
        return schedule;
    }

    private static IntervalSchedule Interval(SentenceWords words)
    {
        words.Expect("every", "");
        var minutes = Minutes(words);
        LocalTime? from = null,
            to = null;
        var windowAt = words.Here;
        if (words.Take("between"))
        {
            from = words.Time();
            words.Expect("and", "then the end of the window");
            to = words.Time();
        }
        var days = words.Take("on") ? WeekdaysOf(words) : Weekdays.Daily;
        var tail = Tail(words);
        var schedule = new IntervalSchedule(minutes, from, to, days) { Tail = tail };
        if (schedule.IsEverDue())
            return schedule;
        throw (schedule with { Tail = ScheduleTail.None }).IsEverDue()
            ? SentenceWords.Wrong(windowAt, $"this is never due: no {days} lies between its first and its last date that is not left out")
            : SentenceWords.Wrong(
                windowAt,
                $"this is never due: no step of {minutes} minutes from midnight falls between {SentenceWords.Time(from!.Value)} and "
                    + $"{SentenceWords.Time(to!.Value)}; widen the window or shorten the interval"
            );
    }

    private static int Minutes(SentenceWords words)
    {
        var at = words.Here;
        var text = words.Next("a number of minutes or hours");
        if (!int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var count))
            throw SentenceWords.Wrong(at, $"'{text}' is not a whole number; write 'every 15 minutes' or 'every 6 hours'");
        if (count == 0)
            throw SentenceWords.Wrong(at, "an interval of 0 is never due; the finest is 1 minute");
        var unitAt = words.Here;
        var unit = words.Next("'minutes' or 'hours'");
        var factor = unit switch
        {
            "minute" or "minutes" => 1,
            "hour" or "hours" => 60,
            "second" or "seconds" => throw SentenceWords.Wrong(unitAt, "the finest interval is one minute; write 'every 1 minutes'"),
            "month" or "months" => throw SentenceWords.Wrong(
                unitAt,
                "for months write 'day 1 of month at 23:00', or 'day 1 of jan,apr,jul,oct at 23:00'"
            ),
            "year" or "years" => throw SentenceWords.Wrong(unitAt, "for years write 'yearly on jan 1 at 23:00'"),
            _ => throw SentenceWords.Wrong(
                unitAt,
                $"'{unit}' is not a unit of an interval; use minutes, hours, days or weeks, or give weekdays and a time: 'daily at 23:00'"
            ),
        };
        if ((long)count * factor > MostMinutes)
            throw SentenceWords.Wrong(
                at,
                "an interval longer than a day does not fit the daily grid; write 'every 3 days at 23:00 from 2026-01-01' instead"
            );
        return count * factor;
    }

    /// <summary>The DAYS part; it is made when the anchor, which stands behind it, is known.</summary>
    private static Func<LocalDate?, DayRule> Days(SentenceWords words)
    {
        var at = words.Here;
        if (words.Take("every"))
            return Every(words, at);
        if (words.Take("day"))
            return MonthDays(words, at);
        if (words.Take("yearly"))
            return Yearly(words);
        // "sat" and "sun" are weekdays; "second" is an ordinal.
        if (Ordinals.Read(words.Ahead()) is { } ordinal)
        {
            words.Next("");
            return OrdinalDays(words, ordinal, at);
        }
        var days = WeekdaysOf(words);
        return _ => new WeekdayRule(days);
    }

    private static Func<LocalDate?, DayRule> Every(SentenceWords words, int at)
    {
        var count = words.Number("a number of days or weeks", 1, MostCount);
        var unit = words.Next("'days' or 'weeks'");
        if (unit is "day" or "days")
            return from => new EveryDaysRule(count, from ?? throw NoAnchor("days"));
        if (unit is not ("week" or "weeks"))
            throw SentenceWords.Wrong(
                at,
                $"'every {count} {unit}' names no days; write 'every {count} days' or 'every {count} weeks on mon'"
            );
        words.Expect("on", "then the weekdays");
        var days = WeekdaysOf(words);
        return from => new EveryWeeksRule(count, days, from ?? throw NoAnchor("weeks on " + days));

        SentenceException NoAnchor(string what) =>
            SentenceWords.Wrong(at, $"'every {count} {what}' needs a date to count from; add 'from 2026-01-01' at the end");
    }

    private static Func<LocalDate?, DayRule> MonthDays(SentenceWords words, int at)
    {
        var days = new SortedSet<int> { words.Number("a day of the month", 1, 31) };
        while (words.Take(","))
            days.Add(words.Number("a day of the month", 1, 31));
        var orLast = words.Take("or");
        if (orLast)
            words.Expect("last", "as in 'day 31 or last of month'");
        var months = MonthsOf(words);
        var rule = new MonthDayRule([.. days], orLast, months);
        foreach (var day in days)
            if (!orLast && Enumerable.Range(1, 12).Where(months.Contains).All(m => day > Civil.DaysIn(2028, m)))
                throw SentenceWords.Wrong(
                    at,
                    $"day {day} is never due: it does not exist in {months}; write 'day {day} or last of {months}' for the last day instead"
                );
        return _ => rule;
    }

    private static Func<LocalDate?, DayRule> Yearly(SentenceWords words)
    {
        words.Expect("on", "then a month and a day, such as 'yearly on jan 1'");
        var at = words.Here;
        var month = Array.IndexOf(Months.Names, words.Next("a month such as jan")) + 1;
        if (month == 0)
            throw SentenceWords.Wrong(at, "this is not a month; use jan, feb, mar, apr, may, jun, jul, aug, sep, oct, nov or dec");
        var dayAt = words.Here;
        var day = words.Number("a day of the month", 1, 31);
        if (day > Civil.DaysIn(2028, month))
            throw SentenceWords.Wrong(dayAt, $"this is never due: {Months.Names[month - 1]} has {Civil.DaysIn(2028, month)} days at most");
        return _ => new YearlyRule(month, day);
    }

    private static Func<LocalDate?, DayRule> OrdinalDays(SentenceWords words, int ordinal, int at)
    {
        var whatAt = words.Here;
        var what = words.Next("a weekday, 'working day' or 'day'");
        if (what == "working")
        {
            words.Expect("day", "as in 'first working day of month'");
            if (ordinal > 1)
                throw SentenceWords.Wrong(at, "only the first and the last working day can be named");
            var first = ordinal == 1;
            var of = MonthsOf(words);
            return _ => new WorkingDayRule(first, of);
        }
        if (what == "day")
        {
            if (ordinal != 0)
                throw SentenceWords.Wrong(at, $"write 'day {ordinal} of month' for a day of the month, or 'last day of month'");
            var of = MonthsOf(words);
            return _ => new LastDayRule(of);
        }
        var weekday = Array.IndexOf(Weekdays.Names, what);
        if (weekday < 0)
            throw SentenceWords.Wrong(
                whatAt,
                $"'{what}' is not a weekday; write '{Ordinals.Short(ordinal)} sat of month', or 'last working day of month'"
            );
        var months = MonthsOf(words);
        return _ => new OrdinalWeekdayRule(ordinal, (IsoDayOfWeek)(weekday + 1), months);
    }

    private static Months MonthsOf(SentenceWords words)
    {
        words.Expect("of", "then 'month' for every month, or months such as 'jan,jul'");
        var (text, at, parts) = words.Until("at", "from", "until", "except");
        if (text.Length == 0)
            throw SentenceWords.Wrong(
                at,
                "the months are missing; write 'month' for every month, or months such as 'jan,jul' or 'nov-feb'"
            );
        if (Months.TryParse(text, out var months))
            return months;
        var odd = parts.FirstOrDefault(p => p.Text is not ("," or "-") && !Months.TryParse(p.Text, out _));
        throw odd.Text is null
            ? SentenceWords.Wrong(at, $"'{text}' cannot be read as months; write 'jan,jul' or 'nov-feb'")
            : SentenceWords.Wrong(
                odd.Position,
                Nearest.To(odd.Text, Months.Names.Append("month")) is { } near
                    ? $"'{odd.Text}' is not a month; did you mean '{near}'?"
                    : $"'{odd.Text}' is not a month; use jan to dec, or 'month' for every month"
            );
    }

    private static Weekdays WeekdaysOf(SentenceWords words)
    {
        var (text, at, parts) = words.Until("at", "from", "until", "except");
        if (text.Length == 0)
            throw SentenceWords.Wrong(at, $"the weekdays are missing; {Forms}");
        if (Weekdays.TryParse(text, out var days))
            return days;
        foreach (var word in parts.Where(w => w.Text is not ("," or "-")))
        {
            if (Weekdays.TryParse(word.Text, out _))
                continue;
            var near = Nearest.To(word.Text, ["daily", "weekdays", "weekends", .. Weekdays.Names]);
            throw SentenceWords.Wrong(
                word.Position,
                near is null ? $"'{word.Text}' is not a weekday; {Forms}" : $"'{word.Text}' is not a weekday; did you mean '{near}'?"
            );
        }
        throw SentenceWords.Wrong(at, $"'{text}' cannot be read as weekdays; write 'mon-fri' or 'sat,sun'");
    }

    private static ScheduleTail Tail(SentenceWords words)
    {
        LocalDate? from = words.Take("from") ? words.Date() : null;
        var untilAt = words.Here;
        LocalDate? until = words.Take("until") ? words.Date() : null;
        if (until < from)
            throw SentenceWords.Wrong(
                untilAt,
                $"this is never due: it ends on {SentenceWords.Date(until.Value)}, before it begins on {SentenceWords.Date(from!.Value)}"
            );
        var except = new SortedSet<LocalDate>();
        if (words.Take("except"))
        {
            do except.Add(words.Date());
            while (words.Take(","));
        }
        words.End();
        return from is null && until is null && except.Count == 0 ? ScheduleTail.None : new ScheduleTail(from, until, [.. except]);
    }
}
