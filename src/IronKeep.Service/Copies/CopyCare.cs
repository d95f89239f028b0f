using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using IronKeep.Service.Prunes;
using IronKeep.Service.Stores;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Copies;

/// <summary>What a person does for single copies: hold, release, take back from the bin, and ask why one is still there.</summary>
public sealed class CopyCare(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, OpenStores stores, CopyBook book, PruneDesk prunes, TimeProvider clock, EventHub events)
{
    /// <summary>Holds a copy, or changes its hold.</summary>
    public Task HoldAsync(string id, string by, string reason, Instant until, CancellationToken cancel) =>
        SetAsync(id, c => (c.HeldBy, c.HeldReason, c.HeldUntil) = (by, reason, until), cancel);

    public Task ReleaseAsync(string id, CancellationToken cancel) => SetAsync(id, c => (c.HeldBy, c.HeldReason, c.HeldUntil) = (null, null, null), cancel);

    /// <summary>Takes a copy back out of the bin; false when the store has it no more. Throws what the store throws.</summary>
    public async Task<bool> TakeBackAsync(Copy copy, CancellationToken cancel)
    {
        var now = clock.GetUtcNow();
        if (!await stores.AskAsync(copy.Store, store => store.TakeBack(copy.Id, now))) return false;
        await SetAsync(copy.Id, c => c.BinnedAt = null, cancel);
        return true;
    }

    /// <summary>The verdict on one copy as of now, with its reasons.</summary>
    public async Task<CopyWhyAnswer> WhyAsync(Copy copy, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        charter.Stores.TryGetValue(copy.Store, out var store);
        if (copy.BinnedAt is { } binned)
        {
            var until = store is null ? (DateTimeOffset?)null : (binned + store.Bin.ToDuration()).ToDateTimeOffset();
            return new CopyWhyAnswer(copy.ToAnswer(clock.Now()), Kebab.Of(Verdict.Expire), [$"it expired and went to the bin {binned.Local(charter.Zone)}; restorable until its bytes are reclaimed"], null, null, null, null, until);
        }
        if (!charter.Jobs.TryGetValue(copy.Job, out var job) || !job.Into.Contains(copy.Store))
            return new CopyWhyAnswer(copy.ToAnswer(clock.Now()), Kebab.Of(Verdict.Keep), [$"the charter has no job {copy.Job} into store {copy.Store} any more; what no policy governs does not expire"], null, null, null, null, null);
        var policy = charter.Policies[job.Policy];
        var plan = await prunes.DraftAsync(job, copy.Store, policy, cancel);
        var verdict = plan.Copies.First(c => c.Copy.Id == copy.Id);
        // Found by asking again for each moment since: it is asked for one copy at a time.
        var since = verdict.Verdict is Verdict.Expire or Verdict.Frozen
            ? RetentionRules.ExpiresSince(plan.Policy, plan.Guards, [.. plan.Copies.Select(c => c.Copy)], copy.Id, plan.AsOf) : null;
        return new CopyWhyAnswer(
            copy.ToAnswer(clock.Now()), Kebab.Of(verdict.Verdict), since is { } let ? [.. verdict.Reasons, $"no longer kept since {let.Local(charter.Zone)}"] : verdict.Reasons, verdict.LeavesAt?.ToDateTimeOffset(), policy.Name, $"{policy.Keep}, at least {policy.AtLeast}",
            $"job {job.Name} names policy {policy.Name} (charter revision {inForce.Revision})", null);
    }

    private async Task SetAsync(string id, Action<Copy> change, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.Copies.FindAsync([id], cancel) is { } copy)
        {
            change(copy);
            copy.NoteDue = true;
        }
        await db.SaveChangesAsync(CancellationToken.None);
        await book.NoteAsync([id]);
        events.Publish("copies");
    }
}
