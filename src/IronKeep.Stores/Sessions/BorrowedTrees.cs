using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// Proves that the folders which a copy takes over from earlier ones are whole: those that stand in the copy before, which is whole, by
/// that; any other by reading it to the bottom. What arrived with the copy itself was proved as it came.
/// </summary>
internal sealed class BorrowedTrees(PooledStore store, Func<ChunkId, bool> arrived, Func<ChunkId, bool> held, CancellationToken cancel)
{
    /// <summary>Throws <see cref="ArrivalRefusedException"/> when something is absent, or is no folder.</summary>
    public void Prove(ContentRef root, CopyRecord? before)
    {
        try
        {
            using var finder = new DamageFinder(store, _ => null, new HashSet<ChunkId>());
            var whole = before is not null && finder.Walk(before).Count == 0 ? before.RootContent() : (ContentRef?)null;
            // A folder that stands in many places is read once: a few bytes can name one millions of times.
            var seen = new HashSet<ContentRef>();
            using var reader = store.NewTreeReader();
            var open = new Stack<(ContentRef Now, ContentRef? Before)>([(root, whole)]);
            while (open.TryPop(out var at))
            {
                cancel.ThrowIfCancellationRequested();
                if (at.Now == at.Before || !seen.Add(at.Now))
                    continue;
                var beside = new Dictionary<byte[], ContentRef>(ByteOrder.Instance);
                if (at.Before is { } there)
                    foreach (var entry in store.EnumerateFolder(there).Where(e => e.Kind == EntryKind.Folder))
                        beside[entry.Name] = entry.Content;
                foreach (var id in reader.ListingIds(at.Now))
                foreach (var entry in FolderListing.Read(reader.Read(id)))
                {
                    if (entry.Kind == EntryKind.Folder)
                        open.Push((entry.Content, beside.TryGetValue(entry.Name, out var same) ? same : null));
                    else if (!arrived(id))
                        Held(entry.Content, reader);
                }
            }
        }
        catch (StoreDamageException e)
        {
            throw new ArrivalRefusedException(
                ArrivalFault.Absent,
                $"a folder that the copy takes over from an earlier one is not whole in the store any more ({e.Message}); send it"
            );
        }
    }

    private void Held(ContentRef content, Packs.ChunkReader reader)
    {
        foreach (var id in reader.Ids(content))
            if (!held(id))
                throw new StoreDamageException($"chunk {id} is not in the store");
    }
}
