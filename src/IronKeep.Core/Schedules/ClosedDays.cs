using System.Collections.Immutable;
using System.Globalization;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// A calendar of closed days: single dates, spans of dates, and dates that come every year ("dec 25"). Local dates, no zone.
/// Working days are Monday to Friday less these.
/// </summary>
public sealed class ClosedDays : IEquatable<ClosedDays>
{
    private readonly HashSet<int> days = [];
    private readonly HashSet<(int Month, int Day)> yearly = [];
    private readonly List<(int First, int Last)> spans = [];

    private ClosedDays(ImmutableArray<string> entries) => Entries = entries;

    /// <summary>The entries as they were written, each in its canonical form.</summary>
    public ImmutableArray<string> Entries { get; }

    /// <summary>The longest span of dates that one entry may close.</summary>
    public const int LongestSpan = 366;

    /// <summary>
    /// Reads entries "2026-12-25", "2026-12-24 to 2027-01-02" and "dec 25". Mistakes come with the index of their entry.
    /// </summary>
    public static (ClosedDays Calendar, IReadOnlyList<(int Entry, string Message)> Problems) Read(IReadOnlyList<string> entries)
    {
        var calendar = new ClosedDays([
            .. entries.Select(e => string.Join(' ', e.ToLowerInvariant().Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))),
        ]);
        var problems = new List<(int, string)>();
        for (var i = 0; i < entries.Count; i++)
            if (calendar.Add(calendar.Entries[i]) is { } problem)
                problems.Add((i, problem));
        return (calendar, problems);
    }

    public bool IsClosed(LocalDate date) => IsClosed(Civil.ToDay(date));

    internal bool IsClosed(int day)
    {
        if (days.Contains(day))
            return true;
        foreach (var (first, last) in spans)
            if (day >= first && day <= last)
                return true;
        if (yearly.Count == 0)
            return false;
        var civil = Civil.Of(day);
        return yearly.Contains((civil.Month, civil.Day));
    }

    public bool Equals(ClosedDays? other) => other is not null && Entries.SequenceEqual(other.Entries);

    public override bool Equals(object? obj) => Equals(obj as ClosedDays);

    public override int GetHashCode() => Entries.Aggregate(0, HashCode.Combine);

    private string? Add(string entry)
    {
        var words = entry.Split(' ');
        switch (words)
        {
            case [var month, var number] when Array.IndexOf(Months.Names, month) is var m and >= 0:
                if (
                    !int.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var day)
                    || day < 1
                    || day > Civil.DaysIn(2028, m + 1)
                )
                    return $"there is no '{entry}'; write a month and a day of it, such as 'dec 25'";
                yearly.Add((m + 1, day));
                return null;
            case [var date]:
                if (Date(date, out var one) is { } wrong)
                    return wrong;
                days.Add(one);
                return null;
            case [var from, "to", var to]:
                if ((Date(from, out var first) ?? Date(to, out _)) is { } bad)
                    return bad;
                _ = Date(to, out var last);
                if (last < first)
                    return $"'{entry}' ends before it begins; turn the dates round";
                if (last - first >= LongestSpan)
                    return $"'{entry}' closes {last - first + 1} days; a span is at most {LongestSpan} days";
                spans.Add((first, last));
                return null;
            default:
                return $"'{entry}' is not a closed day; write a date such as 2026-12-25, a span such as '2026-12-24 to 2027-01-02', or a "
                    + $"day of every year such as 'dec 25'";
        }
    }

    private static string? Date(string text, out int day)
    {
        if (SentenceWords.TryDate(text, out var date, out var problem))
            day = Civil.ToDay(date);
        else
            day = 0;
        return problem;
    }
}
