using System.Buffers.Binary;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Packs;

/// <summary>What the chunks of a pack are: content of files, or folder listings and lists of identities.</summary>
internal enum PackKind : byte
{
    Content = 1,
    Listings = 2,
}

/// <summary>How a block is stored.</summary>
internal enum BlockCodec : byte
{
    Raw = 0,
    Zstd = 1,
}

/// <summary>
/// A run of chunks that are compressed and sealed together. Lengths are bytes; <paramref name="Stored"/> counts the tag too.
/// </summary>
internal readonly record struct PackBlock(long Offset, int Stored, int Raw, BlockCodec Codec, int FirstChunk, int Chunks);

/// <summary>The bytes of a pack: head, blocks, table, tail. Documented in docs/store-format.md.</summary>
internal static class PackFormat
{
    public const int HeadSize = 48;
    public const int SaltSize = 32;
    public const int TailSize = 64;
    public const int BlockEntrySize = 16;
    public const int ChunkEntrySize = ChunkId.Size + 4;

    /// <summary>A pack is sealed when it has reached this size (bytes).</summary>
    public const int Goal = 64 * 1024 * 1024;
    public const int MostChunks = 32 * 1024;
    public const int MostBlockRaw = 2 * 1024 * 1024;
    public const long Largest = 512L * 1024 * 1024;
    private const int MostTable = 16 * 1024 * 1024;

    /// <summary>The number under which the table is sealed; blocks have theirs from 0.</summary>
    public const ulong TableNumber = ulong.MaxValue;

    private static ReadOnlySpan<byte> Magic => "IKPACK02"u8;
    private static ReadOnlySpan<byte> EndMagic => "IKPACKED"u8;

    public static void WriteHead(Span<byte> head, PackKind kind, bool encrypted, ReadOnlySpan<byte> salt)
    {
        head[..HeadSize].Clear();
        Magic.CopyTo(head);
        head[8] = (byte)kind;
        head[9] = encrypted ? (byte)1 : (byte)0;
        salt.CopyTo(head[16..]);
    }

    /// <summary>Reads the head: kind and salt.</summary>
    public static (PackKind Kind, byte[] Salt) ReadHead(ReadOnlySpan<byte> head, bool encrypted, string name)
    {
        if (head.Length < HeadSize || !head[..8].SequenceEqual(Magic))
            throw new StoreDamageException($"pack {name} does not begin as a pack does");
        if (head[8] is not (1 or 2) || head[9] != (encrypted ? 1 : 0) || head[10..16].IndexOfAnyExcept((byte)0) >= 0)
            throw new StoreDamageException($"pack {name} has a head that does not fit the store");
        return ((PackKind)head[8], head[16..HeadSize].ToArray());
    }

    public static void WriteTail(Span<byte> tail, long tableOffset, int tableStored, int blocks, int chunks, ReadOnlySpan<byte> check)
    {
        tail[..TailSize].Clear();
        BinaryPrimitives.WriteInt64LittleEndian(tail, tableOffset);
        BinaryPrimitives.WriteInt32LittleEndian(tail[8..], tableStored);
        BinaryPrimitives.WriteInt32LittleEndian(tail[12..], blocks);
        BinaryPrimitives.WriteInt32LittleEndian(tail[16..], chunks);
        check.CopyTo(tail[24..]);
        EndMagic.CopyTo(tail[56..]);
    }

    /// <summary>Reads the tail. Every number is checked against the file's size before anything is made of it.</summary>
    public static (long TableOffset, int TableStored, int Blocks, int Chunks) ReadTail(
        ReadOnlySpan<byte> tail,
        long fileSize,
        bool encrypted,
        string name
    )
    {
        if (tail.Length != TailSize || !tail[56..].SequenceEqual(EndMagic))
            throw new StoreDamageException($"pack {name} does not end as a pack does");
        var offset = BinaryPrimitives.ReadInt64LittleEndian(tail);
        var stored = BinaryPrimitives.ReadInt32LittleEndian(tail[8..]);
        var blocks = BinaryPrimitives.ReadInt32LittleEndian(tail[12..]);
        var chunks = BinaryPrimitives.ReadInt32LittleEndian(tail[16..]);
        if (
            offset < HeadSize
            || stored is < 0 or > MostTable
            || blocks < 0
            || chunks is < 0 or > 2 * MostChunks
            || offset > fileSize
            || offset + stored + TailSize != fileSize
            || (long)blocks * BlockEntrySize + (long)chunks * ChunkEntrySize + (encrypted ? Sealing.TagSize : 0) != stored
        )
            throw new StoreDamageException($"pack {name} has a tail that does not fit its size");
        return (offset, stored, blocks, chunks);
    }

    /// <summary>The check of the table, as it is stored.</summary>
    public static ReadOnlySpan<byte> CheckOf(ReadOnlySpan<byte> tail) => tail[24..56];

    /// <summary>The nonce of a block: its number in the pack, under a key that belongs to the pack alone.</summary>
    public static void Nonce(Span<byte> nonce, ulong number)
    {
        nonce.Clear();
        BinaryPrimitives.WriteUInt64LittleEndian(nonce, number);
    }
}
