using System.Collections.Concurrent;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Service.Stores;

/// <summary>The stores of the charter, opened when first needed and kept open: their chunk index is in memory.</summary>
public sealed class OpenStores(CharterInForce charter, TimeProvider clock) : IDisposable
{
    private readonly ConcurrentDictionary<string, PooledStore> open = new();
    private readonly Dictionary<string, StoreDeclaration> openedAs = [];
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
                if (openedAs[name] == declared) return store;
                open.TryRemove(name, out _);
                store.Dispose();
            }
            openedAs[name] = declared;
            try
            {
                return open[name] = PooledStore.Open(StorePlaces.Of(declared), StorePlaces.SecretOf(declared));
            }
            catch (StoreKeyException e)
            {
                throw new PlaceException(PlaceFault.AccessRefused, e.Message, e);
            }
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
            if (store.Remote is null && !Directory.Exists(store.Folder)) Directory.CreateDirectory(store.Folder);
            var place = StorePlaces.Of(store);
            using var remote = place as IDisposable;
            if (!PooledStore.IsAt(place)) PooledStore.Create(place, new StoreMaking(store.Sha256 ? HashKind.Sha256 : HashKind.Blake3, StorePlaces.SecretOf(store), "the service's"), clock.GetUtcNow());
            else if (StorePlaces.SecretOf(store) is not null && !PooledStore.ReadHead(place).Encrypts)
                return $"store {store.Name}: the charter names a secret, but the store that lies at {place.Name} does not encrypt; take the line out, or begin an encrypted store in another folder";
            return null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or StoreKeyException or IronKeep.Stores.StoreDamageException)
        {
            return $"store {store.Name} cannot be made: {e.Message}";
        }
    }

    public void Dispose()
    {
        foreach (var store in open.Values) store.Dispose();
    }
}
