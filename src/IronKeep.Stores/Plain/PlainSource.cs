using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>
/// The trees of a plain store: of a copy and all that it stands on, the copy first, or with no <paramref name="chain"/> of all copies that
/// are there.
/// </summary>
internal sealed class PlainTrees(PlainStore store, IReadOnlyList<CopyRecord> chain) : ITreeSource
{
    private readonly Lazy<List<(string Copy, PlainIndex Index)>> own = new(() => [.. chain.Select(c => (c.Id, store.IndexOf(c)))]);

    public int Readers => Environment.ProcessorCount;

    public IChunkSource OpenTree() => new PlainSource(store, this);

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

    /// <summary>Where a chunk lies; absence is a <see cref="StoreDamageException"/>.</summary>
    public (string Copy, PlainIndex Index, Spot Spot) Find(ChunkId id)
    {
        foreach (var (copy, index) in chain.Count > 0 ? own.Value : store.Indexes())
            if (index.TryGet(id, out var spot))
                return (copy, index, spot);
        throw new StoreDamageException($"chunk {id} is in no copy of the store at {store.Place.Name} that could have it");
    }

    public bool Has(ChunkId id) => own.Value.Exists(o => o.Index.TryGet(id, out _));
}

/// <summary>Reads chunks out of archives, for one thread. What is read is proved to be what was written.</summary>
internal sealed class PlainSource(PlainStore store, PlainTrees trees) : IChunkSource
{
    private readonly Dictionary<(string Copy, bool Listing), PieceReader> readers = [];
    private readonly byte[] chunk = new byte[ContentCutter.Most];

    public ReadOnlySpan<byte> Read(ChunkId id)
    {
        var (copy, index, spot) = trees.Find(id);
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
            : throw new StoreDamageException(
                $"{PlainStore.FolderOf(copy)}: bytes at {spot.Offset} of its archive are not what was written"
            );
    }

    public IEnumerable<ChunkId> Ids(ContentRef content) => IdLists.Resolve(content, this);

    public void Dispose()
    {
        foreach (var reader in readers.Values)
            reader.Dispose();
        readers.Clear();
    }
}
