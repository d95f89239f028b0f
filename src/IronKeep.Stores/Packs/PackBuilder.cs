using System.Buffers;
using System.Security.Cryptography;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>A pack that is written but perhaps not yet durable under its name.</summary>
internal sealed record WrittenPack(string Name, PackTable Table, IPlaceWriter File)
{
    /// <summary>Makes the pack durable under its name.</summary>
    public void Publish()
    {
        using (File)
            File.Finish(PackNames.FileOf(Name));
    }
}

/// <summary>
/// Puts chunks into blocks, blocks into packs: small chunks share a block, so that they compress well together and a chunk is no
/// system call. A pack's file is begun only when a few MiB have come together; what is less waits in memory. Not for two threads
/// at once.
/// </summary>
internal sealed class PackBuilder(IPlace place, StoreKeys keys, PackKind kind, int level) : IDisposable
{
    /// <summary>Chunks of at least this size make a block of their own; smaller ones share one of about this size (bytes).</summary>
    public const int BlockGoal = 512 * 1024;
    private const int Own = 256 * 1024;
    private const int FlushAt = 4 * 1024 * 1024;

    // Content that does not shrink is found out by compressing three short pieces of it.
    private const int ProbeLength = 16 * 1024;
    private const int WorthProbing = 128 * 1024;

    private readonly Zstd zstd = new(level);
    private readonly byte[] probe = new byte[ProbeLength];
    private byte[] block = [];
    private readonly List<(ChunkId Id, int Length)> blockChunks = [];
    private byte[] output = [];
    private readonly List<PackBlock> waiting = [];
    private readonly List<(ChunkId Id, int Length)> waitingChunks = [];
    private int blockLength,
        outputLength;
    private long storedBytes;
    private bool disposed;

    private IPlaceWriter? file;
    private HashStream? hash;
    private AesGcm? cipher;
    private byte[] salt = [];
    private long fileLength;
    private readonly List<PackBlock> blocks = [];
    private readonly List<(ChunkId Id, int Length)> chunks = [];

    /// <summary>Whether a file was begun.</summary>
    public bool HasFile => file is not null;

    /// <summary>Bytes that the chunks took so far, as far as their blocks are whole.</summary>
    public long StoredBytes => Interlocked.Read(ref storedBytes);

    /// <summary>Adds a chunk; gives the pack when that made it full.</summary>
    public WrittenPack? Add(ChunkId id, ReadOnlySpan<byte> content)
    {
        if (content.Length >= Own)
        {
            blockChunks.Add((id, content.Length));
            if (blockLength == 0)
            {
                Close(content);
                return FullPack();
            }
            // What waits in the block comes first, as a block of its own.
            blockChunks.RemoveAt(blockChunks.Count - 1);
            Close(block.AsSpan(0, blockLength));
            blockChunks.Add((id, content.Length));
            Close(content);
            return FullPack();
        }
        if (block.Length == 0)
            block = ArrayPool<byte>.Shared.Rent(BlockGoal + Own);
        content.CopyTo(block.AsSpan(blockLength));
        blockLength += content.Length;
        blockChunks.Add((id, content.Length));
        if (blockLength < BlockGoal && blockChunks.Count < 4096)
            return null;
        Close(block.AsSpan(0, blockLength));
        return FullPack();
    }

    /// <summary>Adds a whole block in the form that another pack has it, not sealed.</summary>
    public WrittenPack? AddBlock(ReadOnlySpan<byte> stored, int raw, BlockCodec codec, IEnumerable<(ChunkId, int)> contents)
    {
        if (blockChunks.Count > 0)
            Close(block.AsSpan(0, blockLength));
        var before = waitingChunks.Count;
        waitingChunks.AddRange(contents);
        Grow(stored.Length + Sealing.TagSize);
        stored.CopyTo(output.AsSpan(outputLength));
        Append(stored.Length, raw, codec, waitingChunks.Count - before);
        return FullPack();
    }

    /// <summary>Takes over what another builder holds in memory; the pack that it has begun stays with it.</summary>
    public WrittenPack? Absorb(PackBuilder other)
    {
        if (other.blockChunks.Count > 0)
            other.Close(other.block.AsSpan(0, other.blockLength));
        if (other.file is not null || other.waiting.Count == 0)
            return null;
        if (blockChunks.Count > 0)
            Close(block.AsSpan(0, blockLength));
        int at = 0,
            chunk = 0;
        foreach (var b in other.waiting)
        {
            var content = b.Stored - (keys.Encrypts ? Sealing.TagSize : 0);
            Grow(b.Stored);
            other.output.AsSpan(at, content).CopyTo(output.AsSpan(outputLength));
            waitingChunks.AddRange(other.waitingChunks.GetRange(chunk, b.Chunks));
            Append(content, b.Raw, b.Codec, b.Chunks);
            at += b.Stored;
            chunk += b.Chunks;
            if (outputLength >= FlushAt)
                Flush();
        }
        other.waiting.Clear();
        other.waitingChunks.Clear();
        other.outputLength = 0;
        return FullPack();
    }

    /// <summary>Ends the pack, however small; null when nothing was added.</summary>
    public WrittenPack? Seal()
    {
        if (blockChunks.Count > 0)
            Close(block.AsSpan(0, blockLength));
        if (waiting.Count > 0)
            Flush();
        if (file is null)
            return null;
        var table = PackTable.Of(kind, salt, blocks, chunks);
        var bytes = table.ToBytes();
        var end = new byte[bytes.Length + (cipher is null ? 0 : Sealing.TagSize) + PackFormat.TailSize];
        var tableBytes = end.AsSpan(0, end.Length - PackFormat.TailSize);
        bytes.CopyTo(tableBytes);
        Encrypt(tableBytes, PackFormat.TableNumber);
        Span<byte> check = stackalloc byte[Hashes.Size];
        Hashes.Plain(keys.Hash, tableBytes, check);
        PackFormat.WriteTail(end.AsSpan(tableBytes.Length), fileLength, tableBytes.Length, blocks.Count, chunks.Count, check);
        Write(end);
        hash!.Finish(check);
        var written = new WrittenPack(Convert.ToHexStringLower(check), table, file);
        (file, fileLength) = (null, 0);
        cipher?.Dispose();
        blocks.Clear();
        chunks.Clear();
        return written;
    }

    public void Dispose()
    {
        if (disposed)
            return;
        disposed = true;
        if (block.Length > 0)
            ArrayPool<byte>.Shared.Return(block);
        if (output.Length > 0)
            ArrayPool<byte>.Shared.Return(output);
        block = output = [];
        zstd.Dispose();
        file?.Dispose();
        cipher?.Dispose();
        hash?.Dispose();
    }

    private WrittenPack? FullPack()
    {
        if (outputLength >= FlushAt)
            Flush();
        return fileLength >= PackFormat.Goal || chunks.Count + waitingChunks.Count >= PackFormat.MostChunks ? Seal() : null;
    }

    /// <summary>Compresses the block's bytes behind the output.</summary>
    private void Close(ReadOnlySpan<byte> content)
    {
        Grow(content.Length + Sealing.TagSize);
        var target = output.AsSpan(outputLength, content.Length);
        var codec = BlockCodec.Zstd;
        var length = Shrinks(content) ? zstd.Compress(content, target[..Math.Max(0, content.Length - 1)]) : -1;
        if (length < 0)
        {
            content.CopyTo(target);
            (length, codec) = (content.Length, BlockCodec.Raw);
        }
        waitingChunks.AddRange(blockChunks);
        Append(length, content.Length, codec, blockChunks.Count);
        blockChunks.Clear();
        blockLength = 0;
        Interlocked.Add(ref storedBytes, length);
    }

    private bool Shrinks(ReadOnlySpan<byte> content)
    {
        if (content.Length < WorthProbing)
            return true;
        Span<int> starts = [0, content.Length / 2, content.Length - ProbeLength];
        foreach (var start in starts)
            if (zstd.Compress(content.Slice(start, ProbeLength), probe.AsSpan(0, ProbeLength - ProbeLength / 32)) >= 0)
                return true;
        return false;
    }

    private void Append(int length, int raw, BlockCodec codec, int count)
    {
        var stored = length + (keys.Encrypts ? Sealing.TagSize : 0);
        waiting.Add(new PackBlock(0, stored, raw, codec, 0, count));
        outputLength += stored;
    }

    /// <summary>Seals what waits and writes it to the pack's file, which is begun when there is none.</summary>
    private void Flush()
    {
        if (file is null)
            Begin();
        var at = 0;
        foreach (var b in waiting)
        {
            Encrypt(output.AsSpan(at, b.Stored), (ulong)blocks.Count);
            blocks.Add(b with { Offset = fileLength + at, FirstChunk = blocks.Count == 0 ? 0 : blocks[^1].FirstChunk + blocks[^1].Chunks });
            at += b.Stored;
        }
        Write(output.AsSpan(0, outputLength));
        chunks.AddRange(waitingChunks);
        waiting.Clear();
        waitingChunks.Clear();
        outputLength = 0;
    }

    private void Begin()
    {
        salt = RandomNumberGenerator.GetBytes(PackFormat.SaltSize);
        cipher = keys.CipherOf(salt);
        hash ??= new HashStream(keys.Hash);
        file = place.Create(PackFormat.Goal + FlushAt);
        Span<byte> head = stackalloc byte[PackFormat.HeadSize];
        PackFormat.WriteHead(head, kind, keys.Encrypts, salt);
        Write(head);
    }

    private void Write(ReadOnlySpan<byte> bytes)
    {
        hash!.Add(bytes);
        file!.Append(bytes);
        fileLength += bytes.Length;
    }

    /// <summary>Encrypts in place; the tag takes the last bytes.</summary>
    private void Encrypt(Span<byte> content, ulong number)
    {
        if (cipher is null)
            return;
        Span<byte> nonce = stackalloc byte[Sealing.NonceSize];
        PackFormat.Nonce(nonce, number);
        var text = content[..^Sealing.TagSize];
        cipher.Encrypt(nonce, text, text, content[^Sealing.TagSize..]);
    }

    private void Grow(int more)
    {
        if (outputLength + more <= output.Length)
            return;
        var larger = ArrayPool<byte>.Shared.Rent(Math.Max(Math.Max(output.Length * 2, FlushAt / 4), outputLength + more));
        output.AsSpan(0, outputLength).CopyTo(larger);
        if (output.Length > 0)
            ArrayPool<byte>.Shared.Return(output);
        output = larger;
    }
}
