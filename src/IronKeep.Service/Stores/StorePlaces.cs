using IronKeep.Core.Charters;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Service.Stores;

/// <summary>What a declared store means: the place where it lies, and the secret that opens it.</summary>
public static class StorePlaces
{
    /// <summary>The place, under the store's ceilings.</summary>
    public static IPlace Of(StoreDeclaration store)
    {
        IPlace place = store.Remote is { } remote
            ? new SftpPlace(new SftpAddress(remote.User, remote.Host, remote.Port, remote.Folder, remote.HostKey, remote.LoginKey))
            : new FolderPlace(store.Folder);
        return store.UploadAtMost is null && store.DownloadAtMost is null ? place : new ThrottledPlace(place, store.UploadAtMost?.Bytes, store.DownloadAtMost?.Bytes);
    }

    /// <summary>The secret from its file, or null for a store without encryption. A file that cannot be read is a <see cref="StoreKeyException"/>; its content is never told.</summary>
    public static Secret? SecretOf(StoreDeclaration store)
    {
        if ((store.KeyFile ?? store.PassphraseFile) is not { } file) return null;
        try
        {
            return store.KeyFile is not null ? Secret.KeyFile(File.ReadAllBytes(file)) : Secret.Passphrase(File.ReadAllText(file));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new StoreKeyException($"the secret of store {store.Name} cannot be read from {file}: {e.Message}; put the file back, or name another in the charter");
        }
    }
}
