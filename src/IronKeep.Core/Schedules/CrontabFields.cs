using System.Globalization;

namespace IronKeep.Core.Schedules;

/// <summary>
/// One field of a crontab line: a bit for each value, its canonical text, and whether it repeats by '*', a range or a step.
/// </summary>
internal readonly record struct CrontabField(ulong Mask, string Text, bool IsGrid);

/// <summary>
/// Reads the five fields of a crontab schedule, and '@daily' and its like. Source: POSIX crontab; steps and names as cron programs read
/// them.
/// </summary>
public static class CrontabFields
{
    private sealed record Kind(string Name, int Least, int Most, string[] Words, int FirstWord);

    private static readonly string[] DayNames = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

    private static readonly Kind[] Kinds =
    [
        new("minute", 0, 59, [], 0),
        new("hour", 0, 23, [], 0),
        new("day of the month", 1, 31, [], 0),
        new("month", 1, 12, Months.Names, 1),
        new("weekday", 0, 7, DayNames, 0),
    ];

    private const string Forms =
        "a crontab schedule has five fields: minute, hour, day of the month, month, weekday, such as '15 2 * * 1-5'";

    /// <summary>The short words that stand for five fields.</summary>
    private static readonly Dictionary<string, string> Nicknames = new()
    {
        ["@yearly"] = "0 0 1 1 *",
        ["@annually"] = "0 0 1 1 *",
        ["@monthly"] = "0 0 1 * *",
        ["@weekly"] = "0 0 * * 0",
        ["@daily"] = "0 0 * * *",
        ["@midnight"] = "0 0 * * *",
        ["@hourly"] = "0 * * * *",
    };

    /// <summary>
    /// Whether a text is meant as crontab fields: its first word is made of digits, stars, commas and the like, or begins with '@'.
    /// </summary>
    public static bool LooksLikeOne(string text)
    {
        var first = text.TrimStart();
        first = first[..(first.IndexOfAny([' ', '\t']) is var i and >= 0 ? i : first.Length)];
        return first.StartsWith('@')
            || (
                first.Length > 0
                && first.All(c => char.IsAsciiDigit(c) || "*,/-".Contains(c))
                && (first.Length < 8 || first.Contains('*') || !first.Contains('-'))
            );
    }

    /// <summary>The schedule, or the problem; exactly one of the two is null.</summary>
    public static (Schedule? Schedule, SentenceProblem? Problem) Read(string text)
    {
        try
        {
            return (ReadFields(text), null);
        }
        catch (SentenceException e)
        {
            return (null, new SentenceProblem(e.Position, e.Message));
        }
    }

    private static CrontabSchedule ReadFields(string text)
    {
        var words = Split(text.ToLowerInvariant());
        var line = text;
        if (words is [var (nickname, at), ..] && nickname.StartsWith('@'))
        {
            if (nickname == "@reboot")
                throw new SentenceException(at, "'@reboot' is due when a machine starts, not at a time; give a time such as '@daily'");
            if (words.Count > 1)
                throw new SentenceException(words[1].At, $"'{words[1].Text}' is not expected here; '{nickname}' stands alone");
            line = Nicknames.GetValueOrDefault(nickname)
                ?? throw new SentenceException(at, $"'{nickname}' is not known; use {string.Join(", ", Nicknames.Keys)}");
            words = Split(line);
        }
        if (words.Count != 5)
            throw new SentenceException(
                words.Count > 5 ? words[5].At : line.Length,
                $"there {(words.Count == 1 ? "is 1 field" : $"are {words.Count} fields")}; {Forms}"
            );
        var fields = new CrontabField[5];
        for (var i = 0; i < 5; i++)
            fields[i] = Field(words[i].Text, words[i].At, Kinds[i]);
        var schedule = new CrontabSchedule(fields[0], fields[1], fields[2], fields[3], fields[4]);
        if (!schedule.IsEverDue())
            throw new SentenceException(words[2].At, $"this is never due: no month of '{words[3].Text}' has a day '{words[2].Text}'");
        return schedule;
    }

    private static CrontabField Field(string text, int at, Kind kind)
    {
        ulong mask = 0;
        var grid = false;
        var offset = 0;
        foreach (var part in text.Split(','))
        {
            var place = at + offset;
            offset += part.Length + 1;
            if (part.Length == 0)
                throw new SentenceException(place, $"a value is missing in the {kind.Name} field '{text}'");
            var slash = part.IndexOf('/', StringComparison.Ordinal);
            var range = slash < 0 ? part : part[..slash];
            var step = 1;
            if (
                slash >= 0
                && (
                    !int.TryParse(part.AsSpan(slash + 1), NumberStyles.None, CultureInfo.InvariantCulture, out step)
                    || step == 0
                    || step > kind.Most
                )
            )
                throw new SentenceException(
                    place + slash + 1,
                    $"'{part[(slash + 1)..]}' is not a step of the {kind.Name} field; write a whole number from 1 to {kind.Most}"
                );
            var (first, last) = Range(range, place, kind, slash >= 0);
            for (var value = first; value <= last; value += step)
                mask |= 1UL << value;
            grid |= slash >= 0 || range == "*" || range.Contains('-');
        }
        return new CrontabField(mask, text, grid);
    }

    private static (int First, int Last) Range(string range, int at, Kind kind, bool stepped)
    {
        if (range == "*")
            return (kind.Least, kind.Most == 7 ? 6 : kind.Most);
        var dash = range.IndexOf('-', StringComparison.Ordinal);
        var first = Value(dash < 0 ? range : range[..dash], at, kind);
        if (dash < 0)
            return (
                first,
                stepped
                    ? kind.Most == 7
                        ? 6
                        : kind.Most
                    : first
            );
        var last = Value(range[(dash + 1)..], at + dash + 1, kind);
        // "fri-sun" ends with the Sunday that follows.
        if (kind.Most == 7 && last == 0 && first > 0)
            last = 7;
        if (last < first)
            throw new SentenceException(
                at,
                $"the range '{range}' of the {kind.Name} field runs backwards; write "
                    + $"'{first}-{(kind.Most == 7 ? 6 : kind.Most)},{kind.Least}-{last}'"
            );
        return (first, last);
    }

    private static int Value(string text, int at, Kind kind)
    {
        if (Array.IndexOf(kind.Words, text) is var word and >= 0)
            return word + kind.FirstWord;
        if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var value) && value >= kind.Least && value <= kind.Most)
            return value;
        throw new SentenceException(
            at,
            $"'{text}' is not a value of the {kind.Name} field; write a number from {kind.Least} to "
                + $"{kind.Most}{(kind.Words.Length > 0 ? $" or a name such as '{kind.Words[1]}'" : "")}"
        );
    }

    private static List<(string Text, int At)> Split(string text)
    {
        var words = new List<(string, int)>();
        for (var i = 0; i < text.Length; )
        {
            if (char.IsWhiteSpace(text[i]))
            {
                i++;
                continue;
            }
            var start = i;
            while (i < text.Length && !char.IsWhiteSpace(text[i]))
                i++;
            words.Add((text[start..i], start));
        }
        return words;
    }
}
