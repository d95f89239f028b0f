using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Which local dates a schedule looks at: the DAYS part of a sentence. Also says which nights a rotation group serves. Equality is
/// by meaning as far as the words go. Source: docs/semantics.md, section 1 (Schedules).
/// </summary>
public abstract record DayRule
{
    /// <summary>Whether the rule takes this date; <paramref name="closed"/> matters to working days only.</summary>
    public bool Includes(LocalDate date, ClosedDays? closed = null) => Includes(Civil.ToDay(date), closed);

    internal abstract bool Includes(int day, ClosedDays? closed);

    /// <summary>The first date of the rule's own, before which nothing is due; null: none.</summary>
    internal virtual int? Anchor => null;

    /// <summary>The rule as words that <see cref="ScheduleSentence.ReadDays"/> reads back.</summary>
    public string ToSentence() => ToString() + (Anchor is { } anchor ? $" from {SentenceWords.Date(Civil.ToDate(anchor))}" : "");
}

/// <summary>Certain days of the week.</summary>
public sealed record WeekdayRule(Weekdays Days) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed) => Days.ContainsDay(day);

    public override string ToString() => Days.ToString();
}

/// <summary>Every so many days from an anchor date on.</summary>
public sealed record EveryDaysRule(int Count, LocalDate From) : DayRule
{
    private readonly int anchor = Civil.ToDay(From);
    internal override int? Anchor => anchor;

    internal override bool Includes(int day, ClosedDays? closed) => day >= anchor && (day - anchor) % Count == 0;

    public override string ToString() => $"every {Count} days";
}

/// <summary>Certain weekdays of every so many ISO weeks, counted from the week of the anchor date; nothing before the anchor.</summary>
public sealed record EveryWeeksRule(int Count, Weekdays Days, LocalDate From) : DayRule
{
    private readonly int anchor = Civil.ToDay(From);
    internal override int? Anchor => anchor;

    internal override bool Includes(int day, ClosedDays? closed) =>
        day >= anchor && Days.ContainsDay(day) && (Civil.Week(day) - Civil.Week(anchor)) % Count == 0;

    public override string ToString() => $"every {Count} weeks on {Days}";
}

/// <summary>The n-th weekday of a month, or (<paramref name="Ordinal"/> 0) the last. A fifth that does not exist is not due.</summary>
public sealed record OrdinalWeekdayRule(int Ordinal, IsoDayOfWeek Weekday, Months Of) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed)
    {
        if (Civil.Weekday(day) != (int)Weekday - 1)
            return false;
        var date = Civil.Of(day);
        if (!Of.Contains(date.Month))
            return false;
        return Ordinal == 0 ? date.Day + 7 > Civil.DaysIn(date.Year, date.Month) : (date.Day - 1) / 7 + 1 == Ordinal;
    }

    public override string ToString() => $"{Ordinals.Short(Ordinal)} {Weekdays.Names[(int)Weekday - 1]} of {Of}";
}

/// <summary>Certain days of the month; with <paramref name="OrLast"/> a day that a month lacks is its last day instead.</summary>
public sealed record MonthDayRule(ImmutableArray<int> Days, bool OrLast, Months Of) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed)
    {
        var date = Civil.Of(day);
        if (!Of.Contains(date.Month))
            return false;
        if (Days.Contains(date.Day))
            return true;
        return OrLast && Days[^1] > date.Day && date.Day == Civil.DaysIn(date.Year, date.Month);
    }

    public bool Equals(MonthDayRule? other) =>
        other is not null && OrLast == other.OrLast && Of == other.Of && Days.SequenceEqual(other.Days);

    public override int GetHashCode() => Days.Aggregate(Of.GetHashCode(), HashCode.Combine);

    public override string ToString() => $"day {string.Join(",", Days)}{(OrLast ? " or last" : "")} of {Of}";
}

/// <summary>The last day of the month.</summary>
public sealed record LastDayRule(Months Of) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed)
    {
        var date = Civil.Of(day);
        return Of.Contains(date.Month) && date.Day == Civil.DaysIn(date.Year, date.Month);
    }

    public override string ToString() => $"last day of {Of}";
}

/// <summary>The first or last working day of a month: Monday to Friday, not closed. A month that is all closed has none.</summary>
public sealed record WorkingDayRule(bool First, Months Of) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed)
    {
        if (!Works(day, closed))
            return false;
        var date = Civil.Of(day);
        if (!Of.Contains(date.Month))
            return false;
        var (from, to) = First ? (day - date.Day + 1, day - 1) : (day + 1, day + Civil.DaysIn(date.Year, date.Month) - date.Day);
        for (var other = from; other <= to; other++)
            if (Works(other, closed))
                return false;
        return true;
    }

    private static bool Works(int day, ClosedDays? closed) => Civil.Weekday(day) < 5 && closed?.IsClosed(day) != true;

    public override string ToString() => $"{(First ? "first" : "last")} working day of {Of}";
}

/// <summary>One date of every year; feb 29 comes in leap years only.</summary>
public sealed record YearlyRule(int Month, int Day) : DayRule
{
    internal override bool Includes(int day, ClosedDays? closed)
    {
        var date = Civil.Of(day);
        return date.Month == Month && date.Day == Day;
    }

    public override string ToString() => $"yearly on {Months.Names[Month - 1]} {Day}";
}

/// <summary>Ordinal words; 0 stands for the last.</summary>
internal static class Ordinals
{
    private static readonly string[] Words = ["last", "first", "second", "third", "fourth", "fifth"];
    private static readonly string[] Shorts = ["last", "1st", "2nd", "3rd", "4th", "5th"];

    public static string Short(int ordinal) => Shorts[ordinal];

    public static int? Read(string word) =>
        Array.IndexOf(Words, word) is var i and >= 0 ? i
        : Array.IndexOf(Shorts, word) is var j and >= 0 ? j
        : null;
}
