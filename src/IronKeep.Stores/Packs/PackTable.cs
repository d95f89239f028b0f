using System.Buffers.Binary;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Packs;

/// <summary>Where a chunk lies in its pack: the block, the offset in the block's raw bytes, the length (bytes).</summary>
internal readonly record struct ChunkSpot(int Block, int Offset, int Length);

/// <summary>What a pack holds: its blocks, and the chunks in them in their order.</summary>
internal sealed class PackTable
{
    private readonly ChunkId[] ids;
    private readonly ChunkSpot[] spots;
    private readonly int[] slots;

    private PackTable(PackKind kind, byte[] salt, PackBlock[] blocks, ChunkId[] ids, ChunkSpot[] spots)
    {
        (Kind, Salt, Blocks, this.ids, this.spots) = (kind, salt, blocks, ids, spots);
        slots = new int[System.Numerics.BitOperations.RoundUpToPowerOf2((uint)Math.Max(4, ids.Length * 3 / 2))];
        for (var i = 0; i < ids.Length; i++)
        {
            var at = (int)ids[i].B & (slots.Length - 1);
            while (slots[at] != 0)
                at = (at + 1) & (slots.Length - 1);
            slots[at] = i + 1;
        }
    }

    public PackKind Kind { get; }
    public byte[] Salt { get; }
    public PackBlock[] Blocks { get; }
    public int Count => ids.Length;

    /// <summary>About how much memory it takes, in bytes.</summary>
    public long Memory => 200 + ids.Length * 44L + slots.Length * 4L + Blocks.Length * 40L;

    public ReadOnlySpan<ChunkId> Ids => ids;

    public ChunkId IdAt(int index) => ids[index];

    public ChunkSpot SpotAt(int index) => spots[index];

    /// <summary>The place of the chunk among the pack's chunks, or -1.</summary>
    public int Find(ChunkId id)
    {
        for (var at = (int)id.B & (slots.Length - 1); slots[at] != 0; at = (at + 1) & (slots.Length - 1))
            if (ids[slots[at] - 1] == id)
                return slots[at] - 1;
        return -1;
    }

    public static PackTable Of(PackKind kind, byte[] salt, List<PackBlock> blocks, List<(ChunkId Id, int Length)> chunks)
    {
        var ids = new ChunkId[chunks.Count];
        var spots = new ChunkSpot[chunks.Count];
        for (var b = 0; b < blocks.Count; b++)
        {
            var offset = 0;
            for (var i = blocks[b].FirstChunk; i < blocks[b].FirstChunk + blocks[b].Chunks; i++)
            {
                (ids[i], spots[i]) = (chunks[i].Id, new ChunkSpot(b, offset, chunks[i].Length));
                offset += chunks[i].Length;
            }
        }
        return new PackTable(kind, salt, [.. blocks], ids, spots);
    }

    /// <summary>The table as bytes, before sealing: the blocks (stored, raw, codec, chunks), then the chunks (identity, length).</summary>
    public byte[] ToBytes()
    {
        var bytes = new byte[Blocks.Length * PackFormat.BlockEntrySize + ids.Length * PackFormat.ChunkEntrySize];
        var at = bytes.AsSpan();
        foreach (var block in Blocks)
        {
            BinaryPrimitives.WriteInt32LittleEndian(at, block.Stored);
            BinaryPrimitives.WriteInt32LittleEndian(at[4..], block.Raw);
            BinaryPrimitives.WriteInt32LittleEndian(at[8..], (int)block.Codec);
            BinaryPrimitives.WriteInt32LittleEndian(at[12..], block.Chunks);
            at = at[PackFormat.BlockEntrySize..];
        }
        for (var i = 0; i < ids.Length; i++)
        {
            ids[i].Write(at);
            BinaryPrimitives.WriteInt32LittleEndian(at[ChunkId.Size..], spots[i].Length);
            at = at[PackFormat.ChunkEntrySize..];
        }
        return bytes;
    }

    /// <summary>Reads an opened table; numbers that do not fit together are a <see cref="StoreDamageException"/>.</summary>
    public static PackTable Read(
        ReadOnlySpan<byte> bytes,
        int blockCount,
        int chunkCount,
        PackKind kind,
        byte[] salt,
        long tableOffset,
        string name
    )
    {
        var ids = new ChunkId[chunkCount];
        var spots = new ChunkSpot[chunkCount];
        var blocks = Each(bytes, blockCount, chunkCount, tableOffset, name, (index, id, spot) => (ids[index], spots[index]) = (id, spot));
        return new PackTable(kind, salt, blocks, ids, spots);
    }

    public delegate void Chunk(int index, ChunkId id, ChunkSpot spot);

    /// <summary>The same without keeping anything: gives the chunks one after the other, and the blocks at the end.</summary>
    public static PackBlock[] Each(ReadOnlySpan<byte> bytes, int blockCount, int chunkCount, long tableOffset, string name, Chunk give)
    {
        var blocks = new List<PackBlock>(blockCount);
        var list = bytes[(blockCount * PackFormat.BlockEntrySize)..];
        long offset = PackFormat.HeadSize;
        var first = 0;
        for (var b = 0; b < blockCount; b++)
        {
            var entry = bytes[(b * PackFormat.BlockEntrySize)..];
            int stored = BinaryPrimitives.ReadInt32LittleEndian(entry),
                raw = BinaryPrimitives.ReadInt32LittleEndian(entry[4..]);
            int codec = BinaryPrimitives.ReadInt32LittleEndian(entry[8..]),
                chunks = BinaryPrimitives.ReadInt32LittleEndian(entry[12..]);
            if (
                stored < 0
                || raw is < 0 or > PackFormat.MostBlockRaw
                || stored > 2 * PackFormat.MostBlockRaw
                || codec is not (0 or 1)
                || chunks < 0
                || chunks > chunkCount - first
                || offset + stored > tableOffset
            )
                throw Wrong();
            // The chunks of a block fill it exactly.
            var at = 0;
            for (var i = first; i < first + chunks; i++)
            {
                var length = BinaryPrimitives.ReadInt32LittleEndian(list[(i * PackFormat.ChunkEntrySize + ChunkId.Size)..]);
                if (length < 0 || length > ContentCutter.Most || length > raw - at)
                    throw Wrong();
                give(i, ChunkId.Read(list[(i * PackFormat.ChunkEntrySize)..]), new ChunkSpot(b, at, length));
                at += length;
            }
            if (at != raw)
                throw Wrong();
            blocks.Add(new PackBlock(offset, stored, raw, (BlockCodec)codec, first, chunks));
            offset += stored;
            first += chunks;
        }
        if (offset != tableOffset || first != chunkCount)
            throw Wrong();
        return [.. blocks];

        StoreDamageException Wrong() => new($"the table of pack {name} does not fit the pack");
    }
}
