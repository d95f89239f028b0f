using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>
/// The trees of a plain store. With a <paramref name="chain"/> of copies, their archives are looked into first and in that order; what is in
/// none of them is looked for in all others.
/// </summary>
internal sealed class PlainTrees(PlainStore store, IReadOnlyList<string> chain) : ITreeSource
{
    public int Readers => Environment.ProcessorCount;

    public IChunkSource OpenTree() => new PlainSource(store, chain);

    public IEnumerable<TreeEntry> EnumerateFolder(ContentRef content)
    {
        var order = new ListingOrder();
        using var source = OpenTree();
        foreach (var id in source.ListingIds(content))
        foreach (var entry in FolderListing.Read(source.Read(id)))
        {
            order.Next(entry.Name);
            yield return entry;
        }
    }
}

/// <summary>Reads chunks out of archives, for one thread. What is read is proved to be what was written.</summary>
internal sealed class PlainSource(PlainStore store, IReadOnlyList<string> chain) : IChunkSource
{
    private readonly Dictionary<(string Copy, bool Listing), PieceReader> readers = [];
    private readonly byte[] chunk = new byte[ContentCutter.Most];

    public ReadOnlySpan<byte> Read(ChunkId id)
    {
        if (!store.TryFind(id, chain, out var copy, out var index, out var spot))
            throw new StoreDamageException($"chunk {id} is in no copy of the store at {store.Place.Name}");
        if (!readers.TryGetValue((copy, spot.IsListing), out var reader))
            readers[(copy, spot.IsListing)] = reader = new PieceReader(
                store.Place,
                PlainStore.FolderOf(copy),
                spot.IsListing ? index.InListing : index.Archive
            );
        var bytes = chunk.AsSpan(0, spot.Length);
        reader.Read(spot.Offset, bytes);
        return store.Keys.IdOf(bytes) == id
            ? bytes
            : throw new StoreDamageException($"{PlainStore.FolderOf(copy)}: bytes at {spot.Offset} of its archive are not what was written");
    }

    public IEnumerable<ChunkId> Ids(ContentRef content) => IdLists.Resolve(content, this);

    public void Dispose()
    {
        foreach (var reader in readers.Values)
            reader.Dispose();
        readers.Clear();
    }
}
