using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Service.Hearing;

namespace IronKeep.Service.Copies;

/// <summary>What a policy does to the copies of a job in a store, as it goes out; sizes are left at 0.</summary>
public static class PolicyEffects
{
    public static PolicyEffectAnswer ToEffect(this IReadOnlyCollection<CopyVerdict> copies, string job, string store) =>
        new(
            job,
            store,
            copies.Count(c => c.Verdict != Verdict.Expire),
            copies.Count(c => c.Verdict == Verdict.Expire),
            [
                .. copies.Select(c => new VerdictAnswer(
                    c.Copy.Id,
                    c.Copy.Taken.ToDateTimeOffset(),
                    c.Copy.State,
                    c.Verdict,
                    c.Reasons,
                    c.LeavesAt?.ToDateTimeOffset(),
                    0,
                    0
                )),
            ]
        );
}
