using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>
/// The steady state of a policy: what it keeps once it has run long enough. Found by playing it: copies at every due instant, evaluated
/// on several days of the last year. Fewest and most differ where weeks and months do not divide evenly.
/// </summary>
public sealed record SteadyState(int Fewest, int Most, Duration Oldest, bool Grows, bool IsWhole)
{
    private const int MostCopies = 4_000;
    private const int Looks = 13;

    /// <summary>Plays the policy; without a schedule a copy a day is assumed. Nothing depends on what exists now.</summary>
    public static SteadyState Play(RetentionPolicy policy, int atLeast, DateTimeZone zone, Schedule? schedule, Instant asOf)
    {
        var when = schedule ?? ScheduleSentence.Read("daily at 12:00").Schedule!;
        var reach = Duration.FromDays(430) + policy.Rungs.Select(Reach).DefaultIfEmpty(Duration.Zero).Aggregate((a, b) => a + b);
        var copies = DueInstants
            .Between(when, zone, asOf - reach, asOf)
            .Select((due, i) => new CopyFacts(i.ToString("D8", CultureInfo.InvariantCulture), due, CopyState.Sound))
            .ToList();
        var whole = copies.Count <= MostCopies;
        if (!whole)
            copies = copies[^MostCopies..];
        var guards = new RetentionGuards(zone, atLeast);
        int fewest = int.MaxValue,
            most = 0;
        var oldest = Duration.Zero;
        for (var look = 0; look < Looks; look++)
        {
            var at = asOf - Duration.FromDays(whole ? look * 28 : 0);
            var kept = RetentionRules
                .Decide(policy, guards, copies.Where(c => c.Taken <= at), at)
                .Copies.Where(c => c.Verdict == Verdict.Keep)
                .ToList();
            if (kept.Count == 0)
                continue;
            (fewest, most) = (Math.Min(fewest, kept.Count), Math.Max(most, kept.Count));
            // What is kept now stays until the next copy is taken, and is oldest just before that.
            var next = copies.FirstOrDefault(c => c.Taken > at)?.Taken ?? at;
            oldest = Duration.Max(oldest, next - kept[^1].Copy.Taken);
        }
        return new SteadyState(fewest == int.MaxValue ? 0 : fewest, most, oldest, policy.Rungs.Any(r => r is ForeverRung), whole);
    }

    /// <summary>One sentence to a person.</summary>
    public string Words =>
        Grows
            ? "keeps every copy for good, so the number only grows"
            : $"will keep "
                + $"{(IsWhole ? "" : "at least ")}{(Fewest == Most ? Counted.Of(Most, "copy", "copies") : $"{Fewest} to {Most} copies")}, "
                + $"the oldest up to {Age(Oldest)} old";

    private static string Age(Duration age) =>
        age.TotalDays switch
        {
            < 2 => Counted.Of((long)Math.Ceiling(age.TotalHours), "hour"),
            < 61 => Counted.Of((long)Math.Ceiling(age.TotalDays), "day"),
            < 731 => $"{Math.Round(age.TotalDays / 30.44):0} months",
            _ => $"{Math.Round(age.TotalDays / 365.25):0} years",
        };

    private static Duration Reach(Rung rung) =>
        rung switch
        {
            PeriodRung p => Duration.FromDays(
                p.Period switch
                {
                    RungPeriod.Hour => Math.Min(p.Count, 5000) / 24.0 + 2,
                    RungPeriod.Day => Math.Min(p.Count, 5000) + 2,
                    RungPeriod.Week => 7.0 * Math.Min(p.Count, 700) + 8,
                    RungPeriod.Month => 31.0 * Math.Min(p.Count, 150) + 32,
                    _ => 366.0 * Math.Min(p.Count, 12) + 367,
                }
            ),
            WithinRung w => Duration.Min(w.Span.ToDuration(), Duration.FromDays(5000)) + Duration.FromDays(2),
            NewestRung n => Duration.FromDays(Math.Min(n.Count, 5000)),
            _ => Duration.Zero,
        };
}
