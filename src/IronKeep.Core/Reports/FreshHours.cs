using NodaTime;

namespace IronKeep.Core.Reports;

/// <summary>
/// For how long a promise of freshness was kept: at each instant a good copy must be at hand that was taken no longer ago than promised.
/// </summary>
public static class FreshHours
{
    /// <summary>
    /// How much of [from, to) was kept and how much was broken, in every store: broken is what is broken in any of them.
    /// </summary>
    /// <param name="stores">For each store of the job its good copies: when taken, and when each went (null: it is there still).</param>
    public static (Duration Kept, Duration Broken) Of(
        Duration promise,
        IEnumerable<IReadOnlyCollection<(Instant Taken, Instant? Gone)>> stores,
        Instant from,
        Instant to
    )
    {
        if (to <= from)
            return (Duration.Zero, Duration.Zero);
        var broken = stores.SelectMany(copies => Broken(promise, copies, from, to)).OrderBy(b => b.From);
        var sum = Duration.Zero;
        var reached = from;
        foreach (var (begins, ends) in broken)
        {
            if (ends > reached)
                sum += ends - Instant.Max(begins, reached);
            reached = Instant.Max(reached, ends);
        }
        return (to - from - sum, sum);
    }

    private static IEnumerable<(Instant From, Instant To)> Broken(
        Duration promise,
        IEnumerable<(Instant Taken, Instant? Gone)> copies,
        Instant from,
        Instant to
    )
    {
        var reached = from;
        foreach (var (taken, gone) in copies.OrderBy(c => c.Taken))
        {
            var ends = Instant.Min(taken + promise, gone ?? Instant.MaxValue);
            if (ends <= reached)
                continue;
            if (taken >= to)
                break;
            if (taken > reached)
                yield return (reached, taken);
            reached = ends;
        }
        if (reached < to)
            yield return (reached, to);
    }
}
