using System.Collections.Concurrent;
using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// The writing of one copy. Each worker takes a lane of its own; when all lanes are sealed, the record is written last. A session
/// that ends without a record leaves at most packs that nothing refers to, which reclaiming removes and a later run uses.
/// </summary>
public sealed partial class WritingSession : ICopySession
{
    /// <summary>Packs that may be on their way to the disk at once.</summary>
    private const int Outstanding = 4;

    // Of a small chunk that the store seems to hold, only the table of its pack tells for certain. Chunks that were put together lie
    // together, so a table serves many. Where they lie scattered over more tables than memory holds, reading a table for each costs
    // far more than storing the chunk again: a session reads so many for small chunks, and one more for so many that it puts.
    private const int SmallChunk = 16 * 1024,
        FirstTables = 64,
        PutsForATable = 256;

    private readonly PooledStore store;
    private readonly Lease lease;
    private readonly int level;
    private readonly ConcurrentDictionary<ChunkId, byte> unsealed = new();
    private readonly PackNeeds needs = new();
    private readonly ConcurrentBag<Lane> lanes = [];
    private readonly SemaphoreSlim room = new(Outstanding);
    private readonly ConcurrentBag<Task> publishing = [];
    private readonly ConcurrentBag<int> published = [];
    private readonly ConcurrentDictionary<int, byte> leaving;
    private Exception? failure;
    private long newBytes,
        puts;
    private int tablesLeft = FirstTables;
    private bool sealedAll,
        ended;

    internal WritingSession(PooledStore store, Lease lease, int level)
    {
        this.store = store;
        this.lease = lease;
        this.level = level;
        leaving = new ConcurrentDictionary<int, byte>(store.Index.LeavingNow.Select(n => KeyValuePair.Create(n, (byte)0)));
        Listings = OpenLane(PackKind.Listings);
    }

    /// <summary>Raw bytes of chunks that the store lacked, so far.</summary>
    public long NewBytes => Interlocked.Read(ref newBytes);

    /// <summary>Bytes that these chunks take in packs, compressed, so far; those of the last blocks come when they are sealed.</summary>
    public long StoredBytes => lanes.Sum(l => l.StoredBytes);

    /// <summary>The packs that were made durable so far.</summary>
    public IReadOnlyList<string> Published => [.. published.Select(store.Index.NameOf).OfType<string>()];

    /// <summary>The numbers of the packs that were made durable, once all are sealed.</summary>
    internal int[] PublishedNumbers => [.. published];

    /// <summary>The lane of folder listings, which lie in packs of their own. Whoever uses it locks it.</summary>
    public Lane Listings { get; }

    /// <summary>A lane for the content of files.</summary>
    public Lane OpenLane() => OpenLane(PackKind.Content);

    IChunkLane ICopySession.Listings => Listings;

    IChunkLane ICopySession.OpenLane() => OpenLane();

    IChunkSource ICopySession.OpenSource() => store.NewReader();

    int ICopySession.LengthOf(ChunkId id) => store.LengthOf(id);

    /// <summary>
    /// Whether a chunk that stays seems to be there already, so that the copy can count on it: one of content at depth 0, a list of
    /// identities above that.
    /// </summary>
    public bool CountsOn(ChunkId id, int depth)
    {
        var pack = store.Index.SeemsToStayIn(id);
        if (pack < 0)
            return false;
        needs.Note(pack);
        if (depth > 0)
            needs.NoteList(id, depth);
        return true;
    }

    /// <summary>
    /// Whether a chunk is there for this session, or was put in it. A pack that begins to leave while the session is open waits for its
    /// end, so what was found in it stays; one that was leaving before counts from when it was seen to stay after all.
    /// </summary>
    internal bool Holds(ChunkId id, int depth)
    {
        if (unsealed.ContainsKey(id))
            return true;
        var pack = Stays(store.Index.SeemsToStayIn(id));
        if (pack < 0)
            pack = store.Index.SeemsToLieIn(id, leaving);
        if (pack < 0)
            return false;
        needs.Note(pack);
        if (depth > 0)
            needs.NoteList(id, depth);
        return true;
    }

    /// <summary>
    /// Seals every lane and writes the record, which says besides what it stored: the commit point. No lane may be used any more.
    /// </summary>
    public CopyRecord Commit(CopyRecord record)
    {
        Seal();
        record = record with { NewBytes = NewBytes, StoredBytes = StoredBytes };
        lease.Prove();
        store.CheckStillThere();
        store.Records.Write(record);
        try
        {
            lease.Prove();
        }
        catch
        {
            store.Records.Delete(record.Id);
            throw;
        }
        if (needs.Known() is { } known)
            store.Needs.Remember(record.Id, known);
        return record;
    }

    /// <summary>Makes everything that was put durable, without a record: it belongs to copies that are there already.</summary>
    internal void Seal()
    {
        ThrowIfFailed();
        sealedAll = true;
        // What the lanes hold at the end goes into common packs, so that a small copy does not leave a pack for every worker.
        foreach (var kind in lanes.GroupBy(l => l.Kind))
        {
            var first = kind.FirstOrDefault(l => l.HasFile) ?? kind.First();
            foreach (var lane in kind.Where(l => l != first))
                first.Absorb(lane);
            foreach (var lane in kind)
                lane.Seal();
        }
        Task.WaitAll([.. publishing]);
        ThrowIfFailed();
    }

    public void Dispose()
    {
        if (ended)
            return;
        ended = true;
        try
        {
            // What a run that was stopped has stored is good, and the next one uses it.
            if (!sealedAll && failure is null)
                Seal();
            Task.WaitAll([.. publishing]);
        }
        catch (Exception e) when (e is PlaceException or AggregateException)
        {
            // Whoever commits hears of it; here nothing is committed.
        }
        foreach (var lane in lanes)
            lane.Dispose();
        lease.Dispose();
        room.Dispose();
    }

    private Lane OpenLane(PackKind kind)
    {
        var lane = new Lane(this, kind);
        lanes.Add(lane);
        return lane;
    }

    /// <summary>Remembers that a lane broke down in the middle: what it holds may be half done, and nothing more is sealed.</summary>
    private Exception Failed(Exception e)
    {
        failure ??= e;
        System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
        return e;
    }

    private void ThrowIfFailed()
    {
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
    }

    /// <summary>The number of a pack that stays and holds the chunk, or -1 when none does or when it costs too much to know.</summary>
    private int Find(ChunkId id, int length)
    {
        if (Interlocked.Increment(ref puts) % PutsForATable == 0)
            Interlocked.Increment(ref tablesLeft);
        if (store.Index.SeemsToStayIn(id) < 0)
            return -1;
        if (store.Index.StaysIn(id, atHand: true) is var pack and >= 0)
            return Stays(pack);
        if (length < SmallChunk)
        {
            if (Volatile.Read(ref tablesLeft) <= 0)
                return -1;
            Interlocked.Decrement(ref tablesLeft);
        }
        return Stays(store.Index.StaysIn(id));
    }

    private int Stays(int pack)
    {
        if (!leaving.IsEmpty)
            leaving.TryRemove(pack, out _);
        return pack;
    }

    /// <summary>Makes a pack durable while the lanes go on; waits when several are on their way already.</summary>
    private void Publish(WrittenPack pack)
    {
        room.Wait();
        publishing.Add(
            Task.Run(() =>
            {
                try
                {
                    // A mount that was lost leaves an empty folder, which would take packs without a word.
                    store.CheckStillThere();
                    pack.Publish();
                    var number = store.Index.Add(pack.Name, pack.Table, SizeOf(pack.Table));
                    needs.Note(number);
                    published.Add(number);
                    for (var i = 0; i < pack.Table.Count; i++)
                        unsealed.TryRemove(pack.Table.IdAt(i), out _);
                }
                catch (Exception e)
                {
                    failure ??= e;
                }
                finally
                {
                    room.Release();
                }
            })
        );
    }

    private long SizeOf(PackTable table)
    {
        var end = table.Blocks.Length == 0 ? PackFormat.HeadSize : table.Blocks[^1].Offset + table.Blocks[^1].Stored;
        return end
            + table.Blocks.Length * PackFormat.BlockEntrySize
            + (long)table.Count * PackFormat.ChunkEntrySize
            + (store.Head.Encrypts ? Keys.Sealing.TagSize : 0)
            + PackFormat.TailSize;
    }
}
