using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Sending;

/// <summary>
/// Sends listings and lists of identities, in the order in which they were made, so that each comes after what it names. On the way the
/// machine's own identities become those that it was told; what lies in the same batch is named by its label. One that names content which
/// is still on its way waits for that; meanwhile it lies on the disk, not in memory.
/// </summary>
internal sealed class ListingSender : IDisposable
{
    private const int BatchGoal = 2 * 1024 * 1024;
    private readonly Outbox outbox;
    private readonly SendingMemory memory;
    private readonly int level;
    private readonly BlockingCollection<(WireKind Kind, ChunkId Id)> waiting = [];
    private readonly HashSet<ChunkId> inBatch = [];
    private readonly Thread sender;
    private Exception? failure;
    private volatile bool stopped;

    public ListingSender(Outbox outbox, SendingMemory memory, int level)
    {
        (this.outbox, this.memory, this.level) = (outbox, memory, level);
        sender = new Thread(SendAll) { IsBackground = true, Name = "listings" };
        sender.Start();
    }

    /// <summary>Takes a listing or a list that the store lacks; it is kept on this machine already.</summary>
    public void Add(WireKind kind, ChunkId id)
    {
        ThrowIfFailed();
        waiting.Add((kind, id));
    }

    /// <summary>Sends what is left and waits until all of it has arrived.</summary>
    public void Finish()
    {
        waiting.CompleteAdding();
        sender.Join();
        ThrowIfFailed();
    }

    public void Dispose()
    {
        stopped = true;
        waiting.CompleteAdding();
        sender.Join();
        waiting.Dispose();
    }

    private void ThrowIfFailed()
    {
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
        outbox.ThrowIfFailed();
    }

    private void SendAll()
    {
        try
        {
            using var zstd = new Zstd(level);
            var batch = new List<OutBlock>();
            var size = 0;
            foreach (var (kind, id) in waiting.GetConsumingEnumerable())
            {
                if (stopped)
                    return;
                var content = memory.Listings.Read(id, zstd);
                while (!Translate(kind, content))
                {
                    // What it waits for may itself wait for a batch to be full.
                    if (batch.Count > 0)
                        Send();
                    if (stopped)
                        return;
                    outbox.WaitForArrival();
                }
                batch.Add(Block(kind, id, content, zstd));
                inBatch.Add(id);
                size += batch[^1].Size;
                if (size >= BatchGoal || batch.Count == WireBatch.MostChunks)
                    Send();
            }
            if (batch.Count > 0)
                Send();

            void Send()
            {
                outbox.SendNow(batch);
                batch.Clear();
                inBatch.Clear();
                size = 0;
            }
        }
        catch (Exception e)
        {
            failure ??= e;
        }
    }

    /// <summary>
    /// Puts what was told in the place of what the machine calls it; false, and nothing changed, while something is on its way.
    /// </summary>
    private bool Translate(WireKind kind, byte[] content)
    {
        var there = true;
        var names = new List<ChunkId>();
        if (kind == WireKind.List)
            for (var at = 0; at < content.Length; at += ChunkId.Size)
                names.Add(Name(ChunkId.Read(content.AsSpan(at))));
        else
            Records(content, id =>
            {
                names.Add(Name(id));
                return id;
            });
        if (!there)
            return false;
        var next = 0;
        if (kind == WireKind.List)
            for (var at = 0; at < content.Length; at += ChunkId.Size)
                names[next++].Write(content.AsSpan(at));
        else
            Records(content, _ => names[next++]);
        return true;

        ChunkId Name(ChunkId id)
        {
            if (memory.TryTold(id, out var told))
                return told;
            there &= inBatch.Contains(id);
            return id;
        }
    }

    private static void Records(byte[] content, Func<ChunkId, ChunkId> to)
    {
        var rest = FolderListing.Records(content);
        while (rest.Length > 0)
        {
            var from = content.Length - rest.Length;
            EntryRecord.Take(ref rest);
            EntryRecord.Translate(content.AsSpan(from + 4, content.Length - rest.Length - from - 4), (id, _) => to(id));
        }
    }

    private OutBlock Block(WireKind kind, ChunkId label, byte[] content, Zstd zstd)
    {
        Span<byte> print = stackalloc byte[Hashes.Size];
        Hashes.Plain(HashKind.Blake3, content, print);
        var chunk = new WireChunk(ChunkId.Read(print), label, content.Length);
        return OutBlock.Of(kind, [chunk], content, zstd, compress: true, outbox.Room);
    }
}
