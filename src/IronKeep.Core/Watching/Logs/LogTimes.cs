using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using NodaTime;
using NodaTime.TimeZones;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// Reads the times of log lines: RFC 3339, the same with a space and with or without an offset, the form of syslog without a year, seconds
/// since 1970, and a form of the rules' own. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public sealed class LogTimes
{
    private const string Iso =
        "(?<y>[0-9]{4})-(?<M>[0-9]{2})-(?<d>[0-9]{2})[Tt ](?<H>[0-9]{2}):(?<m>[0-9]{2}):(?<s>[0-9]{2})(?:[.,](?<f>[0-9]+))?(?: "
        + "?(?<z>[Zz]|[+-][0-9]{2}:?[0-9]{2}))?";
    private const string Syslog = "(?<N>[A-Za-z]{3}) (?<d>[ 0-9][0-9]) (?<H>[0-9]{2}):(?<m>[0-9]{2}):(?<s>[0-9]{2})";
    private const string Seconds = "(?<e>[0-9]{9,11})(?:\\.(?<f>[0-9]+))?";
    private static readonly string[] Months = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
    private readonly Regex[] forms;

    private LogTimes(string? own)
    {
        string[] all = own is null ? [Iso, Syslog, Seconds] : [own, Iso, Syslog, Seconds];
        forms = [.. all.Select(f => new Regex($"^(?:{f})$", RegexOptions.NonBacktracking | RegexOptions.CultureInvariant))];
        Pattern = "(?:" + string.Join('|', all.Select(f => Regex.Replace(f, "\\(\\?<[A-Za-z]>", "(?:"))) + ")";
    }

    /// <summary>The forms that need no telling.</summary>
    public static LogTimes Usual { get; } = new(null);

    /// <summary>The forms as one regular expression without names.</summary>
    internal string Pattern { get; }

    /// <summary>Reads a form such as "dd.MM.yyyy HH:mm:ss"; exactly one of the answers is null.</summary>
    public static (LogTimes? Times, string? Problem) Read(string form)
    {
        var text = new StringBuilder();
        var seen = new HashSet<char>();
        for (var i = 0; i < form.Length; )
        {
            var c = form[i];
            var run = 1;
            while (i + run < form.Length && form[i + run] == c)
                run++;
            i += run;
            if (!char.IsAsciiLetter(c))
            {
                text.Append(char.IsWhiteSpace(c) ? "\\s+" : Regex.Escape(new string(c, run)));
                continue;
            }
            if (c == 'T' && run == 1)
            {
                text.Append('T');
                continue;
            }
            var part = (c, run) switch
            {
                ('y', 4) => "(?<y>[0-9]{4})",
                ('y', 2) => "(?<y>[0-9]{2})",
                ('M', 2) => "(?<M>[0-9]{2})",
                ('M', 1) => "(?<M>[0-9]{1,2})",
                ('M', 3) => "(?<N>[A-Za-z]{3})",
                ('d', 2) => "(?<d>[0-9]{2})",
                ('d', 1) => "(?<d>[0-9]{1,2})",
                ('H', 2) => "(?<H>[0-9]{2})",
                ('H', 1) => "(?<H>[0-9]{1,2})",
                ('m', 2) => "(?<m>[0-9]{2})",
                ('s', 2) => "(?<s>[0-9]{2})",
                ('f', _) => "(?<f>[0-9]+)",
                ('z', _) => "(?<z>[Zz]|[+-][0-9]{2}:?[0-9]{2})",
                _ => null,
            };
            if (part is null || !seen.Add(c))
                return (
                    null,
                    $"'{new string(c, run)}' is no part of a time; write it with yyyy, MM or MMM, dd, HH, mm, ss, fff and zzz, such as "
                        + $"'dd.MM.yyyy HH:mm:ss'"
                );
            text.Append(part);
        }
        if (!seen.IsSupersetOf("dMHm"))
            return (
                null,
                $"'{form}' leaves out the day, the month, the hour or the minute; write all of them, such as 'dd.MM.yyyy HH:mm:ss'"
            );
        return (new LogTimes(text.ToString()), null);
    }

    /// <summary>
    /// The instant that a text says; null when it says none. A text without a year is of the last year in which it is not later than
    /// <paramref name="now"/> by more than a day. Of a local time that comes twice the one is meant that is not before
    /// <paramref name="after"/>; one that is left out is the first instant behind the gap.
    /// </summary>
    public Instant? ReadAt(string text, DateTimeZone zone, Instant now, Instant? after)
    {
        foreach (var form in forms)
        {
            if (form.Match(text.Trim()) is not { Success: true } match)
                continue;
            try
            {
                return Of(match, zone, now, after);
            }
            catch (ArgumentOutOfRangeException)
            {
                // The thirteenth month, or the thirtieth of February.
                return null;
            }
        }
        return null;
    }

    private static Instant? Of(Match match, DateTimeZone zone, Instant now, Instant? after)
    {
        var fraction = Text(match, "f") is { } f ? long.Parse(f.PadRight(9, '0')[..9], CultureInfo.InvariantCulture) : 0;
        if (Text(match, "e") is { } seconds)
            return Instant.FromUnixTimeSeconds(long.Parse(seconds, CultureInfo.InvariantCulture)).PlusNanoseconds(fraction);
        var month = Text(match, "N") is { } name ? Array.IndexOf(Months, name.ToLowerInvariant()) + 1 : Number(match, "M");
        var (day, time) = (
            Number(match, "d"),
            new LocalTime(Number(match, "H"), Number(match, "m"), Math.Min(59, Number(match, "s"))).PlusNanoseconds(fraction)
        );
        if (Text(match, "y") is { } year)
            return At((year.Length == 2 ? 2000 : 0) + int.Parse(year, CultureInfo.InvariantCulture));
        var latest = now.InZone(zone).Year + 1;
        for (var y = latest; y > latest - 9; y--)
            if (day <= CalendarSystem.Iso.GetDaysInMonth(y, month) && At(y) is { } at && at <= now + Duration.FromDays(1))
                return at;
        return null;

        Instant At(int y)
        {
            var local = new LocalDate(y, month, day) + time;
            if (Text(match, "z") is { } offset)
                return local.WithOffset(OffsetOf(offset)).ToInstant();
            var map = zone.MapLocal(local);
            return map.Count switch
            {
                0 => map.LateInterval.Start,
                2 when after is { } before && map.First().ToInstant() < before => map.Last().ToInstant(),
                _ => map.First().ToInstant(),
            };
        }
    }

    private static Offset OffsetOf(string text) =>
        text is "Z" or "z"
            ? Offset.Zero
            : Offset.FromHoursAndMinutes(
                Sign(text) * int.Parse(text.AsSpan(1, 2), CultureInfo.InvariantCulture),
                Sign(text) * int.Parse(text.AsSpan(text.Length - 2), CultureInfo.InvariantCulture)
            );

    private static int Sign(string text) => text[0] == '-' ? -1 : 1;

    private static string? Text(Match match, string name) => match.Groups[name] is { Success: true } group ? group.Value : null;

    private static int Number(Match match, string name) =>
        Text(match, name) is { } text ? int.Parse(text.AsSpan().Trim(), CultureInfo.InvariantCulture) : 0;
}
