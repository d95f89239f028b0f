using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Service.Events;
using IronKeep.Service.Stores;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Copies;

/// <summary>What a person does for single copies: hold, release, take back from the bin.</summary>
public sealed class CopyCare(
    IDbContextFactory<KeepContext> catalogue,
    OpenStores stores,
    CopyBook book,
    TimeProvider clock,
    EventHub events
)
{
    /// <summary>Holds a copy, or changes its hold.</summary>
    public Task HoldAsync(Copy copy, string by, string reason, Instant until, CancellationToken cancel) =>
        SetAsync(copy, c => (c.HeldBy, c.HeldReason, c.HeldUntil) = (by, reason, until), cancel);

    public Task ReleaseAsync(Copy copy, CancellationToken cancel) =>
        SetAsync(copy, c => (c.HeldBy, c.HeldReason, c.HeldUntil) = (null, null, null), cancel);

    /// <summary>Takes a copy back out of the bin; false when the store has it no more. Throws what the store throws.</summary>
    public async Task<bool> TakeBackAsync(Copy copy, CancellationToken cancel)
    {
        var now = clock.GetUtcNow();
        if (!await stores.AskAsync(copy.Store, store => store.TakeBack(copy.Id, now)))
            return false;
        await SetAsync(copy, c => c.BinnedAt = null, cancel);
        return true;
    }

    private async Task SetAsync(Copy known, Action<Copy> change, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.Copies.FindAsync([known.Id, known.Store], cancel) is { } copy)
        {
            change(copy);
            copy.NoteDue = true;
        }
        await db.SaveChangesAsync(CancellationToken.None);
        await book.NoteAsync(known.Store, [known.Id]);
        events.Publish(Topic.Copies);
    }
}
