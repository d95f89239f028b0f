using System.Buffers.Binary;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;

namespace IronKeep.Stores.Sessions;

/// <summary>What the chunks of a block are, as they travel.</summary>
public enum WireKind : byte
{
    /// <summary>Content of files.</summary>
    Content = 1,

    /// <summary>Identities of chunks of content, or of such lists.</summary>
    List = 2,

    /// <summary>Part of a folder's listing.</summary>
    Listing = 3,
}

/// <summary>
/// A chunk of a block: the plain BLAKE3 of its bytes as they travel, the label that later blocks of the batch know it by, its length.
/// </summary>
public readonly record struct WireChunk(ChunkId Print, ChunkId Label, int Length);

/// <summary>A block as it travels: its chunks one after the other, compressed together or as they are.</summary>
public readonly ref struct WireBlock
{
    public WireKind Kind { get; init; }
    public bool Compressed { get; init; }
    public int Raw { get; init; }
    public WireChunk[] Chunks { get; init; }
    public ReadOnlySpan<byte> Stored { get; init; }
}

/// <summary>
/// Blocks on their way to a store that somebody else has at hand, many in one batch. Little endian: "IKB1", then each block: kind, codec,
/// count of chunks (16 bits), raw and stored length (32 bits each), for each chunk print, label and length (32 bits), then its bytes.
/// </summary>
public static class WireBatch
{
    /// <summary>The largest batch that is taken (bytes).</summary>
    public const int Most = 8 * 1024 * 1024;
    public const int MostChunks = 4096;
    private const int HeadSize = 12,
        ChunkSize = 2 * ChunkId.Size + 4;

    public static ReadOnlySpan<byte> Magic => "IKB1"u8;

    /// <summary>The bytes that a block takes.</summary>
    public static int SizeOf(int chunks, int stored) => HeadSize + chunks * ChunkSize + stored;

    /// <summary>Writes a block and gives the bytes that it took.</summary>
    public static int Write(
        Span<byte> to,
        WireKind kind,
        bool compressed,
        int raw,
        IReadOnlyList<WireChunk> chunks,
        ReadOnlySpan<byte> stored
    )
    {
        to[0] = (byte)kind;
        to[1] = compressed ? (byte)1 : (byte)0;
        BinaryPrimitives.WriteUInt16LittleEndian(to[2..], (ushort)chunks.Count);
        BinaryPrimitives.WriteInt32LittleEndian(to[4..], raw);
        BinaryPrimitives.WriteInt32LittleEndian(to[8..], stored.Length);
        var at = HeadSize;
        foreach (var chunk in chunks)
        {
            chunk.Print.Write(to[at..]);
            chunk.Label.Write(to[(at + ChunkId.Size)..]);
            BinaryPrimitives.WriteInt32LittleEndian(to[(at + 2 * ChunkId.Size)..], chunk.Length);
            at += ChunkSize;
        }
        stored.CopyTo(to[at..]);
        return at + stored.Length;
    }

    /// <summary>
    /// Takes the next block from a batch of which the magic is gone; false at its end. Every number is checked before anything is made of
    /// it: what does not fit is an <see cref="ArrivalRefusedException"/>.
    /// </summary>
    public static bool Take(scoped ref ReadOnlySpan<byte> from, out WireBlock block)
    {
        block = default;
        if (from.Length == 0)
            return false;
        if (from.Length < HeadSize)
            throw Wrong("ends in the middle of a block");
        var (kind, codec, count) = (from[0], from[1], (int)BinaryPrimitives.ReadUInt16LittleEndian(from[2..]));
        var (raw, stored) = (BinaryPrimitives.ReadInt32LittleEndian(from[4..]), BinaryPrimitives.ReadInt32LittleEndian(from[8..]));
        if (kind is < 1 or > 3 || codec > 1 || count is < 1 or > MostChunks)
            throw Wrong("has a block of no known kind");
        if (raw is < 1 or > PackFormat.MostBlockRaw || stored < 1 || stored > raw || (codec == 0 && stored != raw))
            throw Wrong("has a block of a length that none has");
        if (from.Length - HeadSize - stored < count * ChunkSize)
            throw Wrong("ends in the middle of a block");
        var chunks = new WireChunk[count];
        long sum = 0;
        for (var i = 0; i < count; i++)
        {
            var at = from[(HeadSize + i * ChunkSize)..];
            var length = BinaryPrimitives.ReadInt32LittleEndian(at[(2 * ChunkId.Size)..]);
            if (length < 1 || length > (kind == (byte)WireKind.Content ? ContentCutter.Most : PackFormat.MostBlockRaw))
                throw Wrong("has a chunk of a length that none has");
            sum += length;
            chunks[i] = new WireChunk(ChunkId.Read(at), ChunkId.Read(at[ChunkId.Size..]), length);
        }
        if (sum != raw)
            throw Wrong("has chunks that do not add up to their block");
        var begin = HeadSize + count * ChunkSize;
        block = new WireBlock
        {
            Kind = (WireKind)kind,
            Compressed = codec == 1,
            Raw = raw,
            Chunks = chunks,
            Stored = from.Slice(begin, stored),
        };
        from = from[(begin + stored)..];
        return true;
    }

    internal static ArrivalRefusedException Wrong(string how) => new(ArrivalFault.Wrong, $"what was sent {how}");
}

/// <summary>Why something that arrived was refused.</summary>
public enum ArrivalFault
{
    /// <summary>It is not what it says, or not in order.</summary>
    Wrong,

    /// <summary>It counts on something that the store does not have, or not for this machine: it is to be sent.</summary>
    Absent,
}

/// <summary>What arrived is refused, and nothing of it is counted on.</summary>
public sealed class ArrivalRefusedException(ArrivalFault fault, string message) : Exception(message)
{
    public ArrivalFault Fault => fault;
}
