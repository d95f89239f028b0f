using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>
/// Decides which copies stay. Evaluated per job, machine and store. Source: docs/semantics.md, section 3 (Retention). Pure: the instant
/// "as of" is a parameter. n log n in the number of copies.
/// </summary>
public static class RetentionRules
{
    /// <summary>A copy taken later than this after the as-of instant is from the future and counts for nothing.</summary>
    public static readonly Duration FutureTolerance = Duration.FromMinutes(10);

    /// <summary>An uncounted copy stays at least this long, so that somebody can look at it.</summary>
    public static readonly Duration UncountedStays = Duration.FromDays(7);

    /// <summary>
    /// Verdicts with reasons for every copy, newest first. Ids must be unique; a base that is not in the list is missing.
    /// </summary>
    public static RetentionAnswer Decide(RetentionPolicy policy, RetentionGuards guards, IEnumerable<CopyFacts> copies, Instant asOf)
    {
        CopyFacts[] all = [.. copies];
        Array.Sort(all, OldestFirst);
        var chains = new Chains(all, asOf);
        var counted = Array.FindAll(all, c => chains.WhyUncounted(c) is null);

        var ladder = new Ladder(policy, guards.Zone, counted, asOf);
        var newest = counted.Length > 0 ? counted[^1].Taken : (Instant?)null;
        var stale = guards.FreshWithin is { } fresh && newest is { } last && asOf - last > fresh.ToDuration();
        var frozen = stale || guards.FrozenBecause is not null;
        var heldBack = HeldBack(counted);
        var floorFrom = counted.Length - guards.AtLeast;
        var floorReason = $"floor: one of the newest {guards.AtLeast} good copies always stays";
        var frozenReason =
            guards.FrozenBecause is { } because && !stale
                ? $"frozen: {because}, so nothing expires"
                : $"frozen: the newest good copy is older than the freshness limit of {guards.FreshWithin}, so nothing of this job expires";

        // Rows of the counted copies run beside those of all.
        var stays = chains.Any ? Stays(all, chains, ladder, floorFrom, heldBack) : [];
        var support = chains.FindSupport(stays);

        var verdicts = ImmutableArray.CreateBuilder<CopyVerdict>(all.Length);
        var row = counted.Length;
        for (var i = all.Length - 1; i >= 0; i--)
        {
            var copy = all[i];
            var why = chains.WhyUncounted(copy);
            if (why is null)
                row--;
            var reasons = new List<string>(1);
            Instant? leavesAt = null;
            Verdict verdict;
            var onFloor = why is null && row >= floorFrom;
            if (why is null)
                reasons.AddRange(ladder.ReasonsFor(row));
            if (onFloor)
                reasons.Add(floorReason);
            var kept = reasons.Count > 0;
            if (kept && !onFloor)
                leavesAt = ladder.LeavesAt(row);
            if (copy.Held is not null)
                reasons.Add($"held {copy.Held}");
            if (heldBack.TryGetValue(copy.Id, out var doubted))
                reasons.Add($"held back: the copy after it, {doubted}, is suspect until somebody confirms it");
            if (support.TryGetValue(copy.Id, out var needer))
                reasons.Add($"support: {needer} needs it");

            if (kept)
                verdict = Verdict.Keep;
            else if (copy.Held is not null || doubted is not null)
                verdict = Verdict.Held;
            else if (needer is not null)
                verdict = Verdict.Support;
            else if (why is not null)
            {
                reasons.Add($"uncounted: {why}");
                var old = asOf - copy.Taken > UncountedStays;
                var replaced = newest > copy.Taken;
                verdict = old && replaced ? Verdict.Expire : Verdict.Uncounted;
                reasons.Add(
                    verdict == Verdict.Expire ? "older than 7 days, and a newer good copy exists"
                    : replaced ? "stays until it is older than 7 days"
                    : "stays until a newer good copy exists"
                );
            }
            else
            {
                verdict = Verdict.Expire;
                reasons.Add(ladder.WhyNot(row, guards.AtLeast));
            }
            if (verdict == Verdict.Expire && frozen)
            {
                verdict = Verdict.Frozen;
                reasons.Add(frozenReason);
            }
            verdicts.Add(new CopyVerdict(copy, verdict, [.. reasons], leavesAt));
        }
        return new RetentionAnswer(frozen, verdicts.MoveToImmutable());
    }

    /// <summary>
    /// Since when the policy lets a copy go: the first newer copy (or the leaving time of "all within") after which it was no longer
    /// kept; null while it is kept. Exact for every policy under which a newer copy never brings an older one back.
    /// </summary>
    public static Instant? ExpiresSince(
        RetentionPolicy policy,
        RetentionGuards guards,
        IReadOnlyCollection<CopyFacts> copies,
        string id,
        Instant asOf
    )
    {
        var copy = copies.FirstOrDefault(c => c.Id == id);
        if (copy is null || !GoesAt(asOf))
            return null;
        var moments = copies
            .Select(c => c.Taken)
            .Concat(policy.Rungs.OfType<WithinRung>().SelectMany(r => copies.Select(c => r.Span.After(c.Taken, guards.Zone))))
            .Where(t => t > copy.Taken && t <= asOf)
            .Append(asOf)
            .Distinct()
            .Order()
            .ToArray();
        var (low, high) = (0, moments.Length - 1);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (GoesAt(moments[middle]))
                high = middle;
            else
                low = middle + 1;
        }
        return moments[low];

        bool GoesAt(Instant at) =>
            Decide(policy, guards with { FreshWithin = null, FrozenBecause = null }, copies.Where(c => c.Taken <= at), at)
                .Copies.First(c => c.Copy.Id == id)
                .Verdict == Verdict.Expire;
    }

    /// <summary>The order of rows: by the start of capture, ties by id.</summary>
    private static int OldestFirst(CopyFacts a, CopyFacts b) =>
        a.Taken.CompareTo(b.Taken) is var byTime and not 0 ? byTime : string.CompareOrdinal(a.Id, b.Id);

    private static IEnumerable<CopyFacts> Stays(
        CopyFacts[] all,
        Chains chains,
        Ladder ladder,
        int floorFrom,
        Dictionary<string, string> heldBack
    )
    {
        // Newest first, so that the nearest staying copy above is the one named.
        var row = all.Count(c => chains.WhyUncounted(c) is null);
        for (var i = all.Length - 1; i >= 0; i--)
        {
            var counts = chains.WhyUncounted(all[i]) is null;
            if (counts)
                row--;
            if ((counts && (row >= floorFrom || ladder.Keeps(row))) || all[i].Held is not null || heldBack.ContainsKey(all[i].Id))
                yield return all[i];
        }
    }

    /// <summary>For the good copy just before each suspect one: the id of that suspect one.</summary>
    private static Dictionary<string, string> HeldBack(CopyFacts[] counted)
    {
        var held = new Dictionary<string, string>();
        string? after = null;
        for (var row = counted.Length - 1; row >= 0; row--)
        {
            if (counted[row].Doubted)
                after = counted[row].Id;
            else if (after is not null)
            {
                held[counted[row].Id] = after;
                after = null;
            }
        }
        return held;
    }
}
