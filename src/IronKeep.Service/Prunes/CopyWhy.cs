using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace IronKeep.Service.Prunes;

/// <summary>Why a single copy is still there, or why it goes.</summary>
public sealed class CopyWhy(CharterInForce inForce, PruneDesk prunes, TimeProvider clock)
{
    /// <summary>The verdict on one copy as of now, with its reasons.</summary>
    public async Task<CopyWhyAnswer> OfAsync(Copy copy, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        charter.Stores.TryGetValue(copy.Store, out var store);
        if (copy.BinnedAt is { } binned)
        {
            var until = store is null ? (DateTimeOffset?)null : (binned + store.Bin.ToDuration()).ToDateTimeOffset();
            return new CopyWhyAnswer(
                copy.ToAnswer(clock.Now()),
                Verdict.Expire,
                [$"it expired and went to the bin {binned.Local(charter.Zone)}; restorable until its bytes are reclaimed"],
                null,
                null,
                null,
                null,
                until
            );
        }
        if (charter.Placed.Find(copy.Job, copy.Machine) is not { } job || !job.Into.Contains(copy.Store))
            return new CopyWhyAnswer(
                copy.ToAnswer(clock.Now()),
                Verdict.Keep,
                [$"the charter has no job {copy.Job} into store {copy.Store} any more; what no policy governs does not expire"],
                null,
                null,
                null,
                null,
                null
            );
        var policy = charter.Policies[job.Policy];
        var plan = await prunes.DraftAsync(job, copy.Store, policy, cancel);
        var verdict = plan.Copies.First(c => c.Copy.Id == copy.Id);
        // Found by asking again for each moment since: it is asked for one copy at a time.
        var since = verdict.Verdict is Verdict.Expire or Verdict.Frozen
            ? RetentionRules.ExpiresSince(plan.Policy, plan.Guards, [.. plan.Copies.Select(c => c.Copy)], copy.Id, plan.AsOf)
            : null;
        return new CopyWhyAnswer(
            copy.ToAnswer(clock.Now()),
            verdict.Verdict,
            since is { } let ? [.. verdict.Reasons, $"no longer kept since {let.Local(charter.Zone)}"] : verdict.Reasons,
            verdict.LeavesAt?.ToDateTimeOffset(),
            policy.Name,
            $"{policy.Keep}, at least {policy.AtLeast}",
            $"job {job.Name} names policy {policy.Name} (charter revision {inForce.Revision})",
            null
        );
    }
}

public static class CopyWhyEndpoint
{
    public static void MapCopyWhy(this IEndpointRouteBuilder api) =>
        api.MapGet(
                "/copies/{id}/why",
                async Task<Results<Ok<CopyWhyAnswer>, ProblemHttpResult>> (
                    string id,
                    KeepContext db,
                    CopyWhy why,
                    CancellationToken cancel,
                    string? store = null
                ) =>
                    await CopyBook.FindAsync(db, id, store, cancel) is var (copy, problem) && copy is not null
                        ? TypedResults.Ok(await why.OfAsync(copy, cancel))
                        : problem!
            )
            .WithSummary("Why a copy is still there, or why it goes");
}
