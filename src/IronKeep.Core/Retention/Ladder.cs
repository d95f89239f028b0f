using System.Globalization;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>Works a policy out over the counted copies of one decision, and remembers why each copy is kept.</summary>
internal sealed class Ladder
{
    private readonly Rungs rungs;
    private readonly DateTimeZone zone;
    private readonly CopyFacts[] counted;
    private readonly long[][] keys;
    private readonly int[] firstOf;

    /// <summary>For each rung by periods, once asked for: the rows at which a new period begins.</summary>
    private readonly int[]?[] startsOf;
    private readonly List<(int Rung, int Rank, int Next)> reasons = [];
    private readonly string[] fixedReasons;
    private readonly string whyNot;

    /// <param name="policy">The policy.</param>
    /// <param name="zone">The zone of its periods.</param>
    /// <param name="counted">The counted copies, oldest first.</param>
    /// <param name="asOf">The instant of the decision.</param>
    public Ladder(RetentionPolicy policy, DateTimeZone zone, CopyFacts[] counted, Instant asOf)
    {
        rungs = new Rungs(policy, zone);
        this.zone = zone;
        this.counted = counted;
        keys = new long[rungs.Count][];
        startsOf = new int[rungs.Count][];
        for (var rung = 0; rung < rungs.Count; rung++)
        {
            keys[rung] = new long[counted.Length];
            if (policy.Rungs[rung] is PeriodRung or WithinRung)
                for (var row = 0; row < counted.Length; row++)
                    keys[rung][row] = rungs.KeyOf(rung, counted[row].Taken);
        }
        firstOf = new int[counted.Length];
        Array.Fill(firstOf, -1);
        fixedReasons = [.. policy.Rungs.Select(r => r is WithinRung w ? $"all within {w.Span}" : r.ToString()!)];
        whyNot = $"no rung of '{policy}' keeps it: newer copies fill their places";
        var sink = new Sink(this);
        rungs.Climb(counted.Length, keys, asOf, ref sink);
    }

    public bool Keeps(int row) => firstOf[row] >= 0;

    /// <summary>Why the rungs keep a copy, in the order of the rungs.</summary>
    public IEnumerable<string> ReasonsFor(int row)
    {
        for (var at = firstOf[row]; at >= 0; at = reasons[at].Next)
        {
            var (rung, rank, _) = reasons[at];
            yield return rungs.Policy.Rungs[rung] switch
            {
                NewestRung newest => $"newest {newest.Count}: number {rank}",
                PeriodRung period => $"{fixedReasons[rung]}: newest of {rungs.NameOf(period.Period, counted[row].Taken)}",
                _ => fixedReasons[rung],
            };
        }
    }

    /// <summary>The instant a rule gives for the copy's leaving; null when it depends on copies still to come.</summary>
    public Instant? LeavesAt(int row)
    {
        long? latest = null;
        for (var at = firstOf[row]; at >= 0; at = reasons[at].Next)
        {
            if (rungs.Policy.Rungs[reasons[at].Rung] is not WithinRung)
                return null;
            latest = Math.Max(latest ?? long.MinValue, keys[reasons[at].Rung][row]);
        }
        return latest is { } ticks ? Instant.FromUnixTimeTicks(ticks) : null;
    }

    /// <summary>Why no rung keeps a counted copy, and since when, where the rungs tell.</summary>
    public string WhyNot(int row, int atLeast)
    {
        if (Since(row, atLeast) is not { } since)
            return whyNot;
        var when = since.InZone(zone).LocalDateTime.ToString("uuuu-MM-dd HH:mm", CultureInfo.InvariantCulture);
        return rungs.Policy.Rungs.All(r => r is WithinRung)
            ? $"no rung of '{rungs.Policy}' keeps it since {when}"
            : $"{whyNot}, since {when}";
    }

    /// <summary>
    /// Since when no rung keeps the copy: the latest of the instants at which each let it go. A rung that counts lets go when a copy
    /// fills its last place. Not told for "then", where a place depends on the rungs before.
    /// </summary>
    private Instant? Since(int row, int atLeast)
    {
        if (rungs.Policy is { Connective: RungConnective.Then, Rungs.Length: > 1 })
            return null;
        var since = row + atLeast < counted.Length ? counted[row + atLeast].Taken : counted[^1].Taken;
        for (var rung = 0; rung < rungs.Count; rung++)
        {
            Instant? let = rungs.Policy.Rungs[rung] switch
            {
                NewestRung { Count: > 0 } newest when row + newest.Count < counted.Length => counted[row + newest.Count].Taken,
                PeriodRung { Count: > 0 } period => LetGoByPeriods(row, rung, period.Count),
                WithinRung => Instant.FromUnixTimeTicks(keys[rung][row]),
                _ => null,
            };
            if (let > since)
                since = let.Value;
        }
        return since;
    }

    private Instant? LetGoByPeriods(int row, int rung, int count)
    {
        var periods = keys[rung];
        if (row + 1 < counted.Length && periods[row + 1] == periods[row])
            return counted[row + 1].Taken;
        var starts = startsOf[rung] ??= [.. Enumerable.Range(0, counted.Length).Where(r => r == 0 || periods[r] != periods[r - 1])];
        var own = Array.BinarySearch(starts, row);
        // A row inside a period comes after its start.
        var next = (own >= 0 ? own : ~own - 1) + count;
        return next < starts.Length ? counted[starts[next]].Taken : null;
    }

    private readonly struct Sink(Ladder ladder) : IRungSink
    {
        public bool IsKept(int row) => ladder.firstOf[row] >= 0;

        public void Keep(int row, int rung, int rank)
        {
            var added = ladder.reasons.Count;
            ladder.reasons.Add((rung, rank, -1));
            var at = ladder.firstOf[row];
            if (at < 0)
            {
                ladder.firstOf[row] = added;
                return;
            }
            while (ladder.reasons[at].Next >= 0)
                at = ladder.reasons[at].Next;
            ladder.reasons[at] = ladder.reasons[at] with { Next = added };
        }
    }
}
