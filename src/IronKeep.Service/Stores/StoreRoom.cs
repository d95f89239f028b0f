using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Charters;
using IronKeep.Service.Machines;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Stores;

/// <summary>How much a store uses and what is left, in bytes; Problem says why it cannot be told.</summary>
public sealed record Room(long? Used, long? Free, long NearlyFullBelow, long Reserve, string? Encryption, string? Problem)
{
    public bool NearlyFull => Free is { } free && free < NearlyFullBelow;
}

/// <summary>
/// The room of stores: free = capacity − reserve − used, or what the file system has less the reserve, whichever is less, less what is
/// promised to runs at work. Source: docs/semantics.md, section 7 (Figures).
/// </summary>
public sealed class StoreRoom(
    OpenStores stores,
    AlertBook alerts,
    CharterInForce inForce,
    MachineStandings standings,
    IDbContextFactory<KeepContext> catalogue
)
{
    private readonly ConcurrentDictionary<string, Room> lastOf = new();

    /// <summary>The room as it was when the store was last looked at; null: not yet.</summary>
    public Room? LastOf(string store) => lastOf.GetValueOrDefault(store);

    /// <summary>
    /// A store on a machine that was away when it was declared is made once the machine is there; one that ever held a copy is not made
    /// anew, for its disk may not be mounted. Null, or why it cannot be made.
    /// </summary>
    public async Task<string?> MakeFirstAsync(StoreDefinition store, CancellationToken cancel)
    {
        if (store.On is not { } machine || !standings.IsHere(machine))
            return null;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
            if (await db.Copies.AnyAsync(c => c.Store == store.Name, cancel))
                return null;
        return await stores.PrepareAsync(store);
    }

    /// <summary>The room as it is now; a store that does not answer is a problem, not a wait.</summary>
    public async Task<Room> OfAsync(StoreDefinition store)
    {
        try
        {
            var (used, disk, total, encryption) = await stores.AskAsync(store.Name, opened =>
            {
                opened.CheckStillThere();
                return (
                    opened.UsedBytes(),
                    opened.Place.FreeBytes(),
                    store.ReservePercent is null ? null : opened.Place.TotalBytes(),
                    opened.Encryption
                );
            });
            var reserve = store.ReserveOf(total);
            var onDisk = disk - reserve;
            var byCapacity = store.Capacity?.Bytes - reserve - used;
            var free = byCapacity is { } limit && (onDisk is null || limit < onDisk) ? limit : onDisk;
            free -= await PromisedAsync(store.Name);
            return new Room(
                used,
                free is { } f ? Math.Max(0, f) : null,
                store.NearlyFullBelow(used, Math.Max(0, free ?? 0)),
                reserve,
                encryption,
                null
            );
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return new Room(null, null, 0, 0, null, e.Message);
        }
    }

    /// <summary>
    /// Promises room in a store to a run that is about to begin, until it gives the promise back. Null when it fits; else why it does not,
    /// and nothing is promised. Two at once never count the same room.
    /// </summary>
    public async Task<string?> PromiseAsync(StoreDefinition store, long run, long bytes, CancellationToken cancel)
    {
        await GiveBackAsync(store.Name, run);
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
        {
            db.RoomPromises.Add(
                new RoomPromise
                {
                    RunId = run,
                    Store = store.Name,
                    Bytes = bytes,
                }
            );
            await db.SaveChangesAsync(cancel);
        }
        // Promised before it is asked, so that of two who ask at once at least one sees the other.
        var room = await OfAsync(store);
        if (room.Free is not { } free || free > 0 || bytes == 0)
            return null;
        await GiveBackAsync(store.Name, run);
        return $"store {store.Name} has no room for it: about {new ByteSize(bytes)} are to be stored, and "
            + $"{new ByteSize(Math.Max(0, (await OfAsync(store)).Free ?? 0))} are free beside its reserve "
            + $"and what other runs were promised";
    }

    /// <summary>What is promised at another service counts as well; it ends with the run at the latest.</summary>
    private async Task<long> PromisedAsync(string store)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        return await db.RoomPromises.Where(p => p.Store == store).SumAsync(p => p.Bytes);
    }

    public async Task GiveBackAsync(string store, long run)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await db.RoomPromises.Where(p => p.RunId == run && p.Store == store).ExecuteDeleteAsync();
    }

    /// <summary>Opens or closes what there is to say of a store: that it is away, and that it is nearly full; gives its room.</summary>
    public async Task<Room> JudgeAsync(StoreDefinition store, CancellationToken cancel)
    {
        var room = await OfAsync(store);
        lastOf[store.Name] = room;
        var subject = Subject.OfStore(store.Name);
        List<AlertClass> open;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
            open = await db.Alerts.Where(subject.Has).Where(a => a.State != AlertState.Closed).Select(a => a.Class).ToListAsync(cancel);
        if (room.Problem is { } away)
        {
            // The silence of its machine is told as such, when it has lasted.
            if (!open.Contains(AlertClass.Failed) && (store.On is null || standings.IsHere(store.On)))
                await alerts.RaiseAsync(
                    new Matter(subject, AlertClass.Failed, away, inForce.Charter.RemedyOf(FailureClass.StoreUnreachable)) { Once = true },
                    cancel
                );
            return room;
        }
        if (open.Contains(AlertClass.Failed) && await WasAwayAsync(subject, cancel))
            await alerts.CloseAsync(subject, [AlertClass.Failed], cancel);
        if (room.Free is not { } free)
            return room;
        if (!room.NearlyFull)
        {
            if (open.Contains(AlertClass.NearlyFull))
                await alerts.CloseAsync(subject, [AlertClass.NearlyFull], cancel);
            return room;
        }
        var matter = new Matter(
            subject,
            AlertClass.NearlyFull,
            $"store {store.Name} has {new ByteSize(free)} of free room, less than {new ByteSize(room.NearlyFullBelow)}; "
                + $"{new ByteSize(room.Used!.Value)} are used",
            "Reclaim the bin, prune, or give the store more space; a run that does not fit is refused or fails, and loses nothing."
        )
        {
            Once = true,
        };
        if (open.Contains(AlertClass.NearlyFull))
            await alerts.UpdateAsync(matter, cancel);
        else
            await alerts.RaiseAsync(matter, cancel);
        return room;
    }

    /// <summary>Whether the open failure of a store is that it could not be reached; a full one is another matter.</summary>
    private async Task<bool> WasAwayAsync(Subject subject, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var alert = await db
            .Alerts.AsNoTracking()
            .Where(subject.Has)
            .Where(a => a.Class == AlertClass.Failed && a.State != AlertState.Closed)
            .OrderByDescending(a => a.Id)
            .FirstOrDefaultAsync(cancel);
        return alert is not null
            && (
                alert.RunId is null
                || await db.Runs.AnyAsync(r => r.Id == alert.RunId && r.Failure == FailureClass.StoreUnreachable, cancel)
            );
    }
}
