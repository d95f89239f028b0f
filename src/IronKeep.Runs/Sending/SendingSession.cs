using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Sending;

/// <summary>
/// A store that somebody else has at hand, as a place where copies are written; it keeps itself in order. What counted on something absent
/// is tried again in doubt: then everything is asked for, and what is not there is sent.
/// </summary>
public sealed class SendingTarget(ICopyLink link, SendingMemory memory, CopyRecord? before, bool inDoubt = false) : ICopyTarget
{
    public ICopySession BeginCopy(int level)
    {
        var inForce = link.Begin(memory.Copies);
        memory.Begin(inDoubt ? new HashSet<string>() : inForce, link.Has);
        return new SendingSession(link, memory, before, level);
    }

    public void Tidy(CancellationToken cancel) { }

    public string? GiveBack(ICopySession session) => null;
}

/// <summary>
/// The writing of one copy over a link. Identities are plain BLAKE3 here; what travels is named as the service told it. A chunk travels
/// once, compressed with its neighbours, and only when it is not known to be there.
/// </summary>
internal sealed class SendingSession : ICopySession
{
    private readonly ICopyLink link;
    private readonly SendingMemory memory;
    private readonly CopyRecord? before;
    private readonly int level;
    private readonly Outbox outbox;
    private readonly ListingSender listings;
    private readonly ConcurrentDictionary<ChunkId, byte> pending = new();
    private readonly ConcurrentBag<Lane> lanes = [];
    private bool ended;

    public SendingSession(ICopyLink link, SendingMemory memory, CopyRecord? before, int level)
    {
        (this.link, this.memory, this.before, this.level) = (link, memory, before, level);
        outbox = new Outbox(link, memory, id => pending.TryRemove(id, out _));
        listings = new ListingSender(outbox, memory, level);
        Listings = new Lane(this, WireKind.Listing);
    }

    public long NewBytes => outbox.NewBytes;
    public long StoredBytes => outbox.StoredBytes;
    public IChunkLane Listings { get; }

    public IChunkLane OpenLane()
    {
        var lane = new Lane(this, WireKind.Content);
        lanes.Add(lane);
        return lane;
    }

    public IChunkSource OpenSource() => new KeptSource(memory.Listings);

    public bool CountsOn(ChunkId id, int depth) => pending.ContainsKey(id) || memory.CountsOn(id, depth);

    public int LengthOf(ChunkId id) => memory.LengthOf(id);

    public CopyRecord Commit(CopyRecord record)
    {
        foreach (var lane in lanes)
            lane.Close();
        outbox.Finish();
        listings.Finish();
        var root = record.RootContent();
        var made = link.Commit(record with { Root = [.. root.Ids.Select(id => Told(id).ToString())] }, before?.Id);
        record = record with { Id = made.Id, NewBytes = made.NewBytes, StoredBytes = made.StoredBytes };
        memory.Commit(record);
        return record;
    }

    public void Dispose()
    {
        if (ended)
            return;
        ended = true;
        listings.Dispose();
        outbox.Dispose();
        foreach (var lane in lanes)
            lane.Dispose();
        Listings.Dispose();
    }

    private static ChunkId IdOf(ReadOnlySpan<byte> content)
    {
        Span<byte> print = stackalloc byte[Hashes.Size];
        Hashes.Plain(HashKind.Blake3, content, print);
        return ChunkId.Read(print);
    }

    private ChunkId Told(ChunkId id) =>
        memory.TryTold(id, out var told) ? told : throw new IOException("what was sent was not all answered for");

    /// <summary>Whether a chunk is there or on its way; else it is for the caller to send.</summary>
    private bool IsKnown(ChunkId id)
    {
        // In this order: what arrives is remembered first, and is on its way no more after that.
        if (!pending.TryAdd(id, 0))
            return true;
        if (!memory.CountsOn(id, 0))
            return false;
        pending.TryRemove(id, out _);
        return true;
    }

    private void Keep(WireKind kind, ChunkId id, ReadOnlySpan<byte> content)
    {
        if (IsKnown(id))
        {
            // What a list or listing says must be at hand for the next run, whoever sent it.
            memory.Listings.Add(id, content);
            return;
        }
        memory.Listings.Add(id, content);
        listings.Add(kind, id);
    }

    /// <summary>One worker's way; of content it gathers blocks as a pack has them.</summary>
    private sealed class Lane(SendingSession session, WireKind kind) : IChunkLane
    {
        private const int Own = 256 * 1024,
            ProbeLength = 16 * 1024,
            WorthProbing = 128 * 1024;
        private readonly Zstd zstd = new(session.level);
        private readonly List<WireChunk> chunks = [];
        private readonly byte[] probe = new byte[ProbeLength];
        private byte[] block = [];
        private int length;

        public ChunkId IdOf(ReadOnlySpan<byte> content) => SendingSession.IdOf(content);

        public ChunkId Put(ReadOnlySpan<byte> content, ChunkId id)
        {
            session.outbox.ThrowIfFailed();
            if (kind != WireKind.Content)
                session.Keep(kind, id, content);
            else if (!session.IsKnown(id))
                Add(content, id);
            return id;
        }

        public ContentRef Refer(IReadOnlyList<ChunkId> ids) => IdLists.Refer(ids, list =>
            {
                var id = SendingSession.IdOf(list);
                session.Keep(WireKind.List, id, list);
                return id;
            });

        /// <summary>Sends what is gathered.</summary>
        public void Close()
        {
            if (chunks.Count > 0)
                Send(block.AsSpan(0, length));
        }

        public void Dispose() => zstd.Dispose();

        private void Add(ReadOnlySpan<byte> content, ChunkId id)
        {
            if (content.Length >= Own)
            {
                Close();
                chunks.Add(new WireChunk(id, id, content.Length));
                Send(content);
                return;
            }
            if (block.Length == 0)
                block = new byte[PackBuilder.BlockGoal + Own];
            content.CopyTo(block.AsSpan(length));
            length += content.Length;
            chunks.Add(new WireChunk(id, id, content.Length));
            if (length >= PackBuilder.BlockGoal || chunks.Count == WireBatch.MostChunks)
                Close();
        }

        private void Send(ReadOnlySpan<byte> content)
        {
            session.outbox.Add(OutBlock.Of(kind, [.. chunks], content, zstd, Shrinks(content), session.outbox.Room));
            chunks.Clear();
            length = 0;
        }

        // Content that does not shrink is found out by compressing three short pieces of it.
        private bool Shrinks(ReadOnlySpan<byte> content)
        {
            if (content.Length < WorthProbing)
                return true;
            Span<int> starts = [0, content.Length / 2, content.Length - ProbeLength];
            foreach (var start in starts)
                if (zstd.Compress(content.Slice(start, ProbeLength), probe.AsSpan(0, ProbeLength - ProbeLength / 32)) >= 0)
                    return true;
            return false;
        }
    }
}
