using System.Buffers;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>Reads chunks and proves each against its identity before giving it out.</summary>
internal sealed class ChunkReader(IPlace place, ChunkIndex index)
{
    [ThreadStatic] private static ZstdSharp.Decompressor? decompressor;

    /// <summary>The raw bytes of a chunk; damage and absence are <see cref="StoreDamageException"/>.</summary>
    public byte[] Read(ChunkId id)
    {
        for (var attempt = 0; ; attempt++)
        {
            if (!index.TryGet(id, out var at)) throw new StoreDamageException($"chunk {id} is not in the store");
            try
            {
                return Read(at, id);
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // Reclaiming may have moved the chunk between the look-up and the reading.
                if (attempt > 0 || (index.TryGet(id, out var now) && now.Pack == at.Pack)) throw new StoreDamageException($"pack {at.Pack}, which holds chunk {id}, is not in the store", e);
            }
        }
    }

    private byte[] Read(ChunkPlace at, ChunkId id)
    {
        var entry = at.Entry;
        var stored = ArrayPool<byte>.Shared.Rent(Math.Max(entry.StoredLength, 1));
        try
        {
            var bytes = stored.AsSpan(0, entry.StoredLength);
            var read = place.ReadAt(ChunkIndex.FileOf(at.Pack), entry.Offset, bytes);
            return Unfold(entry, bytes[..read]) is { } raw && ChunkId.Of(raw) == id
                ? raw
                : throw new StoreDamageException($"chunk {id} in pack {at.Pack} is not what was written");
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(stored);
        }
    }

    /// <summary>Decompresses; null when the bytes cannot be what the entry says.</summary>
    public static byte[]? Unfold(PackEntry entry, ReadOnlySpan<byte> stored)
    {
        if (stored.Length != entry.StoredLength) return null;
        if (entry.Codec == ChunkCodec.Raw) return stored.ToArray();
        var raw = new byte[entry.RawLength];
        try
        {
            decompressor ??= new ZstdSharp.Decompressor();
            return decompressor.Unwrap(stored, raw) == raw.Length ? raw : null;
        }
        catch (Exception e) when (e is ZstdSharp.ZstdException or ArgumentException or IndexOutOfRangeException)
        {
            return null;
        }
    }
}
