using System.Collections.Immutable;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>
/// Decides which copies stay. Evaluated per job, machine and store. Source: docs/semantics.md, section 3. Pure: the instant
/// "as of" is a parameter. n log n in the number of copies.
/// </summary>
public static class RetentionRules
{
    /// <summary>A copy taken later than this after the as-of instant is from the future and counts for nothing.</summary>
    public static readonly Duration FutureTolerance = Duration.FromMinutes(10);

    /// <summary>An uncounted copy stays at least this long, so that somebody can look at it.</summary>
    public static readonly Duration UncountedStays = Duration.FromDays(7);

    /// <summary>Verdicts with reasons for every copy, newest first. Ids must be unique; a base that is not in the list is missing.</summary>
    public static RetentionAnswer Decide(RetentionPolicy policy, RetentionGuards guards, IEnumerable<CopyFacts> copies, Instant asOf)
    {
        var all = copies.OrderByDescending(c => c.Taken).ThenByDescending(c => c.Id, StringComparer.Ordinal).ToList();
        var byId = all.ToDictionary(c => c.Id);
        var uncountedWhy = Chains.FindUncounted(all, byId, asOf);
        var counted = all.Where(c => !uncountedWhy.ContainsKey(c.Id)).ToList();

        var ladder = new Ladder(guards.Zone, asOf);
        ladder.Climb(policy, counted);
        var floor = counted.Take(guards.AtLeast).Select(c => c.Id).ToHashSet();
        var stale = guards.FreshWithin is { } fresh && counted.Count > 0 && asOf - counted[0].Taken > fresh.ToDuration();
        var frozen = stale || guards.FrozenBecause is not null;
        var heldBack = HeldBack(counted);

        var stays = all.Where(c => ladder.Reasons.ContainsKey(c.Id) || floor.Contains(c.Id) || c.Held is not null || heldBack.ContainsKey(c.Id));
        var support = Chains.FindSupport(stays, byId);
        var newestCounted = counted.Count > 0 ? counted[0].Taken : (Instant?)null;

        var verdicts = ImmutableArray.CreateBuilder<CopyVerdict>(all.Count);
        foreach (var copy in all)
        {
            var reasons = ImmutableArray.CreateBuilder<string>();
            Instant? leavesAt = null;
            Verdict verdict;
            if (ladder.Reasons.TryGetValue(copy.Id, out var rungs)) reasons.AddRange(rungs);
            if (floor.Contains(copy.Id)) reasons.Add($"floor: one of the newest {guards.AtLeast} good copies always stays");
            var kept = reasons.Count > 0;
            if (kept && !floor.Contains(copy.Id)) leavesAt = ladder.LeavesAt(copy.Id);
            if (copy.Held is not null) reasons.Add($"held {copy.Held}");
            if (heldBack.TryGetValue(copy.Id, out var doubted)) reasons.Add($"held back: the copy after it, {doubted}, is suspect until somebody confirms it");
            if (support.TryGetValue(copy.Id, out var needer)) reasons.Add($"support: {needer} needs it");

            if (kept) verdict = Verdict.Keep;
            else if (copy.Held is not null || doubted is not null) verdict = Verdict.Held;
            else if (needer is not null) verdict = Verdict.Support;
            else if (uncountedWhy.TryGetValue(copy.Id, out var why))
            {
                reasons.Add($"uncounted: {why}");
                var old = asOf - copy.Taken > UncountedStays;
                var replaced = newestCounted > copy.Taken;
                verdict = old && replaced ? Verdict.Expire : Verdict.Uncounted;
                reasons.Add(verdict == Verdict.Expire ? "older than 7 days, and a newer good copy exists"
                    : replaced ? "stays until it is older than 7 days" : "stays until a newer good copy exists");
            }
            else
            {
                verdict = Verdict.Expire;
                reasons.Add(ladder.WhyNot(copy));
            }
            if (verdict == Verdict.Expire && frozen)
            {
                verdict = Verdict.Frozen;
                reasons.Add(guards.FrozenBecause is { } because && !stale ? $"frozen: {because}, so nothing expires"
                    : $"frozen: the newest good copy is older than the freshness limit of {guards.FreshWithin}, so nothing of this job expires");
            }
            verdicts.Add(new CopyVerdict(copy, verdict, reasons.ToImmutable(), leavesAt));
        }
        return new RetentionAnswer(frozen, verdicts.MoveToImmutable());
    }

    /// <summary>For the good copy just before each suspect one: the id of that suspect one.</summary>
    private static Dictionary<string, string> HeldBack(List<CopyFacts> counted)
    {
        var held = new Dictionary<string, string>();
        string? after = null;
        foreach (var copy in counted)
        {
            if (copy.Doubted) after = copy.Id;
            else if (after is not null)
            {
                held[copy.Id] = after;
                after = null;
            }
        }
        return held;
    }
}
