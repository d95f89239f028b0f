using System.Collections.Concurrent;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>Where a chunk lies.</summary>
internal readonly record struct ChunkPlace(string Pack, PackEntry Entry);

/// <summary>
/// Which chunks the store holds, and where: kept in memory, read from the packs' own indexes. A pack whose index cannot be read
/// gives no chunks and is remembered as damaged. Safe for several threads.
/// </summary>
internal sealed class ChunkIndex(IPlace place)
{
    public const string Folder = "packs";
    private readonly ConcurrentDictionary<ChunkId, ChunkPlace> chunks = new();
    private readonly ConcurrentDictionary<string, IReadOnlyList<PackEntry>> packs = new();
    private readonly ConcurrentDictionary<string, string> damaged = new();

    /// <summary>Packs by name with their entries.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<PackEntry>> Packs => packs;

    /// <summary>Packs whose index cannot be read, with the reason.</summary>
    public IReadOnlyDictionary<string, string> Damaged => damaged;

    public static string FileOf(string pack) => $"{Folder}/{pack[..2]}/{pack}.pack";

    public static string PackOf(string file) => Path.GetFileNameWithoutExtension(file);

    /// <summary>Whether a file is a pack at its own place; other files below the folder are nobody's.</summary>
    public static bool IsPack(string file) => PackOf(file) is { Length: 2 * ChunkId.Size } pack && file == FileOf(pack);

    public bool Contains(ChunkId id) => chunks.ContainsKey(id);

    public bool TryGet(ChunkId id, out ChunkPlace found) => chunks.TryGetValue(id, out found);

    /// <summary>Brings the index in line with the packs that are there now: reads new ones, forgets vanished ones.</summary>
    public void Refresh()
    {
        var there = place.List(Folder).Where(f => IsPack(f.Name)).ToDictionary(f => PackOf(f.Name), f => f.Size);
        foreach (var gone in packs.Keys.Concat(damaged.Keys).Where(p => !there.ContainsKey(p)).ToList()) Forget(gone);
        foreach (var (pack, size) in there)
        {
            if (packs.ContainsKey(pack) || damaged.ContainsKey(pack)) continue;
            try
            {
                Add(pack, ReadEntries(pack, size));
            }
            catch (StoreDamageException e)
            {
                damaged[pack] = e.Message;
            }
        }
    }

    public void Add(string pack, IReadOnlyList<PackEntry> entries)
    {
        packs[pack] = entries;
        foreach (var entry in entries) chunks[entry.Id] = new ChunkPlace(pack, entry);
    }

    /// <summary>Forgets a pack; chunks that another pack holds too are found there again.</summary>
    public void Forget(string pack)
    {
        damaged.TryRemove(pack, out _);
        if (!packs.TryRemove(pack, out var entries)) return;
        var lost = entries.Where(e => chunks.TryGetValue(e.Id, out var at) && at.Pack == pack).Select(e => e.Id).ToHashSet();
        foreach (var id in lost) chunks.TryRemove(id, out _);
        FindElsewhere(lost);
    }

    private void FindElsewhere(HashSet<ChunkId> lost)
    {
        if (lost.Count == 0) return;
        foreach (var (pack, entries) in packs)
            foreach (var entry in entries)
                if (lost.Contains(entry.Id)) chunks.TryAdd(entry.Id, new ChunkPlace(pack, entry));
    }

    private List<PackEntry> ReadEntries(string pack, long size)
    {
        if (size is < PackFormat.HeadSize + PackFormat.TailSize or > PackFormat.LargestPack) throw new StoreDamageException($"pack {pack} has {size} bytes, which no pack has");
        Span<byte> tail = stackalloc byte[PackFormat.TailSize];
        var read = place.ReadAt(FileOf(pack), size - tail.Length, tail);
        var (offset, count) = PackFormat.ReadTail(tail[..read], size, pack);
        var index = new byte[count * PackFormat.EntrySize];
        read = place.ReadAt(FileOf(pack), offset, index);
        return PackFormat.ReadIndex(index.AsSpan(0, read), tail, offset, count, pack);
    }
}
