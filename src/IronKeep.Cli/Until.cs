using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Cli;

/// <summary>
/// Ends in time as people give them: "2027-03-28", "2027-03-28 12:00" (both in this terminal's zone), an RFC 3339 instant, or "3 days".
/// </summary>
internal static class Until
{
    public static Option<string> Option(string description) => new("--until") { Description = description, Required = true };

    public static DateTimeOffset Read(string text)
    {
        if (Span.TryParse(text, out var span, out _))
            return span.After(SystemClock.Instance.GetCurrentInstant(), DateTimeZoneProviders.Tzdb.GetSystemDefault()).ToDateTimeOffset();
        return ReadInstant(text);
    }

    /// <summary>The same for a time that is over: "3 days" is so long ago.</summary>
    public static DateTimeOffset ReadPast(string text)
    {
        if (Span.TryParse(text, out var span, out _))
        {
            var zone = DateTimeZoneProviders.Tzdb.GetSystemDefault();
            var now = SystemClock.Instance.GetCurrentInstant().InZone(zone).LocalDateTime;
            return span.Before(now).InZoneLeniently(zone).ToDateTimeOffset();
        }
        return ReadInstant(text);
    }

    private static DateTimeOffset ReadInstant(string text)
    {
        if (
            text.Length >= 10
            && text[..4].All(char.IsAsciiDigit)
            && DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeLocal, out var at)
        )
            return at.ToUniversalTime();
        throw new AnswerException(Root.NotUnderstood, $"'{text}' is not a time; write 2027-03-28, '2027-03-28 12:00' or '3 days'");
    }
}
