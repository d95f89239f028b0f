using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Stores;
using IronKeep.Stores.Places;

namespace IronKeep.Service.Stores;

/// <summary>How much a store uses and what is left, in bytes; Problem says why it cannot be told.</summary>
public sealed record Room(long? Used, long? Free, long NearlyFullBelow, string? Encryption, string? Problem)
{
    public bool NearlyFull => Free is { } free && free < NearlyFullBelow;
}

/// <summary>
/// The room of stores: free = capacity − reserve − used, or what the file system has less the reserve, whichever is less. Source:
/// docs/semantics.md, section 7.
/// </summary>
public sealed class StoreRoom(OpenStores stores, AlertBook alerts)
{
    public Room Of(StoreDeclaration store)
    {
        try
        {
            var opened = stores.Get(store.Name);
            opened.CheckStillThere();
            var used = opened.UsedBytes();
            var reserve = store.Reserve?.Bytes ?? 0;
            var onDisk = opened.Place.FreeBytes() - reserve;
            var byCapacity = store.Capacity?.Bytes - reserve - used;
            var free = byCapacity is { } limit && (onDisk is null || limit < onDisk) ? limit : onDisk;
            return new Room(used, free is { } f ? Math.Max(0, f) : null, store.NearlyFullBelow(used, Math.Max(0, free ?? 0)), opened.Head.Encryption, null);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return new Room(null, null, 0, null, e.Message);
        }
    }

    /// <summary>Opens or closes the alert of a store that is nearly full; a store that cannot be reached is left as it was.</summary>
    public async Task JudgeAsync(StoreDeclaration store, CancellationToken cancel)
    {
        var room = Of(store);
        if (room.Free is not { } free) return;
        var subject = AlertBook.StoreSubject(store.Name);
        if (!room.NearlyFull) await alerts.CloseAsync(subject, [AlertClass.NearlyFull], cancel);
        else if (!alerts.IsOpen(subject, AlertClass.NearlyFull))
            await alerts.RaiseAsync(new Matter(subject, AlertClass.NearlyFull, $"store {store.Name} has {new ByteSize(free)} of free room, less than {new ByteSize(room.NearlyFullBelow)}; {new ByteSize(room.Used!.Value)} are used",
                "Reclaim the bin, prune, or give the store more space; a run that does not fit fails and loses nothing."), cancel);
    }
}
