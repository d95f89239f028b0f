using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Finds the paths of a copy that need an absent chunk, and when the packs it needs were read. Folders found whole are remembered
/// across copies; the packs of whole copies, and of those written while the store is open, across checks.
/// </summary>
internal sealed class DamageFinder(PooledStore store, Func<string, DateTimeOffset?> readAt, IReadOnlySet<ChunkId> lost) : IDisposable
{
    private const int MostPaths = 1000;

    private readonly Dictionary<ContentRef, PackSet> whole = [];
    private readonly Dictionary<PackSet, PackSet> sets = [];
    private readonly Dictionary<int, DateTimeOffset> read = [];
    private readonly ChunkReader reader = store.NewTreeReader();

    /// <summary>What a walk of one copy found; ReadSince is <see cref="DateTimeOffset.MinValue"/> while a pack it needs was never read.</summary>
    public sealed class Found
    {
        public List<string> Paths { get; } = [];
        public long Count { get; private set; }
        public DateTimeOffset ReadSince { get; set; } = DateTimeOffset.MinValue;

        public void Report(string path)
        {
            Count++;
            if (Paths.Count < MostPaths) Paths.Add(path);
        }
    }

    public Found Walk(CopyRecord record)
    {
        var found = new Found();
        if (KnownOf(record.Id) is not { } packs)
        {
            store.Needs.Forget(record.Id);
            if (Folder(found, () => "", record.RootContent()) is not { } needed) return found;
            packs = needed.Numbers;
            if (lost.Count == 0 && packs.Length <= KnownNeeds.MostPacks) store.Needs.Remember(record.Id, new KnownNeeds(packs, []));
        }
        found.ReadSince = packs.Length == 0 ? DateTimeOffset.MaxValue : packs.Min(ReadAt);
        return found;
    }

    public void Dispose() => reader.Dispose();

    /// <summary>The packs that the copy is known to need; null when that is not known, or when one of them is gone. Packs never change.</summary>
    private int[]? KnownOf(string copy)
    {
        if (lost.Count > 0 || store.Needs.Of(copy) is not { } known) return null;
        if (known.Lists.Length > 0)
        {
            var needed = known.Packs.ToHashSet();
            if (!known.Lists.All(list => Add(needed, list))) return null;
            store.Needs.Remember(copy, known = new KnownNeeds([.. needed.Order()], []));
        }
        return known.Packs.All(p => store.Index.NameOf(p) is not null) ? known.Packs : null;
    }

    /// <summary>The packs that the folder needs, or null when something below it is absent.</summary>
    private PackSet? Folder(Found found, Func<string> path, ContentRef content)
    {
        if (whole.TryGetValue(content, out var known)) return known;
        var (needed, sound) = (new HashSet<int>(), true);
        List<byte[]> listing;
        try
        {
            listing = [.. reader.Ids(content).ToList().Select(id => reader.Read(id).ToArray())];
            sound &= Add(needed, content);
        }
        catch (StoreDamageException)
        {
            found.Report($"{path()}/ (the whole folder)");
            return null;
        }
        foreach (var chunk in listing)
        {
            try
            {
                sound &= Entries(found, path, chunk, needed);
            }
            catch (StoreDamageException)
            {
                found.Report($"{path()}/ (the whole folder)");
                sound = false;
            }
        }
        if (!sound) return null;
        var set = new PackSet([.. needed.Order()]);
        // Most folders need what their neighbours need.
        if (!sets.TryAdd(set, set)) set = sets[set];
        return whole[content] = set;
    }

    // Straight from the bytes, because a store has millions of entries and nearly all of them are well: names are made for what is hurt.
    private bool Entries(Found found, Func<string> path, byte[] chunk, HashSet<int> needed)
    {
        var sound = true;
        for (var at = chunk.Length - FolderListing.Records(chunk).Length; at < chunk.Length;)
        {
            ReadOnlySpan<byte> rest = chunk.AsSpan(at);
            var before = rest.Length;
            var record = EntryRecord.Take(ref rest);
            var start = at;
            at += before - rest.Length;
            var content = EntryRecord.ContentOf(record);
            if (EntryRecord.KindOf(record) == EntryKind.Folder)
            {
                if (Folder(found, () => Name(start), content) is { } below) needed.UnionWith(below.Numbers);
                else sound = false;
            }
            else if (!Add(needed, content))
            {
                found.Report(Name(start));
                sound = false;
            }
        }
        return sound;

        string Name(int start)
        {
            ReadOnlySpan<byte> from = chunk.AsSpan(start);
            return $"{path()}/{NameText.Show(EntryRecord.NameOf(EntryRecord.Take(ref from)))}";
        }
    }

    /// <summary>Adds the packs that the content needs, those of its lists included; false when a chunk is absent.</summary>
    private bool Add(HashSet<int> needed, ContentRef content)
    {
        foreach (var id in content.Ids)
            if (!Add(needed, id)) return false;
        if (content.Depth == 0) return true;
        try
        {
            foreach (var id in reader.Ids(content))
                if (!Add(needed, id)) return false;
            return true;
        }
        catch (StoreDamageException)
        {
            return false;
        }
    }

    private bool Add(HashSet<int> needed, ChunkId id)
    {
        if (lost.Count > 0 && lost.Contains(id) || store.Index.SeemsToLieIn(id) is var pack && pack < 0) return false;
        needed.Add(pack);
        return true;
    }

    private DateTimeOffset ReadAt(int pack)
    {
        if (!read.TryGetValue(pack, out var at)) read[pack] = at = (store.Index.NameOf(pack) is { } name ? readAt(name) : null) ?? DateTimeOffset.MinValue;
        return at;
    }

    /// <summary>Packs by their numbers, in order; equal when they are the same.</summary>
    private sealed class PackSet(int[] numbers) : IEquatable<PackSet>
    {
        public int[] Numbers => numbers;

        public bool Equals(PackSet? other) => other is not null && numbers.AsSpan().SequenceEqual(other.Numbers);
        public override bool Equals(object? obj) => Equals(obj as PackSet);

        public override int GetHashCode()
        {
            var hash = new HashCode();
            foreach (var number in numbers) hash.Add(number);
            return hash.ToHashCode();
        }
    }
}
