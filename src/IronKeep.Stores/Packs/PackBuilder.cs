using System.Security.Cryptography;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Packs;

/// <summary>Collects compressed chunks in memory until a pack is full. Not for two threads at once.</summary>
internal sealed class PackBuilder : IDisposable
{
    /// <summary>A pack is sealed when it has reached this size.</summary>
    public const int Goal = 24 * 1024 * 1024;

    private readonly ZstdSharp.Compressor compressor = new(1);
    private readonly List<PackEntry> entries = [];
    private byte[] buffer = new byte[256 * 1024];
    private int length = PackFormat.HeadSize;

    public bool IsEmpty => entries.Count == 0;
    public bool IsFull => length >= Goal;
    public IReadOnlyList<PackEntry> Entries => entries;

    /// <summary>Compresses and adds a chunk, raw where it does not shrink; returns the bytes it takes in the pack.</summary>
    public int Add(ChunkId id, ReadOnlySpan<byte> content)
    {
        Grow(length + ZstdSharp.Compressor.GetCompressBound(content.Length));
        var target = buffer.AsSpan(length);
        var codec = ChunkCodec.Zstd;
        var stored = content.Length == 0 ? 0 : compressor.Wrap(content, target);
        if (stored >= content.Length)
        {
            content.CopyTo(target);
            stored = content.Length;
            codec = ChunkCodec.Raw;
        }
        return Append(id, stored, content.Length, codec);
    }

    /// <summary>Adds a chunk in the form in which another pack holds it.</summary>
    public int AddStored(PackEntry entry, ReadOnlySpan<byte> stored)
    {
        Grow(length + stored.Length);
        stored.CopyTo(buffer.AsSpan(length));
        return Append(entry.Id, stored.Length, entry.RawLength, entry.Codec);
    }

    /// <summary>Takes over all that another builder holds, and empties it.</summary>
    public void Absorb(PackBuilder other)
    {
        foreach (var entry in other.entries) AddStored(entry, other.buffer.AsSpan((int)entry.Offset, entry.StoredLength));
        other.Clear();
    }

    /// <summary>The finished pack and its name; the memory is valid until <see cref="Clear"/>.</summary>
    public (string Name, ReadOnlyMemory<byte> Bytes) Seal()
    {
        var size = length + PackFormat.IndexSize(entries.Count);
        Grow(size);
        PackFormat.WriteHead(buffer);
        PackFormat.WriteIndex(buffer.AsSpan(length), entries, length);
        var bytes = buffer.AsMemory(0, size);
        return (Convert.ToHexStringLower(SHA256.HashData(bytes.Span)), bytes);
    }

    public void Clear()
    {
        entries.Clear();
        length = PackFormat.HeadSize;
    }

    public void Dispose() => compressor.Dispose();

    private int Append(ChunkId id, int stored, int raw, ChunkCodec codec)
    {
        entries.Add(new PackEntry(id, (uint)length, stored, raw, codec));
        length += stored;
        return stored;
    }

    private void Grow(int needed)
    {
        if (needed > buffer.Length) Array.Resize(ref buffer, (int)Math.Min(Math.Max((long)needed, buffer.Length * 2L), Array.MaxLength));
    }
}
