using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Ceilings;

/// <summary>
/// How much of a line copies may take: "20 Mbit/s" always, or "2 MB/s from 08:00 to 18:00 on weekdays", local. <see cref="PerSecond"/> is
/// in bytes; <see cref="Words"/> is what was written.
/// </summary>
public sealed record LineCeiling(long PerSecond, QuietHours? Hours, string Words)
{
    /// <summary>Less would keep a run at work for ever, and its requests longer than anybody waits (bytes a second).</summary>
    public const long Least = 64_000;
    private const string From = " from ",
        Example = "write '20 Mbit/s', or '2 MB/s from 08:00 to 18:00 on weekdays'";

    private static readonly ImmutableArray<(string Unit, decimal Factor)> Bits =
    [
        ("kbit/s", 1_000m / 8),
        ("Mbit/s", 1_000_000m / 8),
        ("Gbit/s", 1_000_000_000m / 8),
    ];

    /// <summary>The ceiling, or the problem; exactly one of the two is null.</summary>
    public static (LineCeiling? Ceiling, SentenceProblem? Problem) Read(string sentence)
    {
        var cut = sentence.IndexOf(From, StringComparison.Ordinal);
        var (rate, at) = (cut < 0 ? sentence.Trim() : sentence[..cut].Trim(), cut + From.Length);
        QuietHours? hours = null;
        if (cut >= 0)
        {
            (hours, var wrong) = QuietHours.Read(sentence[at..]);
            if (wrong is not null)
                return (null, wrong with { Position = wrong.Position + at });
        }
        if (PerSecondOf(rate, out var problem) is not { } bytes)
            return (null, new SentenceProblem(0, problem));
        return bytes < Least
            ? (null, new SentenceProblem(0, $"'{rate}' is so little that no run would come to its end; 64 kB/s are the least"))
            : (new LineCeiling(bytes, hours, sentence.Trim()), null);
    }

    /// <summary>What holds at an instant: the least of those whose hours it lies in, in bytes a second; null: nothing.</summary>
    public static long? At(IEnumerable<LineCeiling> all, Instant instant, DateTimeZone zone) =>
        all.Where(c => c.Hours is null || c.Hours.Around(instant, zone) is not null).Select(c => (long?)c.PerSecond).Min();

    private static long? PerSecondOf(string rate, out string problem)
    {
        problem = $"'{rate}' is no rate; {Example}";
        foreach (var (unit, factor) in Bits)
            if (rate.EndsWith(unit, StringComparison.OrdinalIgnoreCase))
                return
                    decimal.TryParse(
                        rate[..^unit.Length].Trim(),
                        NumberStyles.AllowDecimalPoint,
                        CultureInfo.InvariantCulture,
                        out var number
                    )
                    && number < 1_000_000
                    ? (long)(number * factor)
                    : null;
        return rate.EndsWith("/s", StringComparison.Ordinal) && ByteSize.TryParse(rate[..^2], out var size, out _) ? size.Bytes : null;
    }
}
