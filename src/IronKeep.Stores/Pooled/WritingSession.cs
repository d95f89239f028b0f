using System.Collections.Concurrent;
using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// The writing of one copy. Each worker takes a lane of its own; when all lanes are sealed, the record is written last. A session
/// that ends without a record leaves at most packs that nothing refers to, which reclaiming removes and a later run uses.
/// </summary>
public sealed class WritingSession : IDisposable
{
    private readonly PooledStore store;
    private readonly ConcurrentDictionary<ChunkId, byte> unsealed = new();
    private readonly ConcurrentBag<Lane> lanes = [];
    private long newBytes;
    private long storedBytes;
    private readonly IDisposable stay;
    private bool ended;

    internal WritingSession(PooledStore store, IDisposable stay)
    {
        this.store = store;
        this.stay = stay;
    }

    /// <summary>Raw bytes of chunks that the store lacked, so far.</summary>
    public long NewBytes => Interlocked.Read(ref newBytes);

    /// <summary>Bytes that these chunks take in packs, compressed, so far.</summary>
    public long StoredBytes => Interlocked.Read(ref storedBytes);

    public Lane OpenLane()
    {
        var lane = new Lane(this);
        lanes.Add(lane);
        return lane;
    }

    /// <summary>Seals every lane and writes the record: the commit point. No lane may be used any more.</summary>
    public void Commit(CopyRecord record)
    {
        // What the lanes hold at the end goes into common packs, so that a small copy does not leave a pack for every worker.
        Lane? last = null;
        foreach (var lane in lanes)
        {
            last?.Absorb(lane);
            last ??= lane;
        }
        last?.Seal();
        store.WriteRecord(record);
    }

    public void Dispose()
    {
        if (ended) return;
        ended = true;
        foreach (var lane in lanes) lane.Dispose();
        stay.Dispose();
    }

    /// <summary>One worker's way into the store; not for two threads at once.</summary>
    public sealed class Lane : IDisposable
    {
        private readonly WritingSession session;
        private readonly PackBuilder pack = new();

        internal Lane(WritingSession session) => this.session = session;

        /// <summary>Stores a chunk unless the store has it; the content may be at most <see cref="ContentCutter.Most"/> bytes.</summary>
        public ChunkId Put(ReadOnlySpan<byte> content)
        {
            var id = ChunkId.Of(content);
            if (session.store.Index.Contains(id) || !session.unsealed.TryAdd(id, 0)) return id;
            Interlocked.Add(ref session.newBytes, content.Length);
            Interlocked.Add(ref session.storedBytes, pack.Add(id, content));
            if (pack.IsFull) Seal();
            return id;
        }

        /// <summary>Cuts and stores content that is in memory as a whole.</summary>
        public ImmutableArray<ChunkId> PutAll(ReadOnlySpan<byte> content)
        {
            var ids = ImmutableArray.CreateBuilder<ChunkId>();
            while (content.Length > 0)
            {
                var cut = ContentCutter.NextCut(content);
                ids.Add(Put(content[..cut]));
                content = content[cut..];
            }
            return ids.ToImmutable();
        }

        internal void Absorb(Lane other)
        {
            pack.Absorb(other.pack);
            if (pack.IsFull) Seal();
        }

        internal void Seal()
        {
            if (pack.IsEmpty) return;
            var (name, bytes) = pack.Seal();
            session.store.Place.Write(ChunkIndex.FileOf(name), bytes.Span);
            session.store.Index.Add(name, [.. pack.Entries]);
            pack.Clear();
        }

        /// <summary>Gives up what is not sealed.</summary>
        public void Dispose() => pack.Dispose();
    }
}
