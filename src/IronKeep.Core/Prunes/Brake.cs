using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;

namespace IronKeep.Core.Prunes;

/// <summary>
/// What the brake has to know beside the plan: the policy and guards that the last applied plan went by (null: none was applied),
/// how many counted copies the machine has in all, and since when the clock or the catalogue is in doubt, as words (null: neither is).
/// </summary>
public sealed record BrakeFacts(RetentionPolicy? LastPolicy, RetentionGuards? LastGuards, int CountedOnMachine, string? Doubt);

/// <summary>
/// The guard that stops a plan which takes unusually much until a person confirms it. Source: docs/semantics.md, section 4 (Pruning).
/// </summary>
public static class Brake
{
    /// <summary>A plan that takes no more copies than this is never unusual by its number.</summary>
    public const int Harmless = 3;

    /// <summary>Why the plan is braked, one sentence a reason; empty when it is not, or when it takes nothing.</summary>
    public static ImmutableArray<string> Reasons(PrunePlan plan, BrakeFacts facts)
    {
        var going = plan.Going.ToList();
        if (going.Count == 0)
            return [];
        var reasons = ImmutableArray.CreateBuilder<string>();
        var counted = plan.Copies.Count(c => IsGood(c.Copy));
        var goingCounted = going.Count(c => IsGood(c.Copy));
        if (goingCounted > Harmless && goingCounted * 4 > counted)
            reasons.Add($"it takes {goingCounted} of {counted} good copies of job {plan.Job}, more than a quarter");
        if (goingCounted > 0 && goingCounted >= facts.CountedOnMachine)
            reasons.Add($"it takes every good copy of machine {plan.Machine}");
        if (Shortened(plan, going, facts) is { } shortened)
            reasons.Add(shortened);
        if (facts.Doubt is { } doubt)
            reasons.Add(doubt);
        return reasons.ToImmutable();
    }

    private static string? Shortened(PrunePlan plan, List<CopyVerdict> going, BrakeFacts facts)
    {
        if (facts is not { LastPolicy: { } policy, LastGuards: { } guards })
            return null;
        if (policy.Equals(plan.Policy) && guards.AtLeast == plan.Guards.AtLeast)
            return null;
        var before = RetentionRules.Decide(
            policy,
            plan.Guards with
            {
                AtLeast = guards.AtLeast,
            },
            plan.Copies.Select(c => c.Copy),
            plan.AsOf
        );
        var alsoBefore = before.Copies.Where(c => c.Verdict == Verdict.Expire).Select(c => c.Copy.Id).ToHashSet();
        var more = going.Count(c => !alsoBefore.Contains(c.Copy.Id));
        return more == 0
            ? null
            : $"it follows a shortened policy: '{policy}', at least {guards.AtLeast}, became '{plan.Policy}', at least "
                + $"{plan.Guards.AtLeast}, which takes {Counted.Of(more, "more copy", "more copies")}";
    }

    private static bool IsGood(CopyFacts copy) => copy.State is CopyState.Unchecked or CopyState.Sound;
}
