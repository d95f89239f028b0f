using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Joins the small packs that short runs leave, so that a store that is run every quarter of an hour has hundreds of files and not tens of
/// thousands. Packs of about one size are joined when there are many of them, so that a chunk is carried over only a few times before its
/// pack is large. Goes by the same lists of leaving packs as reclaiming, but needs no look at the copies: every chunk of what goes lies in
/// what stays.
/// </summary>
public static class SmallPacks
{
    /// <summary>Packs under this size (bytes) are small; so many of about one size are joined.</summary>
    private const long Small = PackFormat.Goal / 16;
    private const int Many = 16;

    /// <summary>Bytes that one call carries over at most.</summary>
    private const long Budget = PackFormat.Goal;

    /// <summary>Joins what there is to join; gives how many packs were joined. Does nothing while somebody else tends the store.</summary>
    public static int Join(PooledStore store, CancellationToken cancel = default)
    {
        var chosen = Choose(store);
        if (chosen.Count == 0 && LeavingList.Read(store.Place).Count == 0)
            return 0;
        try
        {
            using var lease = store.Tend(atOnce: true, cancel: cancel);
            store.Refresh();
            SettleOld(store);
            foreach (var group in chosen)
                Join(store, lease, group, cancel);
            return chosen.Sum(g => g.Count);
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.InUse)
        {
            return 0;
        }
    }

    private static List<List<string>> Choose(PooledStore store) =>
        [
            .. store
                .Index.Staying.Where(p => p.Size < Small)
                .GroupBy(p => (p.Kind, Size: SizeClass(p.Size)))
                .Where(g => g.Count() >= Many)
                .Select(WithinBudget),
        ];

    private static List<string> WithinBudget(IEnumerable<(string Pack, long Size, PackKind Kind)> packs)
    {
        long sum = 0;
        return [.. packs.TakeWhile(p => (sum += p.Size) <= Budget).Select(p => p.Pack)];
    }

    // 16 KiB, 128 KiB, 1 MiB, 8 MiB.
    private static int SizeClass(long size) =>
        Math.Max(0, (63 - long.LeadingZeroCount(Math.Max(1, size)) is var bits ? (int)bits - 11 : 0) / 3);

    private static void Join(PooledStore store, Tending lease, List<string> packs, CancellationToken cancel)
    {
        var joined = new List<string>();
        int[] into;
        using (var session = store.BeginWriting())
        {
            using var reader = new PackReader(store.Place, store.Keys);
            foreach (var pack in packs)
            {
                cancel.ThrowIfCancellationRequested();
                // One that is not what was written stays where it is, for a check to find it.
                if (store.Index.TableOf(pack) is not { } table || !PackProof.IsWhole(store, pack))
                    continue;
                var lane = table.Kind == PackKind.Listings ? session.Listings : session.OpenLane();
                lock (lane)
                {
                    for (var b = 0; b < table.Blocks.Length; b++)
                    {
                        var block = table.Blocks[b];
                        var bytes = reader.Compressed(pack, table, b, out var sound);
                        if (!sound)
                            throw new StoreDamageException($"block {b} of pack {pack} is not what was written; run a content check");
                        lane.PutBlock(
                            bytes,
                            block,
                            Enumerable.Range(block.FirstChunk, block.Chunks).Select(i => (table.IdAt(i), table.SpotAt(i).Length))
                        );
                    }
                }
                joined.Add(pack);
            }
            session.Seal();
            into = session.PublishedNumbers;
        }
        if (joined.Count == 0)
            return;
        lease.Prove();
        var list = LeavingList.Of(joined);
        list.Write(store.Place);
        store.Refresh();
        store.Needs.Moved(store.Index.NumbersOf(joined), into);
        var writers = Lease.Living(store.Place).Where(l => l.Kind == LeaseKind.Writing).Select(l => l.Id).ToList();
        list = list with { WaitsFor = [.. writers] };
        if (writers.Count > 0)
            list.Write(store.Place);
        Settle(store, list);
    }

    private static void SettleOld(PooledStore store)
    {
        foreach (var list in LeavingList.Read(store.Place))
            Settle(store, list);
    }

    /// <summary>
    /// Removes the packs of a list whose chunks all lie in packs that stay, once nobody can count on them. A list with others is left to
    /// reclaiming.
    /// </summary>
    private static void Settle(PooledStore store, LeavingList list)
    {
        if (list.MustWait(Lease.Living(store.Place)))
            return;
        var go = list
            .Packs.Where(p => !store.Index.IsKnown(p) || store.Index.TableOf(p) is { } table && HeldElsewhere(store, table))
            .ToHashSet();
        foreach (var pack in go)
            store.Place.Delete(PackNames.FileOf(pack), durable: false);
        store.Index.Forget(go);
        if (go.Count == list.Packs.Length)
            store.Place.Delete(list.File);
    }

    private static bool HeldElsewhere(PooledStore store, PackTable table)
    {
        foreach (var id in table.Ids)
            if (store.Index.StaysIn(id) < 0)
                return false;
        return true;
    }
}
