using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Service.Stores;

/// <summary>What a declared store means: the place where it lies, and the secret that opens it.</summary>
public class StorePlaces(IEnumerable<IPlaceKind> kinds)
{
    /// <summary>The place, under the store's ceilings and within its capacity and reserve.</summary>
    public IPlace Of(StoreDefinition store)
    {
        var place = Bare(store);
        if (store.UploadAtMost is not null || store.DownloadAtMost is not null)
            place = new ThrottledPlace(place, store.UploadAtMost?.Bytes, store.DownloadAtMost?.Bytes);
        if (store.Capacity is null && !store.HasReserve)
            return place;
        var reserve = store.ReserveOf(store.ReservePercent is null || store.Capacity is not null ? null : place.TotalBytes());
        return new CappedPlace(place, store.Capacity?.Bytes - reserve, reserve);
    }

    /// <summary>The place as it is; tests put others in its stead.</summary>
    protected virtual IPlace Bare(StoreDefinition store) => kinds.First(k => k.Holds(store)).Open(store);

    /// <summary>
    /// The secret from its file, or null for a store without encryption. A file that cannot be read, or that others can read, is a
    /// <see cref="StoreKeyException"/>; its content is never told.
    /// </summary>
    public static Secret? SecretOf(StoreDefinition store)
    {
        if ((store.KeyFile ?? store.PassphraseFile) is not { } file)
            return null;
        try
        {
            if (OwnFiles.WhoElseReads(file) is { } others)
                throw new StoreKeyException(
                    $"the secret of store {store.Name} in {file} can be read by {others}; let the service's user alone read it: chmod 600 "
                        + $"{file}"
                );
            return store.KeyFile is not null ? Secret.KeyFile(File.ReadAllBytes(file)) : Secret.Passphrase(File.ReadAllText(file));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new StoreKeyException(
                $"the secret of store {store.Name} cannot be read from {file}: {e.Message}; put the file back, or name another in the "
                    + $"charter"
            );
        }
    }
}
