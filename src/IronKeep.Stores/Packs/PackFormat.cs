using System.Buffers.Binary;
using System.Security.Cryptography;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Packs;

/// <summary>How a chunk's bytes lie in its pack.</summary>
public enum ChunkCodec : byte { Raw = 0, Zstd = 1 }

/// <summary>One chunk in a pack: where its stored bytes lie, and how long they are stored and raw.</summary>
public readonly record struct PackEntry(ChunkId Id, uint Offset, int StoredLength, int RawLength, ChunkCodec Codec);

/// <summary>
/// The bytes of a pack: a head, the chunks one after the other, an index of them, and a tail with the index's place and check.
/// A pack is named by the SHA-256 of all its bytes. Documented in docs/store-format.md.
/// </summary>
internal static class PackFormat
{
    public const int HeadSize = 8;
    public const int EntrySize = ChunkId.Size + 4 + 4 + 4 + 1;
    public const int TailSize = 4 + 4 + ChunkId.Size + 8;
    public const int LargestPack = 256 * 1024 * 1024;
    private static ReadOnlySpan<byte> Head => "IKPACK01"u8;
    private static ReadOnlySpan<byte> Tail => "IKPACKED"u8;

    public static void WriteHead(Span<byte> bytes) => Head.CopyTo(bytes);

    public static int IndexSize(int count) => count * EntrySize + TailSize;

    public static void WriteIndex(Span<byte> bytes, IReadOnlyList<PackEntry> entries, int indexOffset)
    {
        var at = 0;
        foreach (var entry in entries)
        {
            entry.Id.Write(bytes[at..]);
            BinaryPrimitives.WriteUInt32LittleEndian(bytes[(at + 32)..], entry.Offset);
            BinaryPrimitives.WriteInt32LittleEndian(bytes[(at + 36)..], entry.StoredLength);
            BinaryPrimitives.WriteInt32LittleEndian(bytes[(at + 40)..], entry.RawLength);
            bytes[at + 44] = (byte)entry.Codec;
            at += EntrySize;
        }
        var index = bytes[..at];
        BinaryPrimitives.WriteInt32LittleEndian(bytes[at..], indexOffset);
        BinaryPrimitives.WriteInt32LittleEndian(bytes[(at + 4)..], entries.Count);
        SHA256.HashData(index, bytes[(at + 8)..]);
        Tail.CopyTo(bytes[(at + 40)..]);
    }

    /// <summary>Reads the tail: where the index begins and how many entries it has. Every number is checked against the file's size.</summary>
    public static (int IndexOffset, int Count) ReadTail(ReadOnlySpan<byte> tail, long fileSize, string name)
    {
        if (tail.Length != TailSize || !tail[40..].SequenceEqual(Tail)) throw new StoreDamageException($"pack {name} does not end as a pack does");
        var offset = BinaryPrimitives.ReadInt32LittleEndian(tail);
        var count = BinaryPrimitives.ReadInt32LittleEndian(tail[4..]);
        if (offset < HeadSize || count < 0 || offset + (long)count * EntrySize + TailSize != fileSize)
            throw new StoreDamageException($"pack {name} has a tail that does not fit its size");
        return (offset, count);
    }

    public static List<PackEntry> ReadIndex(ReadOnlySpan<byte> index, ReadOnlySpan<byte> tail, int indexOffset, int count, string name)
    {
        Span<byte> hash = stackalloc byte[32];
        SHA256.HashData(index, hash);
        if (!hash.SequenceEqual(tail[8..40])) throw new StoreDamageException($"the index of pack {name} is not what was written");
        var entries = new List<PackEntry>(count);
        for (var at = 0; at < index.Length; at += EntrySize)
        {
            var entry = new PackEntry(
                ChunkId.Read(index[at..]),
                BinaryPrimitives.ReadUInt32LittleEndian(index[(at + 32)..]),
                BinaryPrimitives.ReadInt32LittleEndian(index[(at + 36)..]),
                BinaryPrimitives.ReadInt32LittleEndian(index[(at + 40)..]),
                (ChunkCodec)index[at + 44]);
            if (entry.StoredLength < 0 || entry.RawLength is < 0 or > ContentCutter.Most || entry.Offset < HeadSize || entry.Offset + (long)entry.StoredLength > indexOffset)
                throw new StoreDamageException($"the index of pack {name} points outside the pack");
            entries.Add(entry);
        }
        return entries;
    }
}
