using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>Goes through the folders of a copy, and finds single entries in it.</summary>
public static class TreeWalk
{
    /// <summary>The root of a copy as if it were an entry: a folder without a name.</summary>
    public static TreeEntry RootOf(CopyRecord record) => new(
        EntryKind.Folder, [], 0b111_101_101, 0, 0, "", "", default, default, 0, record.Bytes, record.Items, [], record.RootChunks());

    /// <summary>The entry at a path of names below the root; null when there is none. Damage on the way is thrown.</summary>
    public static TreeEntry? Find(PooledStore store, CopyRecord record, IReadOnlyList<byte[]> path)
    {
        var at = RootOf(record);
        foreach (var name in path)
        {
            if (at.Kind != EntryKind.Folder) return null;
            var next = store.ReadFolder(at.Content).Find(e => e.Name.AsSpan().SequenceEqual(name));
            if (next is null) return null;
            at = next;
        }
        return at;
    }

    /// <summary>
    /// Collects every chunk that the copy needs into <paramref name="used"/>. Folders already in <paramref name="seenFolders"/>
    /// are not walked again, so that many copies cost little more than one.
    /// </summary>
    internal static void CollectChunks(PooledStore store, ImmutableArray<ChunkId> folder, HashSet<ChunkId> used, HashSet<ImmutableArray<ChunkId>> seenFolders)
    {
        var open = new Stack<ImmutableArray<ChunkId>>();
        open.Push(folder);
        while (open.TryPop(out var listing))
        {
            if (!seenFolders.Add(listing)) continue;
            foreach (var id in listing) used.Add(id);
            foreach (var entry in store.ReadFolder(listing))
            {
                if (entry.Kind == EntryKind.Folder) open.Push(entry.Content);
                else foreach (var id in entry.Content) used.Add(id);
            }
        }
    }

    /// <summary>Compares listings by their chunks.</summary>
    internal sealed class ListingComparer : IEqualityComparer<ImmutableArray<ChunkId>>
    {
        public static ListingComparer Instance { get; } = new();
        public bool Equals(ImmutableArray<ChunkId> x, ImmutableArray<ChunkId> y) => x.AsSpan().SequenceEqual(y.AsSpan());
        public int GetHashCode(ImmutableArray<ChunkId> obj) => obj.Length == 0 ? 0 : HashCode.Combine(obj.Length, obj[0]);
    }
}
