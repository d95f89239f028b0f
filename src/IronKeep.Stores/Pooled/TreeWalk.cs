using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>Finds single entries in a copy.</summary>
public static class TreeWalk
{
    /// <summary>The root of a copy as if it were an entry: a folder without a name.</summary>
    public static TreeEntry RootOf(CopyRecord record) =>
        new(
            EntryKind.Folder,
            [],
            0b111_101_101,
            0,
            0,
            1,
            default,
            default,
            0,
            0,
            record.Bytes,
            record.RootContent(),
            record.Items,
            "",
            "",
            0,
            [],
            [],
            null
        );

    /// <summary>The entry at a path of names below the root; null when there is none. Damage on the way is thrown.</summary>
    public static TreeEntry? Find(ITreeSource store, CopyRecord record, IReadOnlyList<byte[]> path)
    {
        var at = RootOf(record);
        foreach (var name in path)
        {
            if (at.Kind != EntryKind.Folder)
                return null;
            var next = store.EnumerateFolder(at.Content).FirstOrDefault(e => e.Name.AsSpan().SequenceEqual(name));
            if (next is null)
                return null;
            at = next;
        }
        return at;
    }
}
