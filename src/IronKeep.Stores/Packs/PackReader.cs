using System.Buffers;
using System.Security.Cryptography;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>
/// Reads tables and blocks of packs. One per thread: it keeps the cipher of the last pack and the bytes of the last
/// <paramref name="blocks"/> blocks; of those that hold a single chunk only the last, because nobody comes back to them.
/// </summary>
internal sealed class PackReader(IPlace place, StoreKeys keys, int blocks = 1) : IDisposable
{
    /// <summary>A block that was opened, and when it was last asked for.</summary>
    private struct Kept
    {
        public string Pack;
        public int Number;
        public long Used;
        public byte[] Raw;
    }

    private readonly Kept[] kept = [.. Enumerable.Repeat(new Kept { Pack = "", Raw = [] }, blocks)];
    private Zstd? zstd;
    private AesGcm? cipher;
    private string cipherOf = "";
    private int last;
    private long turn;
    private byte[] stored = [];

    private delegate T TableBytes<T>(ReadOnlySpan<byte> bytes, int blocks, int chunks, PackKind kind, byte[] salt, long offset);

    /// <summary>The table of a pack; a pack that is not what it should be is a <see cref="StoreDamageException"/>.</summary>
    public PackTable ReadTable(string pack, long size) =>
        OpenTable(pack, size, (bytes, blocks, chunks, kind, salt, offset) =>
            PackTable.Read(bytes, blocks, chunks, kind, salt, offset, pack)
        );

    /// <summary>The identities in a pack, one after the other, and its kind at the end; nothing of the table is kept.</summary>
    public PackKind ReadIds(string pack, long size, Action<ChunkId> give) =>
        OpenTable(pack, size, (bytes, blocks, chunks, kind, _, offset) =>
        {
            PackTable.Each(bytes, blocks, chunks, offset, pack, (_, id, _) => give(id));
            return kind;
        });

    private T OpenTable<T>(string pack, long size, TableBytes<T> read)
    {
        if (size is < PackFormat.HeadSize + PackFormat.TailSize or > PackFormat.Largest)
            throw new StoreDamageException($"pack {pack} has {size} bytes, which no pack has");
        var file = PackNames.FileOf(pack);
        Span<byte> head = stackalloc byte[PackFormat.HeadSize],
            tail = stackalloc byte[PackFormat.TailSize];
        var (kind, salt) = PackFormat.ReadHead(head[..place.ReadAt(file, 0, head)], keys.Encrypts, pack);
        var (offset, length, blockCount, chunkCount) = PackFormat.ReadTail(
            tail[..place.ReadAt(file, size - tail.Length, tail)],
            size,
            keys.Encrypts,
            pack
        );
        var lent = ArrayPool<byte>.Shared.Rent(length);
        try
        {
            var table = lent.AsSpan(0, length);
            Span<byte> check = stackalloc byte[Hashes.Size];
            Hashes.Plain(keys.Hash, table[..place.ReadAt(file, offset, table)], check);
            if (!check.SequenceEqual(PackFormat.CheckOf(tail)))
                throw new StoreDamageException($"the table of pack {pack} is not what was written");
            using var own = keys.CipherOf(salt);
            if (!Decrypt(own, table, PackFormat.TableNumber))
                throw new StoreDamageException($"the table of pack {pack} was sealed with another key or changed");
            return read(table[..(length - (keys.Encrypts ? Sealing.TagSize : 0))], blockCount, chunkCount, kind, salt, offset);
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(lent);
        }
    }

    /// <summary>
    /// The raw bytes of a block, valid until the next call; null when they are not what was written. A place that fails throws.
    /// </summary>
    public ReadOnlySpan<byte> Block(string pack, PackTable table, int number, out bool whole)
    {
        var block = table.Blocks[number];
        whole = true;
        turn++;
        for (var i = 0; i < kept.Length; i++)
        {
            if (kept[i].Number != number || kept[i].Pack != pack)
                continue;
            kept[i].Used = turn;
            last = i;
            return Raw[..block.Raw];
        }
        Ensure(ref stored, block.Stored);
        var bytes = stored.AsSpan(0, block.Stored);
        whole = place.ReadAt(PackNames.FileOf(pack), block.Offset, bytes) == bytes.Length && Open(pack, table, number, bytes);
        if (!whole)
            return default;
        (kept[last].Pack, kept[last].Number) = (pack, number);
        return Raw[..block.Raw];
    }

    /// <summary>
    /// A block that lies in memory, decrypted and decompressed; the result is in <see cref="Raw"/>. The bytes given are used up.
    /// </summary>
    public bool Open(string pack, PackTable table, int number, Span<byte> bytes)
    {
        var block = table.Blocks[number];
        last = block.Chunks == 1 || kept.Length == 1 ? 0 : 1;
        for (var i = last + 1; last > 0 && i < kept.Length; i++)
            if (kept[i].Used < kept[last].Used)
                last = i;
        (kept[last].Pack, kept[last].Used) = ("", turn);
        if (OpenSeal(pack, table, number, bytes) is not { } length)
            return false;
        Ensure(ref kept[last].Raw, block.Raw);
        if (block.Codec == BlockCodec.Zstd)
            return (zstd ??= new Zstd()).Decompress(bytes[..length], kept[last].Raw.AsSpan(0, block.Raw));
        if (length != block.Raw)
            return false;
        bytes[..length].CopyTo(kept[last].Raw);
        return true;
    }

    /// <summary>
    /// The bytes of a block without their seal, still compressed; -1 as length when they were changed. Used up by the next call.
    /// </summary>
    public Span<byte> Compressed(string pack, PackTable table, int number, out bool whole)
    {
        var block = table.Blocks[number];
        Ensure(ref stored, block.Stored);
        var bytes = stored.AsSpan(0, block.Stored);
        var length =
            place.ReadAt(PackNames.FileOf(pack), block.Offset, bytes) == bytes.Length ? OpenSeal(pack, table, number, bytes) : null;
        whole = length is not null;
        return bytes[..(length ?? 0)];
    }

    /// <summary>The raw bytes of the block that was opened last.</summary>
    public ReadOnlySpan<byte> Raw => kept[last].Raw;

    public void Dispose()
    {
        if (stored.Length > 0)
            ArrayPool<byte>.Shared.Return(stored);
        stored = [];
        for (var i = 0; i < kept.Length; i++)
        {
            if (kept[i].Raw.Length > 0)
                ArrayPool<byte>.Shared.Return(kept[i].Raw);
            kept[i] = new Kept { Pack = "", Raw = [] };
        }
        zstd?.Dispose();
        cipher?.Dispose();
    }

    private int? OpenSeal(string pack, PackTable table, int number, Span<byte> bytes)
    {
        if (!keys.Encrypts)
            return bytes.Length;
        if (cipherOf != pack)
        {
            cipher?.Dispose();
            cipher = keys.CipherOf(table.Salt);
            cipherOf = pack;
        }
        return Decrypt(cipher, bytes, (ulong)number) ? bytes.Length - Sealing.TagSize : null;
    }

    private static bool Decrypt(AesGcm? cipher, Span<byte> bytes, ulong number)
    {
        if (cipher is null)
            return true;
        if (bytes.Length < Sealing.TagSize)
            return false;
        Span<byte> nonce = stackalloc byte[Sealing.NonceSize];
        PackFormat.Nonce(nonce, number);
        var text = bytes[..^Sealing.TagSize];
        try
        {
            cipher.Decrypt(nonce, text, bytes[^Sealing.TagSize..], text);
            return true;
        }
        catch (AuthenticationTagMismatchException)
        {
            return false;
        }
    }

    private static void Ensure(ref byte[] buffer, int size)
    {
        if (buffer.Length >= size)
            return;
        if (buffer.Length > 0)
            ArrayPool<byte>.Shared.Return(buffer);
        buffer = ArrayPool<byte>.Shared.Rent(size);
    }
}
