using System.Globalization;
using System.Text.RegularExpressions;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// The values that patterns read: how each is written, and what it comes to. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public static partial class LogValues
{
    public const string Items = "items",
        Skipped = "skipped",
        Errors = "errors",
        Bytes = "bytes",
        Size = "size",
        Duration = "duration",
        Code = "code",
        Time = "time";

    // Groups of three digits, set apart by one and the same sign.
    private const string Whole =
        "(?:[0-9]{1,3}(?:,[0-9]{3})+|[0-9]{1,3}(?:\\.[0-9]{3})+|[0-9]{1,3}(?:'[0-9]{3})+|[0-9]{1,3}(?:[ \u00A0\u202F][0-9]{3})+|[0-9]+)";
    private const string Number = "(?:[0-9]{1,3}(?:,[0-9]{3})+\\.[0-9]+|[0-9]{1,3}(?:\\.[0-9]{3})+,[0-9]+|[0-9]+(?:[.,][0-9]+)?)";
    private const string Units = "(?:bytes?|[kmgt]ib|[kmgt]b|b|[kmgt])";
    private const string Parts = "(?:days?|d|hours?|hrs?|h|minutes?|mins?|m|seconds?|secs?|s)";
    private const string BeforeNumber = "(?:^|^[.,']|[^0-9.,']|[^0-9][.,'])",
        AfterNumber = "(?:$|[^0-9.,']|[.,'](?:$|[^0-9]))",
        AfterUnit = "(?:$|[^A-Za-z0-9])";

    /// <summary>How a value is written; before and after it, what may stand there when no text of the pattern does.</summary>
    internal sealed record ValuePattern(string Text, string Before, string After);

    public static bool IsKnown(string name) => name is Items or Skipped or Errors or Bytes or Size or Duration or Code or Time;

    internal static ValuePattern? PatternOf(string name, LogTimes times) =>
        name switch
        {
            Items or Skipped or Errors or Bytes => new ValuePattern(Whole, BeforeNumber, AfterNumber),
            Size => new ValuePattern($"{Number}\\s*{Units}", BeforeNumber, AfterUnit),
            Duration => new ValuePattern(
                $"(?:pt(?:[0-9]+h)?(?:[0-9]+m)?(?:[0-9]+(?:[.,][0-9]+)?s)?|[0-9]+:[0-9]{{2}}:[0-9]{{2}}(?:[.,][0-9]+)?|"
                    + $"[0-9]+:[0-9]{{2}}(?:[.,][0-9]+)?|"
                    + $"{Number}\\s*{Parts}(?:\\s*{Number}\\s*{Parts})*)",
                BeforeNumber,
                AfterUnit
            ),
            Code => new ValuePattern("-?[0-9]+", BeforeNumber, AfterNumber),
            Time => new ValuePattern(times.Pattern, "(?:^|[^0-9A-Za-z])", "(?:$|[^0-9A-Za-z])"),
            _ => null,
        };

    /// <summary>A whole number with or without thousands set apart; null when the text is none.</summary>
    public static long? ReadWhole(string text)
    {
        if (!WholeText().IsMatch(text))
            return null;
        var digits = string.Concat(text.Where(char.IsAsciiDigit));
        return long.TryParse(digits, NumberStyles.None, CultureInfo.InvariantCulture, out var value) ? value : null;
    }

    /// <summary>A size in bytes; null when the text is none, or more than can be.</summary>
    public static long? ReadSize(string text)
    {
        if (SizeText().Match(text) is not { Success: true } match || ReadNumber(match.Groups["n"].Value) is not { } number)
            return null;
        var unit = match.Groups["u"].Value.ToLowerInvariant();
        // A letter alone, or with i, counts in powers of 1024; with B it counts in powers of 1000.
        var power = unit[0] switch
        {
            'k' => 1,
            'm' => 2,
            'g' => 3,
            't' => 4,
            _ => 0,
        };
        var factor = 1m;
        for (var i = 0; i < power; i++)
            factor *= unit.Length == 2 && unit[1] == 'b' ? 1000 : 1024;
        return number * factor is <= long.MaxValue and var bytes ? (long)Math.Round(bytes, MidpointRounding.AwayFromZero) : null;
    }

    /// <summary>A duration in seconds; null when the text is none.</summary>
    public static double? ReadDuration(string text)
    {
        var trimmed = text.Trim();
        if (IsoText().Match(trimmed) is { Success: true } iso && trimmed.Length > 2)
            return Sum((iso.Groups["h"], 3600), (iso.Groups["m"], 60), (iso.Groups["s"], 1));
        if (ClockText().Match(trimmed) is { Success: true } clock)
            return Sum((clock.Groups["h"], 3600), (clock.Groups["m"], 60), (clock.Groups["s"], 1));
        var parts = PartText().Matches(trimmed);
        if (parts.Count == 0 || parts.Sum(p => p.Length) < trimmed.Count(c => !char.IsWhiteSpace(c)))
            return null;
        var seconds = 0m;
        foreach (Match part in parts)
        {
            if (ReadNumber(part.Groups["n"].Value) is not { } number)
                return null;
            seconds +=
                number
                * char.ToLowerInvariant(part.Groups["u"].Value[0]) switch
                {
                    'd' => 86400,
                    'h' => 3600,
                    'm' => 60,
                    _ => 1,
                };
        }
        return (double)seconds;
    }

    /// <summary>An exit code; null when the text is none.</summary>
    public static int? ReadCode(string text) =>
        int.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var code) ? code : null;

    private static double? Sum(params (Group Group, int Factor)[] parts)
    {
        var sum = 0m;
        foreach (var (group, factor) in parts)
            if (group.Success)
                sum += (ReadNumber(group.Value) ?? 0) * factor;
        return (double)sum;
    }

    /// <summary>A number with a decimal point or comma; with both, the last one is it.</summary>
    private static decimal? ReadNumber(string text)
    {
        var mark = text.LastIndexOfAny(['.', ',']);
        var plain = mark < 0 ? text : string.Concat(text[..mark].Where(char.IsAsciiDigit)) + "." + text[(mark + 1)..];
        return plain.Length <= 25 && decimal.TryParse(plain, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number)
            ? number
            : null;
    }

    [GeneratedRegex($"^{Whole}$")]
    private static partial Regex WholeText();

    [GeneratedRegex($"^(?<n>{Number})\\s*(?<u>{Units})$", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex SizeText();

    [GeneratedRegex(
        "^PT(?:(?<h>[0-9]+)H)?(?:(?<m>[0-9]+)M)?(?:(?<s>[0-9]+(?:[.,][0-9]+)?)S)?$",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant
    )]
    private static partial Regex IsoText();

    [GeneratedRegex("^(?:(?<h>[0-9]+):)?(?<m>[0-9]+):(?<s>[0-9]{2}(?:[.,][0-9]+)?)$")]
    private static partial Regex ClockText();

    [GeneratedRegex($"(?<n>{Number})\\s*(?<u>{Parts})", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex PartText();
}
