using System.Buffers;
using System.Buffers.Binary;
using System.Collections.Concurrent;
using IronKeep.Blake3;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// A copy that arrives from another machine, which is not trusted: every chunk is unpacked and proved before it is kept, every listing is
/// read and its identities are those of the machine's own chunks, and the record is written here, last. Safe for several threads. What is
/// wrong is an <see cref="ArrivalRefusedException"/> and leaves nothing that counts; the errors of the store are those of
/// <see cref="PooledStore"/>.
/// </summary>
public sealed class ArrivingCopy : IDisposable
{
    /// <summary>Bytes in front of the identities in an answer: new and stored bytes so far.</summary>
    public const int AnswerHead = 16;

    private readonly PooledStore store;
    private readonly SealedIds ids;
    private readonly WritingSession session;
    private readonly ConcurrentBag<Worker> idle = [];
    private readonly HashSet<(ulong Id, bool IsList)> whole = [];
    private volatile bool borrows;

    private ArrivingCopy(PooledStore store, SealedIds ids, WritingSession session) =>
        (this.store, this.ids, this.session) = (store, ids, session);

    /// <summary>Begins to take a copy of a machine, compressing anew what has to be at a level of Zstandard (1 to 19).</summary>
    public static ArrivingCopy Begin(PooledStore store, string machine, int level) =>
        new(store, new SealedIds(store.Keys, machine), store.BeginWriting(level));

    /// <summary>Raw bytes of chunks that the store lacked, and what they take in it, so far.</summary>
    public long NewBytes => session.NewBytes;
    public long StoredBytes => session.StoredBytes;

    /// <summary>
    /// Takes a batch (<see cref="WireBatch"/>). The answer: new and stored bytes of the copy so far (64 bits each), then for each chunk the
    /// identity that the machine may name it by.
    /// </summary>
    public byte[] Take(ReadOnlySpan<byte> batch)
    {
        Enter();
        try
        {
            return TakeIn(batch);
        }
        finally
        {
            Leave();
        }
    }

    private byte[] TakeIn(ReadOnlySpan<byte> batch)
    {
        if (batch.Length is < 4 or > WireBatch.Most || !batch[..4].SequenceEqual(WireBatch.Magic))
            throw WireBatch.Wrong("is no batch of blocks");
        batch = batch[4..];
        var answer = new ArrayBufferWriter<byte>();
        answer.GetSpan(AnswerHead)[..AnswerHead].Clear();
        answer.Advance(AnswerHead);
        var worker = idle.TryTake(out var rested) ? rested : new Worker(session.OpenLane());
        try
        {
            var labels = new Dictionary<ChunkId, ChunkId>();
            while (WireBatch.Take(ref batch, out var block))
                foreach (var id in Block(block, worker, labels))
                {
                    ids.Seal(id).Write(answer.GetSpan(ChunkId.Size));
                    answer.Advance(ChunkId.Size);
                }
        }
        finally
        {
            idle.Add(worker);
        }
        var bytes = answer.WrittenSpan.ToArray();
        BinaryPrimitives.WriteInt64LittleEndian(bytes, session.NewBytes);
        BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(8), session.StoredBytes);
        return bytes;
    }

    /// <summary>Which of the identities, as the machine was told them, name something that is there still: one byte each, 1 or 0.</summary>
    public byte[] Has(ReadOnlySpan<byte> told)
    {
        if (told.Length % ChunkId.Size != 0)
            throw WireBatch.Wrong("is no list of identities");
        var has = new byte[told.Length / ChunkId.Size];
        Enter();
        try
        {
            for (var i = 0; i < has.Length; i++)
                has[i] = session.Holds(ids.Open(ChunkId.Read(told[(i * ChunkId.Size)..])), 0) ? (byte)1 : (byte)0;
        }
        finally
        {
            Leave();
        }
        return has;
    }

    /// <summary>
    /// Makes durable what arrived and writes the record, whose root is as the machine names it. <paramref name="before"/> is the copy that
    /// it was compared with, from which unchanged folders are taken over; null: none.
    /// </summary>
    public CopyRecord Commit(CopyRecord record, CopyRecord? before, CancellationToken cancel)
    {
        if (record.Depth is < 0 or > ContentRef.MostDepth || record.Root.Length is < 1 or > ContentRef.MostDirect)
            throw WireBatch.Wrong("has a root that no copy has");
        if (record is not { Items: >= 0, Bytes: >= 0, Skipped: >= 0 })
            throw WireBatch.Wrong("counts less than nothing");
        lock (gate)
        {
            if (disposed || committing)
                throw WireBatch.Wrong("comes after its copy is over");
            committing = true;
        }
        try
        {
            return CommitIn(record, before, cancel);
        }
        finally
        {
            lock (gate)
            {
                committing = false;
                Monitor.PulseAll(gate);
            }
        }
    }

    private CopyRecord CommitIn(CopyRecord record, CopyRecord? before, CancellationToken cancel)
    {
        End();
        var told = record.RootContent();
        var root = new ContentRef(told.Depth, [.. told.Ids.Select(id => Open(id, told.Depth, null))]);
        session.Seal();
        if (borrows || !root.Ids.All(id => IsWhole(id, root.Depth > 0)))
            new BorrowedTrees(store, id => IsWhole(id, false), id => session.Holds(id, 0) || HoldsForCertain(id, 0), cancel).Prove(
                root,
                before
            );
        cancel.ThrowIfCancellationRequested();
        return session.Commit(record with { Root = [.. root.Ids.Select(i => i.ToString())] });
    }

    /// <summary>Ends the copy; what is being taken at this moment is taken first, and what is being committed is made or is not.</summary>
    public void Dispose()
    {
        lock (gate)
        {
            disposed = true;
            while (committing)
                Monitor.Wait(gate);
        }
        End();
        session.Dispose();
        while (idle.TryTake(out var worker))
            worker.Dispose();
    }

    private readonly object gate = new();
    private int inside;
    private bool over,
        committing,
        disposed;

    private void Enter()
    {
        lock (gate)
        {
            if (over)
                throw WireBatch.Wrong("comes after its copy is over");
            inside++;
        }
    }

    private void Leave()
    {
        lock (gate)
        {
            inside--;
            Monitor.PulseAll(gate);
        }
    }

    /// <summary>From here on nothing more is taken, and nothing is being taken.</summary>
    private void End()
    {
        lock (gate)
        {
            over = true;
            while (inside > 0)
                Monitor.Wait(gate);
        }
    }

    /// <summary>What one request at a time works with.</summary>
    private sealed class Worker(WritingSession.Lane lane) : IDisposable
    {
        public WritingSession.Lane Lane => lane;
        public Zstd Zstd { get; } = new();
        public byte[] Raw { get; } = new byte[PackFormat.MostBlockRaw];

        public void Dispose() => Zstd.Dispose();
    }

    private List<ChunkId> Block(in WireBlock block, Worker worker, Dictionary<ChunkId, ChunkId> labels)
    {
        var raw = worker.Raw.AsSpan(0, block.Raw);
        if (!block.Compressed)
            block.Stored.CopyTo(raw);
        else if (!worker.Zstd.Decompress(block.Stored, raw))
            throw WireBatch.Wrong("cannot be unpacked");
        Span<byte> print = stackalloc byte[ChunkId.Size];
        var at = 0;
        foreach (var chunk in block.Chunks)
        {
            Blake3Hash.Hash(raw.Slice(at, chunk.Length), print);
            if (ChunkId.Read(print) != chunk.Print)
                throw WireBatch.Wrong("holds a chunk that is not what it says");
            at += chunk.Length;
        }
        var found = new List<ChunkId>(block.Chunks.Length);
        at = 0;
        if (block.Kind == WireKind.Content)
        {
            var chunks = new (ChunkId Id, int Length)[block.Chunks.Length];
            for (var i = 0; i < chunks.Length; at += chunks[i].Length, i++)
            {
                chunks[i] = (worker.Lane.IdOf(raw.Slice(at, block.Chunks[i].Length)), block.Chunks[i].Length);
                found.Add(chunks[i].Id);
            }
            worker.Lane.PutBlock(block.Stored, raw, block.Compressed, chunks);
            return found;
        }
        foreach (var chunk in block.Chunks)
        {
            var content = raw.Slice(at, chunk.Length);
            at += chunk.Length;
            found.Add(block.Kind == WireKind.List ? List(content, worker, labels) : Listing(content, labels));
            // One label, one chunk: what was counted on must not become another.
            if (!labels.TryAdd(chunk.Label, found[^1]) && labels[chunk.Label] != found[^1])
                throw WireBatch.Wrong("gives two chunks the same label");
        }
        return found;
    }

    /// <summary>A list of identities, of content or of such lists.</summary>
    private ChunkId List(Span<byte> content, Worker worker, Dictionary<ChunkId, ChunkId> labels)
    {
        var all = true;
        if (content.Length % ChunkId.Size != 0)
            throw WireBatch.Wrong("holds a list of identities that is none");
        for (var i = 0; i < content.Length; i += ChunkId.Size)
        {
            var id = Open(ChunkId.Read(content[i..]), 0, labels);
            all &= IsWhole(id, false) || IsWhole(id, true);
            id.Write(content[i..]);
        }
        var list = worker.Lane.Put(content);
        if (all)
            NoteWhole(list, true);
        return list;
    }

    /// <summary>A part of a folder's listing, each record in order and whole.</summary>
    private ChunkId Listing(Span<byte> content, Dictionary<ChunkId, ChunkId> labels)
    {
        try
        {
            var order = new ListingOrder();
            var rest = FolderListing.Records(content);
            while (rest.Length > 0)
            {
                var from = content.Length - rest.Length;
                EntryRecord.Take(ref rest);
                // Its length stands in front.
                var record = content[(from + 4)..(content.Length - rest.Length)];
                var isFolder = EntryRecord.KindOf(record) == Posix.EntryKind.Folder;
                EntryRecord.Translate(record, (named, depth) =>
                {
                    var id = Open(named, depth, labels);
                    borrows |= isFolder && !IsWhole(id, depth > 0);
                    return id;
                });
                order.Next(EntryRecord.Read(record).Name);
            }
        }
        catch (StoreDamageException e)
        {
            throw WireBatch.Wrong($"holds a listing that is none ({e.Message})");
        }
        ChunkId listing;
        lock (session.Listings)
            listing = session.Listings.Put(content);
        NoteWhole(listing, false);
        return listing;
    }

    /// <summary>
    /// Looks once more when nobody changes the index: while packs leave it, what is there may seem to be absent for a moment. Who writes
    /// beside the store stores it again then; here it would be a refusal.
    /// </summary>
    private bool HoldsForCertain(ChunkId id, int depth)
    {
        store.Refresh();
        return session.Holds(id, depth);
    }

    /// <summary>
    /// Whether it is a listing that arrived in this copy, or a list of such: what it names was proved, or is known to be taken over. By 64
    /// bits of its identity, of which nobody without the store's key can choose one.
    /// </summary>
    private bool IsWhole(ChunkId id, bool asList)
    {
        lock (whole)
            return whole.Contains((id.A, asList));
    }

    private void NoteWhole(ChunkId id, bool asList)
    {
        lock (whole)
            whole.Add((id.A, asList));
    }

    /// <summary>
    /// The chunk that the machine names: one of this batch by its label, or one that it was told of and that is there. At a depth above 0
    /// it is a list.
    /// </summary>
    private ChunkId Open(ChunkId named, int depth, Dictionary<ChunkId, ChunkId>? labels)
    {
        if (labels is not null && labels.TryGetValue(named, out var arrived))
            return arrived;
        var id = ids.Open(named);
        return session.Holds(id, depth) || HoldsForCertain(id, depth)
            ? id
            : throw new ArrivalRefusedException(
                ArrivalFault.Absent,
                "what was sent counts on a chunk that the store does not have from this machine; send it"
            );
    }
}
