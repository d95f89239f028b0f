using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Which chunks the copies need, as one bit a chunk of each pack. Folders that are the same in several copies are walked once, so
/// that many copies cost little more than one.
/// </summary>
internal sealed class Marks(PooledStore store) : IDisposable
{
    private readonly Dictionary<string, System.Collections.BitArray> needed = [];
    private readonly HashSet<ContentRef> seen = [];
    private readonly HashSet<ChunkId> listed = [];
    private readonly HashSet<(ChunkId, int)> walkedLists = [];
    private readonly HashSet<string> copies = [];
    private readonly ChunkReader reader = store.NewTreeReader();

    /// <summary>Whether a copy was added before.</summary>
    public bool Knows(string copyId) => copies.Contains(copyId);

    /// <summary>Whether the chunk at a place of a pack is needed.</summary>
    public bool Needs(string pack, int index) => needed.TryGetValue(pack, out var bits) && bits[index];

    /// <summary>Whether any chunk of a pack is needed.</summary>
    public bool NeedsAny(string pack) => needed.ContainsKey(pack);

    /// <summary>Marks everything that a copy needs; what cannot be walked is a <see cref="StoreDamageException"/>.</summary>
    public void Add(CopyRecord record, CancellationToken cancel)
    {
        if (!copies.Add(record.Id))
            return;
        var open = new Stack<ContentRef>();
        open.Push(record.RootContent());
        while (open.TryPop(out var listing))
        {
            cancel.ThrowIfCancellationRequested();
            if (!seen.Add(listing))
                continue;
            MarkAll(listing);
            foreach (var id in reader.ListingIds(listing))
            {
                if (!listed.Add(id))
                    continue;
                // Lists are read afterwards: reading them would use the buffer in which this chunk lies.
                var from = FolderListing.Records(reader.Read(id));
                var lists = new List<ContentRef>();
                while (from.Length > 0)
                {
                    var entry = EntryRecord.Take(ref from);
                    if (EntryRecord.KindOf(entry) == EntryKind.Folder)
                        open.Push(EntryRecord.ContentOf(entry));
                    else
                    {
                        var content = EntryRecord.ContentOf(entry);
                        if (content.Depth > 0)
                            lists.Add(content);
                        else
                            foreach (var chunk in content.Ids)
                                Mark(chunk);
                    }
                }
                foreach (var content in lists)
                    MarkAll(content);
            }
        }
    }

    public void Dispose() => reader.Dispose();

    /// <summary>Marks the chunks of some content and the lists on the way, each list once.</summary>
    private void MarkAll(ContentRef content)
    {
        foreach (var id in content.Ids)
        {
            Mark(id);
            if (content.Depth > 0 && walkedLists.Add((id, content.Depth)))
                MarkAll(new ContentRef(content.Depth - 1, [.. reader.Ids(new ContentRef(1, [id]))]));
        }
    }

    private void Mark(ChunkId id)
    {
        if (!store.Index.TryGet(id, out var at))
            throw new StoreDamageException($"chunk {id} is not in the store");
        if (!needed.TryGetValue(at.Pack, out var bits))
            needed[at.Pack] = bits = new System.Collections.BitArray(at.Table.Count);
        bits[at.Index] = true;
    }
}
