using System.Collections.Immutable;
using IronKeep.Core.Ceilings;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>A run at work: what it holds, and for how long it presumably goes on.</summary>
public sealed record RunAtWork(RunClaim Claim, Duration Left);

/// <summary>A run that waits: what it needs, from when on it may begin, and how long it presumably takes.</summary>
public sealed record RunInLine(RunClaim Claim, Instant From, Duration Takes);

/// <summary>
/// When runs that wait presumably begin: those at work and in line are played against the ceilings, in the order of starting.
/// </summary>
public static class WaitEstimate
{
    /// <summary>By the order of <paramref name="line"/>; null for one whose turn would never come.</summary>
    public static ImmutableArray<Instant?> Of(
        RunCeilings ceilings,
        Instant now,
        IEnumerable<RunAtWork> atWork,
        IReadOnlyList<RunInLine> line
    )
    {
        var begins = new Instant?[line.Count];
        var (index, waiting) = (new Dictionary<WaitingRun, int>(), new WaitingRuns());
        var ends = new PriorityQueue<RunClaim, Instant>();
        foreach (var run in atWork)
        {
            ceilings.Begin(run.Claim);
            ends.Enqueue(run.Claim, now + Duration.Max(Duration.Zero, run.Left));
        }
        var comes = new Queue<int>(Enumerable.Range(0, line.Count).OrderBy(i => line[i].From));
        for (var at = now; ; )
        {
            while (comes.TryPeek(out var next) && line[next].From <= at)
            {
                var run = new WaitingRun(line[next].Claim, at, PlayedOutcome.Runs);
                index[run] = comes.Dequeue();
                waiting.Add(run);
            }
            while (waiting.TakeFirst(ceilings) is { } first)
            {
                var taken = line[index[first]];
                begins[index[first]] = at;
                ceilings.Begin(taken.Claim);
                ends.Enqueue(taken.Claim, at + taken.Takes);
            }
            var (hasEnd, hasNext) = (ends.TryPeek(out _, out var end), comes.TryPeek(out var later));
            if (!hasEnd && !hasNext)
                return [.. begins];
            at = !hasEnd || (hasNext && line[later].From < end) ? line[later].From : end;
            while (ends.TryPeek(out var over, out end) && end <= at)
            {
                ends.Dequeue();
                ceilings.End(over);
            }
        }
    }
}
