using IronKeep.Core.Charters;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Dated;

/// <summary>
/// Files that something else writes, told apart by their names. <paramref name="memoryOf"/> gives what is remembered of a store's files,
/// <paramref name="elsewhere"/> the folder of a store on another machine.
/// </summary>
public sealed class DatedLayout(
    Func<string, IFileMemory> memoryOf,
    TimeProvider clock,
    Func<StoreDefinition, CalledPlace>? elsewhere = null
) : ILayoutKind
{
    public string Name => "dated-files";

    /// <summary>A folder that is not there is a wrong path or a missing mount: nothing was ever written to it.</summary>
    public bool MakesFolders => false;

    /// <summary>Nothing in a folder says that it is one: a charter does.</summary>
    public bool IsAt(IPlace place) => false;

    public void Create(IPlace place, StoreMaking making, DateTimeOffset now)
    {
        // It is there already, and nothing of ours is put into it.
    }

    public bool Encrypts(IPlace place) => false;

    public IStoreLayout Open(StoreOpening opening)
    {
        var called = opening.Declared.On is null ? null : elsewhere?.Invoke(opening.Declared);
        IDatedFolder folder = called is null ? new LocalDatedFolder(opening.Declared.Folder) : new CalledDatedFolder(called);
        return new DatedStore(
            folder,
            called is null ? new FolderPlace(opening.Declared.Folder) : called,
            opening.Declared.Dated ?? throw new ArgumentException($"store {opening.Declared.Name} says nothing of its files' names"),
            opening.Zone,
            memoryOf(opening.Declared.Name),
            clock
        );
    }

    public IStoreLayout OpenToRead(StoreOpening opening) => Open(opening);
}
