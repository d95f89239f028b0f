using System.Buffers;
using System.Collections.Concurrent;
using Microsoft.AspNetCore.Connections;

namespace IronKeep.Service.Machines;

/// <summary>
/// The memory that requests of agents are read into, in blocks that hold several TLS records: with the usual 4 KiB every record is taken
/// in four steps, which cost more than taking it apart does. A connection that waits holds no block.
/// </summary>
internal sealed class WideBlocks : MemoryPool<byte>
{
    private const int Size = 32 * 1024,
        MostKept = 128;
    private readonly ConcurrentQueue<Block> kept = new();

    public override int MaxBufferSize => Size;

    public override IMemoryOwner<byte> Rent(int minBufferSize = -1)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(minBufferSize, Size);
        return kept.TryDequeue(out var block) ? block : new Block(this);
    }

    protected override void Dispose(bool disposing) => kept.Clear();

    /// <summary>Makes such pools.</summary>
    internal sealed class Factory : IMemoryPoolFactory<byte>
    {
        public MemoryPool<byte> Create(MemoryPoolOptions? options = null) => new WideBlocks();
    }

    private sealed class Block(WideBlocks pool) : IMemoryOwner<byte>
    {
        public Memory<byte> Memory { get; } = GC.AllocateUninitializedArray<byte>(Size, pinned: true);

        public void Dispose()
        {
            if (pool.kept.Count < MostKept)
                pool.kept.Enqueue(this);
        }
    }
}
