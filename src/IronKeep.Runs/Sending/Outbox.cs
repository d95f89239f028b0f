using System.Buffers;
using System.Buffers.Binary;
using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Sending;

/// <summary>
/// A block that is ready to travel, in an array that is given back once it is on its way: a run makes thousands of them, too large for the
/// collector to clear up in passing.
/// </summary>
internal sealed class OutBlock : IDisposable
{
    private readonly ArrayPool<byte> pool;
    private readonly byte[] rented;
    private readonly int length;

    private OutBlock(WireKind kind, bool compressed, int raw, WireChunk[] chunks, ArrayPool<byte> pool, byte[] rented, int length) =>
        (Kind, Compressed, Raw, Chunks, this.pool, this.rented, this.length) = (kind, compressed, raw, chunks, pool, rented, length);

    public WireKind Kind { get; }
    public bool Compressed { get; }
    public int Raw { get; }
    public WireChunk[] Chunks { get; }
    public ReadOnlySpan<byte> Stored => rented.AsSpan(0, length);

    /// <summary>What it takes in a batch.</summary>
    public int Size => WireBatch.SizeOf(Chunks.Length, length);

    /// <summary>A block of these chunks, compressed where that is wanted and makes it smaller.</summary>
    public static OutBlock Of(WireKind kind, WireChunk[] chunks, ReadOnlySpan<byte> content, Zstd zstd, bool compress, ArrayPool<byte> pool)
    {
        var rented = pool.Rent(content.Length);
        var length = compress && content.Length > 1 ? zstd.Compress(content, rented.AsSpan(0, content.Length - 1)) : -1;
        if (length > 0)
            return new OutBlock(kind, true, content.Length, chunks, pool, rented, length);
        content.CopyTo(rented);
        return new OutBlock(kind, false, content.Length, chunks, pool, rented, content.Length);
    }

    public void Dispose() => pool.Return(rented);
}

/// <summary>
/// Sends blocks in batches of about a MiB, several on their way at once, so that a line with a long delay is full. What arrived is
/// remembered at once. Waits when too much is waiting. After a failure nothing more is taken.
/// </summary>
internal sealed class Outbox : IDisposable
{
    private const int BatchGoal = 1024 * 1024,
        InFlight = 4,
        Waiting = 12;

    /// <summary>How long a batch that is not full waits for more: a request costs the receiver more than a block does.</summary>
    private static readonly TimeSpan Gathers = TimeSpan.FromMilliseconds(25);
    private readonly ICopyLink link;
    private readonly SendingMemory memory;
    private readonly Action<ChunkId> isThere;
    private readonly BlockingCollection<OutBlock> blocks = new(Waiting);
    private readonly Thread[] senders;
    private readonly object arrived = new(),
        gathering = new();
    private Exception? failure;
    private long newBytes,
        storedBytes;

    /// <summary><paramref name="isThere"/> is told of each chunk that arrived, once it is remembered.</summary>
    public Outbox(ICopyLink link, SendingMemory memory, Action<ChunkId> isThere)
    {
        (this.link, this.memory, this.isThere) = (link, memory, isThere);
        senders = [.. Enumerable.Range(0, InFlight).Select(i => new Thread(SendAll) { IsBackground = true, Name = $"outbox {i}" })];
        foreach (var sender in senders)
            sender.Start();
    }

    /// <summary>Where blocks and batches lie until they have travelled; gone with the copy.</summary>
    public ArrayPool<byte> Room { get; } = ArrayPool<byte>.Create(WireBatch.Most, Waiting + 2 * InFlight);

    /// <summary>Raw bytes that the store lacked, and what they take there, as it said last.</summary>
    public long NewBytes => Interlocked.Read(ref newBytes);
    public long StoredBytes => Interlocked.Read(ref storedBytes);

    /// <summary>Puts a block into the next batch; waits while enough is waiting.</summary>
    public void Add(OutBlock block)
    {
        ThrowIfFailed();
        try
        {
            while (!blocks.TryAdd(block, 200))
                ThrowIfFailed();
        }
        catch (InvalidOperationException)
        {
            ThrowIfFailed();
            throw;
        }
    }

    /// <summary>Sends one batch at once, from this thread, and waits for its answer.</summary>
    public void SendNow(List<OutBlock> batch)
    {
        ThrowIfFailed();
        Send(batch);
    }

    /// <summary>Waits until something arrived, for a short time.</summary>
    public void WaitForArrival()
    {
        lock (arrived)
            Monitor.Wait(arrived, 50);
        ThrowIfFailed();
    }

    /// <summary>Sends what is left and waits until all of it has arrived.</summary>
    public void Finish()
    {
        blocks.CompleteAdding();
        foreach (var sender in senders)
            sender.Join();
        ThrowIfFailed();
    }

    public void ThrowIfFailed()
    {
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
    }

    public void Dispose()
    {
        if (!blocks.IsAddingCompleted)
        {
            failure ??= new OperationCanceledException("the copy was given up");
            blocks.CompleteAdding();
        }
        foreach (var sender in senders)
            sender.Join();
        blocks.Dispose();
    }

    private void SendAll()
    {
        var batch = new List<OutBlock>();
        try
        {
            while (Gather(batch) && failure is null)
            {
                Send(batch);
                batch.Clear();
            }
        }
        catch (Exception e)
        {
            failure ??= e;
        }
        finally
        {
            Pulse();
        }
    }

    /// <summary>Fills the next batch; false when nothing more comes. One sender at a time, so that not each waits with a part.</summary>
    private bool Gather(List<OutBlock> batch)
    {
        lock (gathering)
        {
            if (!blocks.TryTake(out var block, Timeout.Infinite))
                return false;
            batch.Add(block);
            var size = block.Size;
            while (size < BatchGoal && blocks.TryTake(out var more, Gathers))
            {
                batch.Add(more);
                size += more.Size;
            }
            return true;
        }
    }

    private void Send(List<OutBlock> batch)
    {
        var answer = Ask(batch).AsSpan();
        var count = batch.Sum(b => b.Chunks.Length);
        if (answer.Length != ArrivingCopy.AnswerHead + count * ChunkId.Size)
            throw new IOException("the answer to what was sent is not one");
        Largest(ref newBytes, BinaryPrimitives.ReadInt64LittleEndian(answer));
        Largest(ref storedBytes, BinaryPrimitives.ReadInt64LittleEndian(answer[8..]));
        answer = answer[ArrivingCopy.AnswerHead..];
        foreach (var chunk in batch.SelectMany(b => b.Chunks))
        {
            memory.Arrived(chunk.Label, ChunkId.Read(answer), chunk.Length);
            isThere(chunk.Label);
            answer = answer[ChunkId.Size..];
        }
        Pulse();
    }

    /// <summary>Sends the blocks, which are given back with that, and gives the answer.</summary>
    private byte[] Ask(List<OutBlock> batch)
    {
        var bytes = Room.Rent(4 + batch.Sum(b => b.Size));
        WireBatch.Magic.CopyTo(bytes);
        var at = 4;
        foreach (var block in batch)
        {
            at += WireBatch.Write(bytes.AsSpan(at), block.Kind, block.Compressed, block.Raw, block.Chunks, block.Stored);
            block.Dispose();
        }
        var answer = link.Send(bytes.AsMemory(0, at));
        // Not after a failure: what could not be sent may still be read from for a moment.
        Room.Return(bytes);
        return answer;
    }

    private static void Largest(ref long value, long said)
    {
        for (var now = Interlocked.Read(ref value); said > now; )
        {
            var before = Interlocked.CompareExchange(ref value, said, now);
            if (before == now)
                return;
            now = before;
        }
    }

    private void Pulse()
    {
        lock (arrived)
            Monitor.PulseAll(arrived);
    }
}
