using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Cli.Trying;

/// <summary>
/// Calculators that need no service: what a schedule, a policy or a rotation set comes to. Their JSON is documented in docs/operating.md
/// and does not change.
/// </summary>
internal static class TryCommands
{
    public static Command Make() =>
        Common.Noun(
            "try",
            "Plays a schedule, a policy, a rotation set or rules for logs; needs no service",
            TrySchedule.Make(),
            TryRetention.Make(),
            TryRotation.Make(),
            TryLog.Make()
        );

    internal static Option<string> ZoneOption =>
        new("--zone") { Description = "The IANA time zone, such as Europe/London", DefaultValueFactory = _ => "UTC" };

    internal static Option<string?> AsOfOption =>
        new("--as-of") { Description = "The instant to look from, such as 2027-03-27T12:00:00Z; else now" };

    internal static DateTimeZone Zone(string id) =>
        DateTimeZoneProviders.Tzdb.GetZoneOrNull(id)
        ?? throw NotUnderstood(
            $"there is no time zone '{id}'; "
                + (
                    Nearest.To(id, DateTimeZoneProviders.Tzdb.Ids) is { } near
                        ? $"did you mean '{near}'?"
                        : "use an IANA name such as Europe/London"
                )
        );

    internal static Instant AsOf(string? text)
    {
        if (text is null)
            return SystemClock.Instance.GetCurrentInstant();
        return OffsetDateTimePattern.Rfc3339.Parse(text) is { Success: true } read
            ? read.Value.ToInstant()
            : throw NotUnderstood($"'{text}' is not an instant; write 2027-03-27T12:00:00Z or 2027-03-27T13:00:00+01:00");
    }

    internal static LocalDate Date(string text) =>
        LocalDatePattern.Iso.Parse(text) is { Success: true } read
            ? read.Value
            : throw NotUnderstood($"'{text}' is not a date; write 2027-03-28");

    /// <summary>A sentence's problem as people see it: the text, a mark below the place, the message.</summary>
    internal static AnswerException Misread(string text, SentenceProblem problem)
    {
        var line = text.ReplaceLineEndings(" ");
        return NotUnderstood($"{line}\n{new string(' ', Math.Min(problem.Position, line.Length))}^ {problem.Message}");
    }

    internal static AnswerException NotUnderstood(string message) => new(Root.NotUnderstood, message);

    internal static string Utc(Instant instant) => InstantPattern.General.Format(instant);

    internal static string Local(Instant instant, DateTimeZone zone) =>
        OffsetDateTimePattern.Rfc3339.Format(instant.InZone(zone).ToOffsetDateTime());

    internal static string Read(string file)
    {
        try
        {
            return file == "-" ? Console.In.ReadToEnd() : File.ReadAllText(file);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw NotUnderstood($"{file} cannot be read: {e.Message}");
        }
    }
}
