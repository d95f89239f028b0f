using System.Buffers.Binary;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Runs.Sending;

/// <summary>
/// The listings and lists of identities that a machine made, so that the next run compares with them and nothing of them travels back. By
/// their plain hash, compressed, in a file that only grows. Safe for several threads. What is damaged is absent.
/// </summary>
internal sealed class KeptListings : IDisposable
{
    private const int HeadSize = ChunkId.Size + 8;
    private readonly SafeFileHandle file;
    private readonly Dictionary<ChunkId, (long At, int Raw, int Stored)> places = [];
    private readonly HashSet<ChunkId> proved = [];
    private readonly Lock gate = new();
    private readonly Zstd zstd = new();
    private byte[] packed = new byte[64 * 1024];
    private long end;

    public KeptListings(string path)
    {
        file = File.OpenHandle(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.Read);
        var length = RandomAccess.GetLength(file);
        Span<byte> head = stackalloc byte[HeadSize];
        while (end + HeadSize <= length && RandomAccess.Read(file, head, end) == HeadSize)
        {
            var (raw, stored) = (
                BinaryPrimitives.ReadInt32LittleEndian(head[ChunkId.Size..]),
                BinaryPrimitives.ReadInt32LittleEndian(head[(ChunkId.Size + 4)..])
            );
            if (raw is < 1 or > PackFormat.MostBlockRaw || stored < 1 || stored > raw || end + HeadSize + stored > length)
                break;
            places[ChunkId.Read(head)] = (end + HeadSize, raw, stored);
            end += HeadSize + stored;
        }
        // What was being written when the machine stopped.
        RandomAccess.SetLength(file, end);
    }

    /// <summary>What is kept.</summary>
    public IReadOnlyList<ChunkId> Prints
    {
        get
        {
            lock (gate)
                return [.. places.OrderBy(p => p.Value.At).Select(p => p.Key)];
        }
    }

    /// <summary>Keeps a listing. One that is there is proved once, and kept anew where it is damaged.</summary>
    public void Add(ChunkId print, ReadOnlySpan<byte> content)
    {
        lock (gate)
        {
            if (places.TryGetValue(print, out var there) && (proved.Contains(print) || TryRead(print, there, zstd) is not null))
                return;
            proved.Add(print);
            if (packed.Length < HeadSize + content.Length)
                packed = new byte[HeadSize + content.Length];
            var stored = zstd.Compress(content, packed.AsSpan(HeadSize, content.Length - 1));
            if (stored < 1)
            {
                stored = content.Length;
                content.CopyTo(packed.AsSpan(HeadSize));
            }
            print.Write(packed);
            BinaryPrimitives.WriteInt32LittleEndian(packed.AsSpan(ChunkId.Size), content.Length);
            BinaryPrimitives.WriteInt32LittleEndian(packed.AsSpan(ChunkId.Size + 4), stored);
            RandomAccess.Write(file, packed.AsSpan(0, HeadSize + stored), end);
            places[print] = (end + HeadSize, content.Length, stored);
            end += HeadSize + stored;
        }
    }

    /// <summary>The content, proved by its hash; absent or damaged it is a <see cref="StoreDamageException"/>.</summary>
    public byte[] Read(ChunkId print, Zstd with)
    {
        (long At, int Raw, int Stored) place;
        lock (gate)
            if (!places.TryGetValue(print, out place))
                throw new StoreDamageException("a listing is not kept on this machine any more");
        var content = TryRead(print, place, with) ?? throw new StoreDamageException("a listing that is kept on this machine is damaged");
        lock (gate)
            proved.Add(print);
        return content;
    }

    private byte[]? TryRead(ChunkId print, (long At, int Raw, int Stored) place, Zstd with)
    {
        var stored = new byte[place.Stored];
        var raw = place.Stored == place.Raw ? stored : new byte[place.Raw];
        Span<byte> hash = stackalloc byte[Hashes.Size];
        if (RandomAccess.Read(file, stored, place.At) != stored.Length || (raw != stored && !with.Decompress(stored, raw)))
            return null;
        Hashes.Plain(HashKind.Blake3, raw, hash);
        return ChunkId.Read(hash) == print ? raw : null;
    }

    public void Flush() => RandomAccess.FlushToDisk(file);

    public void Dispose()
    {
        file.Dispose();
        zstd.Dispose();
    }
}
