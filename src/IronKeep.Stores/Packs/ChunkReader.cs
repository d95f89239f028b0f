using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Packs;

/// <summary>
/// Reads chunks and proves each against its identity before giving it out. Not for two threads at once; see <see cref="ReaderPool"/>.
/// </summary>
public sealed class ChunkReader : IChunkSource
{
    private readonly StoreKeys keys;
    private readonly ChunkIndex index;
    private readonly PackReader packs;

    internal ChunkReader(IPlace place, StoreKeys keys, ChunkIndex index, int blocks = 1)
    {
        this.keys = keys;
        this.index = index;
        packs = new PackReader(place, keys, blocks);
    }

    /// <summary>The raw bytes of a chunk, valid until the next call; damage and absence are <see cref="StoreDamageException"/>.</summary>
    public ReadOnlySpan<byte> Read(ChunkId id)
    {
        for (var attempt = 0; ; attempt++)
        {
            if (!index.TryGet(id, out var at))
            {
                if (attempt > 0)
                    throw new StoreDamageException($"chunk {id} is not in the store");
                index.Refresh();
                continue;
            }
            try
            {
                var block = packs.Block(at.Pack, at.Table, at.Spot.Block, out var whole);
                if (!whole)
                    throw new StoreDamageException($"chunk {id} in pack {at.Pack} is not what was written");
                var content = block.Slice(at.Spot.Offset, at.Spot.Length);
                return keys.IdOf(content) == id
                    ? content
                    : throw new StoreDamageException($"chunk {id} in pack {at.Pack} is not what was written");
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // Reclaiming may have moved the chunk between the look-up and the reading.
                if (attempt > 1)
                    throw new StoreDamageException($"pack {at.Pack}, which holds chunk {id}, is not in the store", e);
                index.Refresh();
            }
        }
    }

    /// <summary>All bytes of some content that is small enough to be held in memory.</summary>
    public byte[] ReadAll(ContentRef content)
    {
        using var bytes = new MemoryStream();
        foreach (var id in Ids(content))
            bytes.Write(Read(id));
        return bytes.ToArray();
    }

    /// <summary>The identities of the content's chunks in their order, lists resolved as they are come to.</summary>
    public IEnumerable<ChunkId> Ids(ContentRef content) => IdLists.Resolve(content, this);

    public void Dispose() => packs.Dispose();
}

/// <summary>Readers to be lent out, so that buffers and ciphers are used again.</summary>
internal sealed class ReaderPool(Func<ChunkReader> make) : IDisposable
{
    private const int MostIdle = 8;
    private readonly ConcurrentBag<ChunkReader> idle = [];

    public T Use<T>(Func<ChunkReader, T> action)
    {
        if (!idle.TryTake(out var reader))
            reader = make();
        try
        {
            return action(reader);
        }
        finally
        {
            if (idle.Count < MostIdle)
                idle.Add(reader);
            else
                reader.Dispose();
        }
    }

    public void Dispose()
    {
        while (idle.TryTake(out var reader))
            reader.Dispose();
    }
}
