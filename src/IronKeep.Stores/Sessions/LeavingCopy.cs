using System.Buffers;
using System.Collections.Concurrent;
using System.Text;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// A copy that is read from another machine, which is not trusted: it names chunks by identities that are good for this one reading, so it
/// can ask for what hangs under the root of this copy and for nothing else. Safe for several threads. What is asked for in a wrong way is
/// an <see cref="ArrivalRefusedException"/>; what is damaged or absent is told in the answer.
/// </summary>
public sealed class LeavingCopy : IDisposable
{
    private static readonly TimeSpan LooksEvery = TimeSpan.FromSeconds(10);
    private readonly PooledStore store;
    private readonly SealedIds ids;
    private readonly ConcurrentBag<Worker> idle = [];
    private long looked = long.MinValue;
    private volatile bool disposed;

    public LeavingCopy(PooledStore store, CopyRecord record)
    {
        (this.store, ids) = (store, SealedIds.Passing(store.Keys));
        Told = record with { Root = [.. record.RootContent().Ids.Select(i => ids.Seal(i).ToString())] };
    }

    /// <summary>The record, its root as the other machine may name it.</summary>
    public CopyRecord Told { get; }

    /// <summary>
    /// Gives the chunks that are asked for (<see cref="WireAsk"/>), as many of the first as one answer holds, one at least.
    /// </summary>
    public byte[] Give(ReadOnlySpan<byte> asked)
    {
        if (asked.Length is 0 or > WireAsk.Most * WireAsk.Size || asked.Length % WireAsk.Size != 0)
            throw new ArrivalRefusedException(ArrivalFault.Wrong, "what was asked for is no list of chunks");
        var worker = idle.TryTake(out var rested) ? rested : new Worker(store.NewTreeReader());
        try
        {
            var body = worker.Body;
            body.ResetWrittenCount();
            for (; asked.Length > 0 && body.WrittenCount < WireAsk.AnswerUntil; asked = asked[WireAsk.Size..])
                One((WireKind)asked[0], ids.Open(ChunkId.Read(asked[1..])), worker);
            return WireAsk.Answer(body.WrittenSpan, worker.Zstd);
        }
        finally
        {
            idle.Add(worker);
            if (disposed)
                Dispose();
        }
    }

    public void Dispose()
    {
        disposed = true;
        while (idle.TryTake(out var worker))
            worker.Dispose();
    }

    private void One(WireKind kind, ChunkId id, Worker worker)
    {
        try
        {
            if (!IsThere(id))
                throw new StoreDamageException($"chunk {id} is not in the store");
            var content = worker.Reader.Read(id);
            if (kind == WireKind.Content)
            {
                WireAsk.Add(worker.Body, true, content);
                return;
            }
            // What names chunks names them in the one way that is good here.
            var turned = worker.Turned.AsSpan(0, content.Length);
            content.CopyTo(turned);
            if (kind == WireKind.Listing)
                FolderListing.Translate(turned, (i, _) => ids.Seal(i));
            else if (kind == WireKind.List && turned.Length % ChunkId.Size == 0)
                for (var at = 0; at < turned.Length; at += ChunkId.Size)
                    ids.Seal(ChunkId.Read(turned[at..])).Write(turned[at..]);
            else
                throw new StoreDamageException($"chunk {id} is not of the kind that was asked for");
            WireAsk.Add(worker.Body, true, turned);
        }
        catch (StoreDamageException e)
        {
            WireAsk.Add(worker.Body, false, Encoding.UTF8.GetBytes(e.Message));
        }
    }

    /// <summary>What is made up must not have the packs listed anew each time.</summary>
    private bool IsThere(ChunkId id)
    {
        if (store.LengthOf(id) > 0)
            return true;
        var (now, last) = (Environment.TickCount64, Interlocked.Read(ref looked));
        if (last > now - (long)LooksEvery.TotalMilliseconds || Interlocked.CompareExchange(ref looked, now, last) != last)
            return false;
        store.Refresh();
        return store.LengthOf(id) > 0;
    }

    /// <summary>What one request at a time works with.</summary>
    private sealed class Worker(ChunkReader reader) : IDisposable
    {
        public ChunkReader Reader => reader;
        public Zstd Zstd { get; } = new();
        public ArrayBufferWriter<byte> Body { get; } = new();
        public byte[] Turned { get; } = new byte[PackFormat.MostBlockRaw];

        public void Dispose()
        {
            reader.Dispose();
            Zstd.Dispose();
        }
    }
}
