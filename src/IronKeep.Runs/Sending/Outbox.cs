using System.Buffers.Binary;
using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Sending;

/// <summary>A block that is ready to travel.</summary>
internal sealed record OutBlock(WireKind Kind, bool Compressed, int Raw, WireChunk[] Chunks, byte[] Stored);

/// <summary>
/// Sends blocks in batches of about a MiB, several on their way at once, so that a line with a long delay is full. What arrived is
/// remembered at once. Waits when too much is waiting. After a failure nothing more is taken.
/// </summary>
internal sealed class Outbox : IDisposable
{
    private const int BatchGoal = 1024 * 1024,
        InFlight = 4,
        Waiting = 12;
    private readonly ICopyLink link;
    private readonly SendingMemory memory;
    private readonly Action<ChunkId> isThere;
    private readonly BlockingCollection<OutBlock> blocks = new(Waiting);
    private readonly Thread[] senders;
    private readonly object arrived = new();
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
            foreach (var block in blocks.GetConsumingEnumerable())
            {
                if (failure is not null)
                    return;
                batch.Add(block);
                var size = SizeOf(block);
                while (size < BatchGoal && blocks.TryTake(out var more))
                {
                    batch.Add(more);
                    size += SizeOf(more);
                }
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

    private static int SizeOf(OutBlock block) => WireBatch.SizeOf(block.Chunks.Length, block.Stored.Length);

    private void Send(List<OutBlock> batch)
    {
        var bytes = new byte[4 + batch.Sum(SizeOf)];
        WireBatch.Magic.CopyTo(bytes);
        var at = 4;
        foreach (var block in batch)
            at += WireBatch.Write(bytes.AsSpan(at), block.Kind, block.Compressed, block.Raw, block.Chunks, block.Stored);
        var answer = link.Send(bytes.AsMemory(0, at)).AsSpan();
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
