using System.Collections.Concurrent;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Service.Stores;

/// <summary>The stores of the charter, opened when first needed and kept open: their chunk index is in memory.</summary>
public sealed class OpenStores(CharterInForce charter, TimeProvider clock) : IDisposable
{
    private readonly ConcurrentDictionary<string, PooledStore> open = new();
    private readonly Lock gate = new();

    /// <summary>The open store; throws <see cref="PlaceException"/> or <see cref="IronKeep.Stores.StoreDamageException"/> when it cannot be opened.</summary>
    public PooledStore Get(string name)
    {
        if (!charter.Charter.Stores.TryGetValue(name, out var declared))
            throw new PlaceException(PlaceFault.Unreachable, $"the charter has no store '{name}' any more; declare it again to reach its copies");
        lock (gate)
        {
            if (open.TryGetValue(name, out var store))
            {
                if (store.Place.Name == declared.Folder) return store;
                open.TryRemove(name, out _);
                store.Dispose();
            }
            return open[name] = PooledStore.Open(new FolderPlace(declared.Folder));
        }
    }

    /// <summary>
    /// Makes the folder and the empty store of a newly declared store. Null when it is there now, else why not. Only the first
    /// applying makes a folder: later a missing one means a missing mount.
    /// </summary>
    public string? Prepare(StoreDeclaration store)
    {
        try
        {
            if (!Directory.Exists(store.Folder)) Directory.CreateDirectory(store.Folder);
            var place = new FolderPlace(store.Folder);
            if (!PooledStore.IsAt(place)) PooledStore.Create(place, StoreMaking.Open, clock.GetUtcNow());
            return null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return $"store {store.Name} cannot be made: {e.Message}";
        }
    }

    public void Dispose()
    {
        foreach (var store in open.Values) store.Dispose();
    }
}
