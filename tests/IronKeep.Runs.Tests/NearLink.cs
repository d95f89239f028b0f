using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Tests;

/// <summary>A link without a line: what is sent arrives in the store of the test, counted and kept, until the line is broken.</summary>
internal sealed class NearLink(PooledStore store, string machine = "curlew") : ICopyLink, IDisposable
{
    private ArrivingCopy? arriving;
    private int sent;

    /// <summary>What was sent and taken, in the order of its arrival.</summary>
    public List<byte[]> Batches { get; } = [];
    public int Asked { get; private set; }

    /// <summary>The line breaks when so many batches have arrived.</summary>
    public int BreaksAfter { get; set; } = int.MaxValue;

    /// <summary>What becomes of a batch on its way.</summary>
    public Func<byte[], byte[]> Bends { get; set; } = b => b;

    public long SentBytes => Batches.Sum(b => (long)b.Length);

    public ArrivingCopy Arriving => arriving!;

    public IReadOnlySet<string> Begin(IReadOnlyCollection<string> copies)
    {
        arriving = ArrivingCopy.Begin(store, machine, 1);
        return store.ReadContents().Copies.Where(c => c.Binned is null).Select(c => c.Record.Id).Intersect(copies).ToHashSet();
    }

    public byte[] Send(ReadOnlyMemory<byte> batch)
    {
        if (Interlocked.Increment(ref sent) > BreaksAfter)
            throw new IOException("the line broke");
        var bytes = Bends(batch.ToArray());
        var answer = arriving!.Take(bytes);
        lock (Batches)
            Batches.Add(bytes);
        return answer;
    }

    public byte[] Has(ReadOnlyMemory<byte> told)
    {
        Asked += told.Length;
        return arriving!.Has(told.Span);
    }

    public CopyRecord Commit(CopyRecord record, string? before) =>
        arriving!.Commit(record with { Machine = machine }, before is null ? null : store.ReadRecord(before), default);

    public void Dispose() => arriving?.Dispose();

    /// <summary>Every chunk that arrived, by what it is.</summary>
    public List<(WireKind Kind, WireChunk Chunk)> Chunks()
    {
        var chunks = new List<(WireKind, WireChunk)>();
        foreach (var batch in Batches)
        {
            ReadOnlySpan<byte> rest = batch.AsSpan(4);
            while (WireBatch.Take(ref rest, out var block))
            {
                var kind = block.Kind;
                chunks.AddRange(block.Chunks.Select(c => (kind, c)));
            }
        }
        return chunks;
    }
}
