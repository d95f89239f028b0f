using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>What reclaiming did: copies whose time in the bin was over, packs removed and rewritten, bytes the store uses less.</summary>
public sealed record ReclaimReport(IReadOnlyList<string> CopiesGone, int PacksRemoved, int PacksRewritten, long BytesFreed);

/// <summary>
/// Frees the bytes that no copy needs any more. Marks from the copy records, so that a record that cannot be read, or a tree that
/// cannot be walked, stops it: what cannot be known to be dead stays. New packs are durable before old ones go, and everything is
/// idempotent, so a crash at any point loses nothing and the next reclaiming goes on.
/// </summary>
public static class Reclaim
{
    /// <summary>Packs with less than this share of live bytes are rewritten.</summary>
    private const double WorthKeeping = 0.75;

    /// <summary>Removes copies that went to the bin at or before <paramref name="binnedUntil"/>, then what nothing needs.</summary>
    public static ReclaimReport Run(PooledStore store, DateTimeOffset binnedUntil, CancellationToken cancel = default)
    {
        using var alone = store.BeginReclaiming();
        var contents = store.ReadContents();
        if (contents.Damaged.Length > 0)
            throw new StoreDamageException($"the record of copy {contents.Damaged[0].CopyId} cannot be read, so it is not known which chunks it needs; run a content check, and remove the record file by hand once the copy is given up");
        var over = contents.Copies.Where(c => c.Binned <= binnedUntil).ToList();
        var used = new HashSet<ChunkId>();
        var seen = new HashSet<System.Collections.Immutable.ImmutableArray<ChunkId>>(TreeWalk.ListingComparer.Instance);
        foreach (var copy in contents.Copies.Except(over))
        {
            cancel.ThrowIfCancellationRequested();
            try
            {
                TreeWalk.CollectChunks(store, copy.Record.RootChunks(), used, seen);
            }
            catch (StoreDamageException e)
            {
                throw new StoreDamageException($"copy {copy.Record.Id} cannot be walked ({e.Message}), so it is not known which chunks it needs; run its job again to heal it, or let it expire", e);
            }
        }
        foreach (var copy in over) store.DeleteRecord(copy.Record.Id);
        var (removed, rewritten, freed) = Sweep(store, used, cancel);
        return new ReclaimReport([.. over.Select(c => c.Record.Id)], removed, rewritten, freed);
    }

    private static (int Removed, int Rewritten, long Freed) Sweep(PooledStore store, HashSet<ChunkId> used, CancellationToken cancel)
    {
        var sizes = store.Place.List(ChunkIndex.Folder).Where(f => ChunkIndex.IsPack(f.Name)).ToDictionary(f => ChunkIndex.PackOf(f.Name), f => f.Size);
        long before = sizes.Values.Sum();
        int removed = 0, rewritten = 0;
        using var builder = new PackBuilder();
        var sources = new List<string>();
        foreach (var (pack, entries) in store.Index.Packs.ToList())
        {
            cancel.ThrowIfCancellationRequested();
            var live = entries.Where(e => used.Contains(e.Id) && store.Index.TryGet(e.Id, out var at) && at.Pack == pack).ToList();
            if (live.Count == 0)
            {
                Remove(store, pack);
                removed++;
            }
            else if (live.Sum(e => (long)e.StoredLength) < WorthKeeping * sizes.GetValueOrDefault(pack))
            {
                foreach (var entry in live)
                {
                    var stored = new byte[entry.StoredLength];
                    var read = store.Place.ReadAt(ChunkIndex.FileOf(pack), entry.Offset, stored);
                    if (ChunkReader.Unfold(entry, stored.AsSpan(0, read)) is not { } raw || ChunkId.Of(raw) != entry.Id)
                        throw new StoreDamageException($"chunk {entry.Id} in pack {pack} is not what was written; run a content check");
                    builder.AddStored(entry, stored);
                }
                sources.Add(pack);
                rewritten++;
                if (builder.IsFull) Publish(store, builder, sources);
            }
        }
        Publish(store, builder, sources);
        var after = store.Place.List(ChunkIndex.Folder).Sum(f => f.Size);
        return (removed, rewritten, before - after);
    }

    private static void Publish(PooledStore store, PackBuilder builder, List<string> sources)
    {
        if (!builder.IsEmpty)
        {
            var (name, bytes) = builder.Seal();
            store.Place.Write(ChunkIndex.FileOf(name), bytes.Span);
            store.Index.Add(name, [.. builder.Entries]);
            builder.Clear();
            sources.Remove(name);
        }
        foreach (var source in sources) Remove(store, source);
        sources.Clear();
    }

    private static void Remove(PooledStore store, string pack)
    {
        store.Index.Forget(pack);
        store.Place.Delete(ChunkIndex.FileOf(pack));
    }
}
