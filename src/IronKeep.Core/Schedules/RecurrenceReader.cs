using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Reads "DTSTART:20260601T230000 RRULE:FREQ=WEEKLY;BYDAY=MO,WE", the two in either order, apart by white space. All parts of
/// RFC 5545, section 3.3.10, but BYSECOND: the finest interval is a minute.
/// </summary>
public static class RecurrenceReader
{
    private const string Forms = "write 'DTSTART:20260601T230000 RRULE:FREQ=WEEKLY;BYDAY=MO,WE'";
    private static readonly string[] WeekdayCodes = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
    private static readonly string[] PartNames =
    [
        "FREQ",
        "INTERVAL",
        "COUNT",
        "UNTIL",
        "WKST",
        "BYMONTH",
        "BYWEEKNO",
        "BYYEARDAY",
        "BYMONTHDAY",
        "BYDAY",
        "BYHOUR",
        "BYMINUTE",
        "BYSETPOS",
    ];
    private static readonly LocalDateTimePattern StartPattern = LocalDateTimePattern.CreateWithInvariantCulture("uuuuMMdd'T'HHmmss");
    private static readonly LocalDatePattern DatePattern = LocalDatePattern.CreateWithInvariantCulture("uuuuMMdd");

    /// <summary>Whether a text is meant as a recurrence rule.</summary>
    public static bool LooksLikeOne(string text)
    {
        var start = text.AsSpan().TrimStart();
        return start.StartsWith("RRULE", StringComparison.OrdinalIgnoreCase)
            || start.StartsWith("DTSTART", StringComparison.OrdinalIgnoreCase)
            || start.StartsWith("FREQ=", StringComparison.OrdinalIgnoreCase);
    }

    /// <summary>The schedule, or the problem; exactly one of the two is null.</summary>
    public static (Schedule? Schedule, SentenceProblem? Problem) Read(string text)
    {
        try
        {
            return (ReadLines(text), null);
        }
        catch (SentenceException e)
        {
            return (null, new SentenceProblem(e.Position, e.Message));
        }
    }

    private static RecurrenceSchedule ReadLines(string text)
    {
        (string Text, int At)? start = null,
            rule = null;
        var at = 0;
        foreach (var line in text.Split([' ', '\t', '\r', '\n']))
        {
            var upper = line.ToUpperInvariant();
            if (upper.StartsWith("DTSTART", StringComparison.Ordinal))
            {
                if (start is not null)
                    throw Wrong(at, "there are two starts; keep one DTSTART");
                start = (line, at);
            }
            else if (upper.StartsWith("RRULE:", StringComparison.Ordinal) || upper.StartsWith("FREQ=", StringComparison.Ordinal))
            {
                if (rule is not null)
                    throw Wrong(at, "there are two rules; give each a job of its own");
                var skip = upper.StartsWith('R') ? "RRULE:".Length : 0;
                rule = (upper[skip..], at + skip);
            }
            else if (line.Length > 0)
                throw Wrong(at, $"'{line}' is not expected here; {Forms}");
            at += line.Length + 1;
        }
        if (rule is null)
            throw Wrong(text.Length, $"the rule is missing; {Forms}");
        if (start is null)
            throw Wrong(text.Length, $"a recurrence rule needs its start; {Forms}");
        var (local, zone) = ReadStart(start.Value.Text, start.Value.At);
        var parts = ReadRule(rule.Value.Text, rule.Value.At);
        var canonical =
            $"DTSTART{(zone is null ? "" : zone == "UTC" ? "" : $";TZID={zone}")}:{StartPattern.Format(local)}{(zone == "UTC" ? "Z" : "")} "
            + $"RRULE:{rule.Value.Text}";
        var schedule = new RecurrenceSchedule(local, zone, parts, canonical);
        if (!schedule.IsEverDue())
            throw Wrong(rule.Value.At, $"this is never due from {SentenceWords.Date(local.Date)} on: no date fits every part of the rule");
        return schedule;
    }

    private static (LocalDateTime, string?) ReadStart(string text, int at)
    {
        var colon = text.LastIndexOf(':');
        if (colon < 0)
            throw Wrong(at, $"DTSTART has no value; {Forms}");
        string? zone = null;
        foreach (var parameter in text[..colon].Split(';').Skip(1))
        {
            if (parameter.StartsWith("TZID=", StringComparison.OrdinalIgnoreCase))
                zone = parameter["TZID=".Length..];
            else if (!parameter.StartsWith("VALUE=DATE", StringComparison.OrdinalIgnoreCase))
                throw Wrong(at, $"'{parameter}' is not known here; DTSTART takes TZID and VALUE");
        }
        var value = text[(colon + 1)..].ToUpperInvariant();
        if (value.EndsWith('Z'))
            (zone, value) = ("UTC", value[..^1]);
        if (!value.Contains('T'))
            value += "T000000";
        var read = StartPattern.Parse(value);
        if (!read.Success || read.Value.Year is < 1900 or > 9000)
            throw Wrong(
                at + colon + 1,
                $"'{text[(colon + 1)..]}' is not a start; write year, month, day, T, hour, minute, second: 20260601T230000"
            );
        if (read.Value.Second != 0)
            throw Wrong(at + colon + 1, "the start has seconds; the finest interval is one minute, so end it with 00");
        return (read.Value, zone);
    }

    private static RuleParts ReadRule(string text, int at)
    {
        var parts = new Dictionary<string, (string Value, int At)>();
        foreach (var part in text.TrimEnd(';').Split(';'))
        {
            var equals = part.IndexOf('=', StringComparison.Ordinal);
            if (equals <= 0 || equals == part.Length - 1)
                throw Wrong(at, $"'{part}' is not a part of a rule; write NAME=VALUE, such as BYDAY=MO,WE");
            var name = part[..equals];
            if (name == "BYSECOND")
                throw Wrong(at, "BYSECOND cannot be used: the finest interval is one minute");
            if (!PartNames.Contains(name))
                throw Wrong(
                    at,
                    Nearest.To(name, PartNames) is { } near
                        ? $"there is no part '{name}'; did you mean {near}?"
                        : $"there is no part '{name}'; the parts are {string.Join(", ", PartNames)}"
                );
            if (!parts.TryAdd(name, (part[(equals + 1)..], at + equals + 1)))
                throw Wrong(at, $"{name} stands twice; keep one");
            at += part.Length + 1;
        }
        if (!parts.TryGetValue("FREQ", out var freq))
            throw Wrong(at, "FREQ is missing; begin the rule with FREQ=DAILY, say");
        if (freq.Value == "SECONDLY")
            throw Wrong(freq.At, "SECONDLY cannot be used: the finest interval is one minute");
        if (!Enum.TryParse<Frequency>(freq.Value, ignoreCase: true, out var frequency) || char.IsAsciiDigit(freq.Value[0]))
            throw Wrong(freq.At, $"'{freq.Value}' is not a frequency; use YEARLY, MONTHLY, WEEKLY, DAILY, HOURLY or MINUTELY");
        var rule = new RuleParts(frequency)
        {
            Interval = Numbers(parts, "INTERVAL", 1, 100_000, false) is [var interval, ..] ? interval : 1,
            Count = Numbers(parts, "COUNT", 1, 1_000_000, false) is [var count, ..] ? count : null,
            Months = Numbers(parts, "BYMONTH", 1, 12, false),
            Weeks = Numbers(parts, "BYWEEKNO", 1, 53, true),
            YearDays = Numbers(parts, "BYYEARDAY", 1, 366, true),
            MonthDays = Numbers(parts, "BYMONTHDAY", 1, 31, true),
            Days = Days(parts),
            Hours = Numbers(parts, "BYHOUR", 0, 23, false),
            Minutes = Numbers(parts, "BYMINUTE", 0, 59, false),
            Positions = Numbers(parts, "BYSETPOS", 1, 366 * 24, true),
            WeekStart = parts.TryGetValue("WKST", out var wkst) ? Weekday(wkst.Value, wkst.At) : 0,
        };
        if (parts.TryGetValue("UNTIL", out var until))
            rule = Until(rule, until.Value, until.At);
        Check(rule, parts);
        return rule;
    }

    private static void Check(RuleParts rule, Dictionary<string, (string Value, int At)> parts)
    {
        var f = rule.Frequency;
        Refuse("UNTIL", rule.Count is not null, "and COUNT both end the rule; keep one of them");
        Refuse("BYWEEKNO", f != Frequency.Yearly, "goes with FREQ=YEARLY only");
        Refuse(
            "BYYEARDAY",
            f is Frequency.Monthly or Frequency.Weekly or Frequency.Daily,
            $"does not go with FREQ={f.ToString().ToUpperInvariant()}"
        );
        Refuse("BYMONTHDAY", f == Frequency.Weekly, "does not go with FREQ=WEEKLY");
        var ordinals = rule.Days.Any(d => d.Ordinal != 0);
        Refuse(
            "BYDAY",
            ordinals && f is not (Frequency.Monthly or Frequency.Yearly),
            "takes numbers such as 1MO with FREQ=MONTHLY and YEARLY only"
        );
        Refuse("BYDAY", ordinals && rule.Weeks.Length > 0, "takes no numbers beside BYWEEKNO");
        Refuse(
            "BYDAY",
            rule.Days.Any(d => Math.Abs(d.Ordinal) > 5) && (f == Frequency.Monthly || rule.Months.Length > 0),
            "goes from 1 to 5 within a month"
        );
        Refuse(
            "BYSETPOS",
            !parts.Keys.Any(k => k.StartsWith("BY", StringComparison.Ordinal) && k != "BYSETPOS"),
            "picks among what other BY parts give; add one of them"
        );

        void Refuse(string name, bool wrong, string why)
        {
            if (wrong && parts.TryGetValue(name, out var part))
                throw Wrong(part.At, $"{name} {why}");
        }
    }

    private static RuleParts Until(RuleParts rule, string value, int at)
    {
        var utc = value.EndsWith('Z');
        var text = utc ? value[..^1] : value;
        if (DatePattern.Parse(text) is { Success: true } date)
            return rule with { Until = date.Value.At(new LocalTime(23, 59)) };
        var read = StartPattern.Parse(text);
        if (!read.Success)
            throw Wrong(at, $"'{value}' is not an end; write 20270601, 20270601T230000 or 20270601T220000Z");
        return utc ? rule with { UntilInstant = read.Value.InUtc().ToInstant() } : rule with { Until = read.Value };
    }

    private static ImmutableArray<int> Numbers(
        Dictionary<string, (string Value, int At)> parts,
        string name,
        int least,
        int most,
        bool negative
    )
    {
        if (!parts.TryGetValue(name, out var part))
            return [];
        var numbers = new SortedSet<int>();
        foreach (var text in part.Value.Split(','))
        {
            if (
                !int.TryParse(
                    text,
                    negative ? NumberStyles.AllowLeadingSign : NumberStyles.None,
                    CultureInfo.InvariantCulture,
                    out var number
                )
                || Math.Abs(number) < least
                || Math.Abs(number) > most
            )
                throw Wrong(
                    part.At,
                    $"'{text}' does not go with {name}; write numbers from {least} to "
                        + $"{most}{(negative ? $" or from -{most} to -{least}" : "")}"
                );
            numbers.Add(number);
        }
        return [.. numbers];
    }

    private static ImmutableArray<RuleDay> Days(Dictionary<string, (string Value, int At)> parts)
    {
        if (!parts.TryGetValue("BYDAY", out var part))
            return [];
        var days = new List<RuleDay>();
        foreach (var text in part.Value.Split(','))
        {
            var weekday =
                text.Length >= 2
                    ? Weekday(text[^2..], part.At)
                    : throw Wrong(
                        part.At,
                        $"'{text}' is not a weekday; use MO, TU, WE, TH, FR, SA, SU, with a number before it where one is meant"
                    );
            var ordinal = 0;
            if (
                text.Length > 2
                && (
                    !int.TryParse(text[..^2], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out ordinal)
                    || ordinal == 0
                    || Math.Abs(ordinal) > 53
                )
            )
                throw Wrong(
                    part.At,
                    $"'{text}' is not a weekday with its number; write 1MO for the first Monday, -1FR for the last Friday"
                );
            days.Add(new RuleDay(ordinal, weekday));
        }
        return [.. days];
    }

    private static int Weekday(string code, int at) =>
        Array.IndexOf(WeekdayCodes, code) is var i and >= 0
            ? i
            : throw Wrong(at, $"'{code}' is not a weekday; use {string.Join(", ", WeekdayCodes)}");

    private static SentenceException Wrong(int at, string message) => new(at, message);
}
