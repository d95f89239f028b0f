namespace IronKeep.Core.Schedules;

/// <summary>
/// Expands a recurrence rule date by date. Each period of the rule (year, month, week, day) is expanded once and remembered while
/// its dates are asked for. Source: RFC 5545, section 3.3.10, its table of expansions and limits.
/// </summary>
internal sealed class RecurrenceDays : DayTimes
{
    private readonly RecurrenceSchedule schedule;
    private readonly RuleParts rule;
    private readonly int startDay;
    private readonly Civil start;
    private readonly int[] times;
    private readonly bool noDayPart;
    private long period = long.MinValue;
    private readonly Dictionary<int, int[]> ofPeriod = [];

    public RecurrenceDays(RecurrenceSchedule schedule)
    {
        this.schedule = schedule;
        rule = schedule.Rule;
        startDay = Civil.ToDay(schedule.Start.Date);
        start = Civil.Of(startDay);
        int[] hours = rule.Hours.Length > 0 ? [.. rule.Hours] : [schedule.Start.Hour];
        int[] minutes = rule.Minutes.Length > 0 ? [.. rule.Minutes] : [schedule.Start.Minute];
        times = [.. from h in hours from m in minutes select h * 60 + m];
        noDayPart = rule is { Weeks.Length: 0, YearDays.Length: 0, MonthDays.Length: 0, Days.Length: 0 };
    }

    public override int[] On(int day)
    {
        if (day < startDay)
            return [];
        var found = rule.Frequency >= Frequency.Hourly ? WithinDay(day) : WithinPeriod(day);
        if (found.Length == 0)
            return found;
        var first = day * 1440L;
        if (first >= schedule.FirstMinute && first + 1439 <= schedule.LastMinute)
            return found;
        return [.. found.Where(m => first + m >= schedule.FirstMinute && first + m <= schedule.LastMinute)];
    }

    private int[] WithinPeriod(int day)
    {
        var date = Civil.Of(day);
        var key = PeriodOf(day, date);
        if (key % rule.Interval != 0)
            return [];
        if (rule.Positions.Length == 0)
            return Fits(day, date) ? times : [];
        if (key != period)
            Expand(key, day, date);
        return ofPeriod.GetValueOrDefault(day) ?? [];
    }

    /// <summary>The number of the period that a date lies in, counted from the start's.</summary>
    private long PeriodOf(int day, Civil date) =>
        rule.Frequency switch
        {
            Frequency.Yearly => YearOf(day, date) - YearOf(startDay, start),
            Frequency.Monthly => (date.Year - start.Year) * 12L + date.Month - start.Month,
            Frequency.Weekly => (WeekStartOf(day) - WeekStartOf(startDay)) / 7,
            _ => day - startDay,
        };

    // A rule by week numbers goes by the year that the week belongs to.
    private int YearOf(int day, Civil date)
    {
        if (rule.Weeks.Length == 0)
            return date.Year;
        return Civil.Of(WeekStartOf(day) + 3).Year;
    }

    private int WeekStartOf(int day) => day - (Civil.Weekday(day) - rule.WeekStart + 7) % 7;

    private bool Fits(int day, Civil date)
    {
        if (rule.Months.Length > 0 && !rule.Months.Contains(date.Month))
            return false;
        if (noDayPart)
        {
            return rule.Frequency switch
            {
                Frequency.Yearly => date.Day == start.Day && (rule.Months.Length > 0 || date.Month == start.Month),
                Frequency.Monthly => date.Day == start.Day,
                Frequency.Weekly => Civil.Weekday(day) == Civil.Weekday(startDay),
                _ => true,
            };
        }
        if (rule.Weeks.Length > 0 && !FitsWeek(day))
            return false;
        if (rule.YearDays.Length > 0)
        {
            var ofYear = day - Civil.ToDay(date.Year, 1, 1) + 1;
            if (!Contains(rule.YearDays, ofYear, (Civil.IsLeap(date.Year) ? 366 : 365) + 1))
                return false;
        }
        if (rule.MonthDays.Length > 0 && !Contains(rule.MonthDays, date.Day, Civil.DaysIn(date.Year, date.Month) + 1))
            return false;
        if (rule.Days.Length > 0)
            return FitsWeekday(day, date);
        // A week number alone says nothing of the weekday: it is the start's.
        return rule.Weeks.Length == 0
            || rule.YearDays.Length > 0
            || rule.MonthDays.Length > 0
            || Civil.Weekday(day) == Civil.Weekday(startDay);
    }

    // Negative values count from the end.
    private static bool Contains(System.Collections.Immutable.ImmutableArray<int> values, int value, int afterLast) =>
        values.Contains(value) || values.Contains(value - afterLast);

    private bool FitsWeek(int day)
    {
        var first = WeekStartOf(day);
        var year = Civil.Of(first + 3).Year;
        var week = (first - FirstWeekOf(year)) / 7 + 1;
        var weeks = (FirstWeekOf(year + 1) - FirstWeekOf(year)) / 7;
        return Contains(rule.Weeks, week, weeks + 1);
    }

    // The first week of a year is the first with at least four days in it: the one that January 4 lies in.
    private int FirstWeekOf(int year) => WeekStartOf(Civil.ToDay(year, 1, 4));

    private bool FitsWeekday(int day, Civil date)
    {
        var weekday = Civil.Weekday(day);
        var byYear = rule.Frequency == Frequency.Yearly && rule.Months.Length == 0;
        foreach (var (ordinal, wanted) in rule.Days)
        {
            if (wanted != weekday)
                continue;
            if (ordinal == 0)
                return true;
            var (at, length) = byYear
                ? (day - Civil.ToDay(date.Year, 1, 1), Civil.IsLeap(date.Year) ? 366 : 365)
                : (date.Day - 1, Civil.DaysIn(date.Year, date.Month));
            if (ordinal > 0 ? at / 7 + 1 == ordinal : (length - 1 - at) / 7 + 1 == -ordinal)
                return true;
        }
        return false;
    }

    /// <summary>Works out the positions (BYSETPOS) of the whole period around a date.</summary>
    private void Expand(long key, int day, Civil date)
    {
        period = key;
        ofPeriod.Clear();
        var (first, last) = rule.Frequency switch
        {
            Frequency.Yearly when rule.Weeks.Length > 0 => (
                Civil.ToDay(YearOf(day, date) - 1, 12, 25),
                Civil.ToDay(YearOf(day, date) + 1, 1, 7)
            ),
            Frequency.Yearly => (Civil.ToDay(date.Year, 1, 1), Civil.ToDay(date.Year, 12, 31)),
            Frequency.Monthly => (day - date.Day + 1, day - date.Day + Civil.DaysIn(date.Year, date.Month)),
            Frequency.Weekly => (WeekStartOf(day), WeekStartOf(day) + 6),
            _ => (day, day),
        };
        var days = new List<int>();
        for (var other = first; other <= last; other++)
        {
            var civil = Civil.Of(other);
            if (PeriodOf(other, civil) == key && Fits(other, civil))
                days.Add(other);
        }
        var picked = new SortedSet<(int Day, int Minute)>();
        var total = days.Count * times.Length;
        foreach (var position in rule.Positions)
        {
            var index = position > 0 ? position - 1 : total + position;
            if (index >= 0 && index < total)
                picked.Add((days[index / times.Length], times[index % times.Length]));
        }
        foreach (var group in picked.GroupBy(p => p.Day))
            ofPeriod[group.Key] = [.. group.Select(p => p.Minute)];
    }

    /// <summary>Rules by the hour or minute: every part only limits, but for the minutes of an hour.</summary>
    private int[] WithinDay(int day)
    {
        var date = Civil.Of(day);
        if (!Fits(day, date))
            return [];
        var found = new List<int>();
        for (var hour = 0; hour < 24; hour++)
        {
            if (rule.Hours.Length > 0 && !rule.Hours.Contains(hour))
                continue;
            if (rule.Frequency == Frequency.Hourly)
            {
                if (((day - startDay) * 24L + hour - schedule.Start.Hour) % rule.Interval != 0)
                    continue;
                int[] minutes = rule.Minutes.Length > 0 ? [.. rule.Minutes] : [schedule.Start.Minute];
                foreach (var (minute, i) in minutes.Select((m, i) => (m, i)))
                    if (rule.Positions.Length == 0 || Contains(rule.Positions, i + 1, minutes.Length + 1))
                        found.Add(hour * 60 + minute);
                continue;
            }
            for (var minute = 0; minute < 60; minute++)
            {
                if (rule.Minutes.Length > 0 && !rule.Minutes.Contains(minute))
                    continue;
                if ((day * 1440L + hour * 60 + minute - schedule.FirstMinute) % rule.Interval != 0)
                    continue;
                if (rule.Positions.Length == 0 || Contains(rule.Positions, 1, 2))
                    found.Add(hour * 60 + minute);
            }
        }
        return [.. found];
    }
}
