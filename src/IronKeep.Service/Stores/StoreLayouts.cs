using IronKeep.Core.Charters;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;

namespace IronKeep.Service.Stores;

/// <summary>The layouts that there are, by what a charter says of a store.</summary>
public sealed class StoreLayouts(IEnumerable<ILayoutKind> kinds)
{
    private readonly Dictionary<string, ILayoutKind> byName = kinds.ToDictionary(k => k.Name);

    /// <summary>The layout of a declared store.</summary>
    public ILayoutKind Of(StoreDefinition store) => byName[store.Layout];

    /// <summary>The layout of the store that lies at a place; null when there is none.</summary>
    public ILayoutKind? At(IPlace place) => byName.Values.FirstOrDefault(k => k.IsAt(place));
}

/// <summary>A kind of place. A new one is one class that implements this and is registered.</summary>
public interface IPlaceKind
{
    bool Holds(StoreDefinition store);

    IPlace Open(StoreDefinition store);
}

/// <summary>A folder of this machine.</summary>
public sealed class FolderKind : IPlaceKind
{
    public bool Holds(StoreDefinition store) => store.LocalFolder is not null;

    public IPlace Open(StoreDefinition store) => new FolderPlace(store.Folder);
}

/// <summary>A folder of an SSH server.</summary>
public sealed class SftpKind : IPlaceKind
{
    public bool Holds(StoreDefinition store) => store.Remote is not null;

    public IPlace Open(StoreDefinition store) =>
        store.Remote is { } remote
            ? new SftpPlace(new SftpAddress(remote.User, remote.Host, remote.Port, remote.Folder, remote.HostKey, remote.LoginKey))
            : throw new ArgumentException($"store {store.Name} lies on no server");
}
