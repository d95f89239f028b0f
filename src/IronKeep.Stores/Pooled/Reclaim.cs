using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// How far a reclaiming goes: bytes of packs that it rewrites at most, and bytes that the store may take more than before while packs
/// wait to be removed.
/// </summary>
public sealed record ReclaimLimits(long Rewrite = long.MaxValue, long Extra = 1024L * 1024 * 1024);

/// <summary>
/// What reclaiming did: copies whose time in the bin was over, packs removed and rewritten, bytes the store uses less, and packs that
/// still wait for somebody who was writing to end.
/// </summary>
public sealed record ReclaimReport(
    IReadOnlyList<string> CopiesGone,
    int PacksRemoved,
    int PacksRewritten,
    long BytesFreed,
    int PacksWaiting
);

/// <summary>
/// Frees the bytes that no copy needs any more, also while others write. Marks from the copy records, so that a record that cannot be
/// read, or a tree that cannot be walked, stops it: what cannot be known to be dead stays. What is to go is first put on a list (see
/// <see cref="LeavingList"/>), new packs are durable before old ones go, and everything can be done again, so a crash at any point loses
/// nothing and the next reclaiming goes on. docs/store-format.md says why it is safe.
/// </summary>
public sealed class Reclaim : IDisposable
{
    /// <summary>Packs with less than this share of live bytes are rewritten.</summary>
    private const double WorthKeeping = 0.75;

    /// <summary>Blocks with at least this share of live bytes are taken over as they are; others are compressed anew.</summary>
    private const double WholeBlock = 0.5;

    /// <summary>Packs under this size (bytes) are put together when there are so many of a kind.</summary>
    private const long Small = PackFormat.Goal / 16;
    private const int ManySmall = 12;

    private readonly PooledStore store;
    private readonly Tending lease;
    private readonly CancellationToken cancel;
    private readonly ReclaimLimits limits;
    private Marks marks;
    private int removed,
        rewritten,
        waiting;

    private Reclaim(PooledStore store, ReclaimLimits limits, CancellationToken cancel)
    {
        (this.store, this.limits, this.cancel) = (store, limits, cancel);
        lease = store.Tend(cancel: cancel);
        marks = new Marks(store);
    }

    /// <summary>
    /// Removes copies that went to the bin at or before <paramref name="binnedUntil"/> by their signed notes, if <paramref name="mayGo"/>
    /// agrees (given the id; null: all), then what nothing needs.
    /// </summary>
    public static ReclaimReport Run(
        PooledStore store,
        DateTimeOffset binnedUntil,
        ReclaimLimits? limits = null,
        Func<string, bool>? mayGo = null,
        CancellationToken cancel = default
    )
    {
        store.CheckStillThere();
        using var work = new Reclaim(store, limits ?? new ReclaimLimits(), cancel);
        return work.Run(binnedUntil, mayGo ?? (_ => true));
    }

    /// <summary>
    /// Gives back what a run stored that did not come to its end, where no copy needs it. Done when nobody else tends the store; else, and
    /// for what others who write may count on, the next reclaiming does it.
    /// </summary>
    public static int GiveBack(PooledStore store, IReadOnlyCollection<string> packs, CancellationToken cancel)
    {
        if (packs.Count == 0)
            return 0;
        using var work = new Reclaim(store, new ReclaimLimits(), cancel);
        work.Settle(work.Announce([.. packs]));
        return work.removed;
    }

    public void Dispose()
    {
        marks.Dispose();
        lease.Dispose();
    }

    private ReclaimReport Run(DateTimeOffset binnedUntil, Func<string, bool> mayGo)
    {
        var before = store.PackSizes().Values.Sum();
        store.Place.RemoveRemnants(2 * store.Terms.Length);
        ReadSound();
        var gone = RemoveRecords(binnedUntil, mayGo);
        Mark();
        var unreadable = new List<string>();
        foreach (var list in LeavingList.Read(store.Place, unreadable))
            Settle(list);
        foreach (var list in unreadable)
            store.Place.Delete(list);
        var packs = store.Index.Packs.ToList();
        var dead = packs.Where(p => !marks.NeedsAny(p.Pack)).Select(p => p.Pack).ToList();
        if (dead.Count > 0)
            Settle(Announce(dead));
        try
        {
            Rewrite([.. packs.Where(p => marks.NeedsAny(p.Pack))]);
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.Full)
        {
            // What needed room is left for a time when there is some; what could be freed is free.
        }
        Ballast.Take(store.Place);
        return new ReclaimReport(gone, removed, rewritten, before - store.PackSizes().Values.Sum(), waiting);
    }

    private StoreContents ReadSound()
    {
        var contents = store.ReadContents();
        return contents.Damaged.Length == 0
            ? contents
            : throw new StoreDamageException(
                $"the record of copy {contents.Damaged[0].CopyId} cannot be read, so it is not known which chunks it needs; run a content "
                    + $"check, and remove the record file by hand once the copy is given up"
            );
    }

    private List<string> RemoveRecords(DateTimeOffset until, Func<string, bool> mayGo)
    {
        var gone = new List<string>();
        foreach (var copy in ReadSound().Copies.Where(c => c.Binned <= until && mayGo(c.Record.Id)))
        {
            // By the very name that was looked at: one that was taken back meanwhile has another, and stays.
            if (!store.Records.DeleteFile(copy))
                continue;
            gone.Add(copy.Record.Id);
            store.Needs.Forget(copy.Record.Id);
        }
        return gone;
    }

    /// <summary>Marks what all copies need that are there now.</summary>
    private void Mark()
    {
        var contents = ReadSound();
        // After the records: the packs of a copy are there before its record is.
        store.Refresh();
        foreach (var copy in contents.Copies)
        {
            try
            {
                marks.Add(copy.Record, cancel);
            }
            catch (StoreDamageException e)
            {
                throw new StoreDamageException(
                    $"copy {copy.Record.Id} cannot be walked ({e.Message}), so it is not known which chunks it needs; run its job again to "
                        + $"heal it, or let it expire",
                    e
                );
            }
        }
    }

    /// <summary>
    /// Puts packs on a durable list. From here on nobody who begins to write counts on them; who is writing already is waited for.
    /// </summary>
    private LeavingList Announce(IReadOnlyList<string> packs)
    {
        var list = LeavingList.Of(packs);
        list.Write(store.Place);
        store.Refresh();
        var writers = Lease.Living(store.Place).Where(l => l.Kind == LeaseKind.Writing).Select(l => l.Id).ToList();
        list = list with { WaitsFor = [.. writers] };
        if (writers.Count > 0)
            list.Write(store.Place);
        return list;
    }

    /// <summary>
    /// Removes the packs of a list if nobody who was writing when it was made still is; those that a new copy needs stay.
    /// </summary>
    private void Settle(LeavingList list)
    {
        if (list.MustWait(Lease.Living(store.Place)))
        {
            waiting += list.Packs.Length;
            return;
        }
        // Copies that came since the first look can need what nothing needed then.
        Mark();
        lease.Prove();
        var go = list.Packs.Where(p => !marks.NeedsAny(p) || HeldElsewhere(p)).ToHashSet();
        // Not durable one by one: a dead pack that a crash brings back harms nobody.
        foreach (var pack in go)
            store.Place.Delete(PackNames.FileOf(pack), durable: false);
        store.Index.Forget(go);
        removed += go.Count;
        store.Place.Delete(list.File);
        store.Refresh();
    }

    /// <summary>Whether every needed chunk of a leaving pack is in a pack that stays.</summary>
    private bool HeldElsewhere(string pack)
    {
        if (store.Index.TableOf(pack) is not { } table)
            return false;
        for (var i = 0; i < table.Count; i++)
            if (marks.Needs(pack, i) && store.Index.StaysIn(table.IdAt(i)) < 0)
                return false;
        return true;
    }

    private void Rewrite(List<(string Pack, long Size)> packs)
    {
        var worth = packs.Select(p => (p.Pack, p.Size, Live: LiveShare(p.Pack))).ToList();
        var chosen = worth.Where(p => p.Live < WorthKeeping).ToList();
        var small = worth
            .Where(p => p.Size < Small && p.Live >= WorthKeeping)
            .GroupBy(p => store.Index.TableOf(p.Pack)?.Kind)
            .Where(g => g.Count() >= ManySmall)
            .SelectMany(g => g);
        long read = 0,
            extra = 0;
        var batch = new List<string>();
        var session = store.BeginWriting();
        try
        {
            foreach (var (pack, size, live) in chosen.OrderBy(p => p.Live).Concat(small))
            {
                cancel.ThrowIfCancellationRequested();
                if (read + size > limits.Rewrite || waiting > 0 && extra > limits.Extra)
                    break;
                batch.Add(pack);
                read += size;
                extra += (long)(size * live);
                if (extra < Math.Min(limits.Extra, 8L * PackFormat.Goal))
                    continue;
                Finish();
                session = store.BeginWriting();
            }
            Finish();
        }
        finally
        {
            session.Dispose();
        }

        void Finish()
        {
            Parallel.ForEach(
                batch,
                new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount, CancellationToken = cancel },
                session.OpenLane,
                (pack, _, lane) =>
                {
                    CopyLive(session, lane, pack);
                    return lane;
                },
                _ => { }
            );
            session.Seal();
            session.Dispose();
            rewritten += batch.Count;
            if (batch.Count == 0)
                return;
            var before = waiting;
            Settle(Announce(batch));
            removed -= waiting == before ? batch.Count : 0;
            if (waiting == before)
                extra = 0;
            batch = [];
        }
    }

    private double LiveShare(string pack)
    {
        if (store.Index.TableOf(pack) is not { } table)
            return 1;
        long live = 0,
            all = 1;
        for (var i = 0; i < table.Count; i++)
        {
            all += table.SpotAt(i).Length;
            if (marks.Needs(pack, i))
                live += table.SpotAt(i).Length;
        }
        return (double)live / all;
    }

    /// <summary>Takes over the live chunks of a pack: whole blocks as they are where that is worth it.</summary>
    private void CopyLive(WritingSession session, WritingSession.Lane contentLane, string pack)
    {
        var table = store.Index.TableOf(pack)
            ?? throw new StoreDamageException($"the table of pack {pack} cannot be read; run a content check");
        // Where nothing is sealed, only the name of the whole pack tells that a block is what was written.
        if (!store.Keys.Encrypts && !PackProof.IsWhole(store, pack))
            throw new StoreDamageException($"pack {pack} is not what was written; run a content check");
        var lane = table.Kind == PackKind.Listings ? session.Listings : contentLane;
        using var reader = new PackReader(store.Place, store.Keys);
        lock (lane)
        {
            for (var b = 0; b < table.Blocks.Length; b++)
            {
                var block = table.Blocks[b];
                var live = Enumerable.Range(block.FirstChunk, block.Chunks).Where(i => marks.Needs(pack, i)).ToList();
                if (live.Count == 0)
                    continue;
                var whole = live.Sum(i => (long)table.SpotAt(i).Length) >= WholeBlock * block.Raw;
                if (whole)
                {
                    var compressed = reader.Compressed(pack, table, b, out var sound);
                    if (!sound)
                        throw Damaged(b);
                    lane.PutBlock(
                        compressed,
                        block,
                        Enumerable.Range(block.FirstChunk, block.Chunks).Select(i => (table.IdAt(i), table.SpotAt(i).Length))
                    );
                    continue;
                }
                var raw = reader.Block(pack, table, b, out var opened);
                if (!opened)
                    throw Damaged(b);
                foreach (var i in live)
                {
                    var content = raw.Slice(table.SpotAt(i).Offset, table.SpotAt(i).Length);
                    if (store.Keys.IdOf(content) != table.IdAt(i))
                        throw Damaged(b);
                    lane.PutAnyway(table.IdAt(i), content);
                }
            }
        }

        StoreDamageException Damaged(int block) => new($"block {block} of pack {pack} is not what was written; run a content check");
    }
}
