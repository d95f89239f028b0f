using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Dates as plain day numbers (days since 1970-01-01, proleptic Gregorian), for loops that look at millions of them.
/// </summary>
internal readonly record struct Civil(int Year, int Month, int Day)
{
    private static readonly LocalDate Epoch = new(1970, 1, 1);

    /// <summary>The last day number that the calendar reaches, with room for arithmetic: 9998-12-31.</summary>
    public static readonly int LastDay = ToDay(9998, 12, 31);

    public static int ToDay(LocalDate date) => ToDay(date.Year, date.Month, date.Day);

    public static LocalDate ToDate(int day) => Epoch.PlusDays(day);

    /// <summary>The day number of a date; years count from March, so that a leap day ends its year.</summary>
    public static int ToDay(int year, int month, int day)
    {
        var y = month <= 2 ? year - 1 : year;
        var era = (y >= 0 ? y : y - 399) / 400;
        var yearOfEra = y - era * 400;
        var dayOfYear = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
        return era * 146_097 + yearOfEra * 365 + yearOfEra / 4 - yearOfEra / 100 + dayOfYear - 719_468;
    }

    public static Civil Of(int day)
    {
        var z = day + 719_468;
        var era = (z >= 0 ? z : z - 146_096) / 146_097;
        var dayOfEra = z - era * 146_097;
        var yearOfEra = (dayOfEra - dayOfEra / 1460 + dayOfEra / 36_524 - dayOfEra / 146_096) / 365;
        var dayOfYear = dayOfEra - (365 * yearOfEra + yearOfEra / 4 - yearOfEra / 100);
        var m = (5 * dayOfYear + 2) / 153;
        var month = m < 10 ? m + 3 : m - 9;
        return new Civil(yearOfEra + era * 400 + (month <= 2 ? 1 : 0), month, dayOfYear - (153 * m + 2) / 5 + 1);
    }

    /// <summary>0 for Monday to 6 for Sunday.</summary>
    public static int Weekday(int day) => ((day + 3) % 7 + 7) % 7;

    /// <summary>A number of the ISO week that a day lies in; it grows by one every Monday.</summary>
    public static int Week(int day) => (int)Math.Floor((day + 3) / 7.0);

    public static bool IsLeap(int year) => year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);

    public static int DaysIn(int year, int month) =>
        month == 2
            ? IsLeap(year)
                ? 29
                : 28
            : month is 4 or 6 or 9 or 11
                ? 30
                : 31;
}
