using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Finds the paths of a copy that need an absent chunk, and when the packs it needs were read. Folders found whole are remembered
/// across copies; the packs of whole copies, and of those written while the store is open, across checks. Thorough: every record is read
/// as a restore reads it, and the sizes it names are compared with those of the chunks.
/// </summary>
internal sealed class DamageFinder(
    PooledStore store,
    Func<string, DateTimeOffset?> readAt,
    IReadOnlySet<ChunkId> lost,
    bool thorough = false
) : IDisposable
{
    private const int MostPaths = 1000;

    private readonly Dictionary<ContentRef, PackSet> whole = [];
    private readonly Dictionary<PackSet, PackSet> sets = [];
    private readonly Dictionary<(ChunkId, int), PackSet> lists = [];
    private readonly Dictionary<int, DateTimeOffset> read = [];
    private readonly ChunkReader reader = store.NewTreeReader();

    /// <summary>
    /// What a walk of one copy found; ReadSince is <see cref="DateTimeOffset.MinValue"/> while a pack it needs was never read.
    /// </summary>
    public sealed class Found
    {
        public List<string> Paths { get; } = [];
        public long Count { get; private set; }
        public DateTimeOffset ReadSince { get; set; } = DateTimeOffset.MinValue;

        public void Report(string path)
        {
            Count++;
            if (Paths.Count < MostPaths)
                Paths.Add(path);
        }
    }

    public Found Walk(CopyRecord record)
    {
        var found = new Found();
        if ((thorough ? null : KnownOf(record.Id)) is not { } packs)
        {
            store.Needs.Forget(record.Id);
            if (Tree(found, record.RootContent()) is not { } needed)
                return found;
            packs = needed.Numbers;
            if (lost.Count == 0 && packs.Length <= KnownNeeds.MostPacks)
                store.Needs.Remember(record.Id, new KnownNeeds(packs, []));
        }
        found.ReadSince = packs.Length == 0 ? DateTimeOffset.MaxValue : packs.Min(ReadAt);
        return found;
    }

    public void Dispose() => reader.Dispose();

    /// <summary>
    /// The packs that the copy is known to need; null when that is not known, or when one of them is gone. Packs never change.
    /// </summary>
    private int[]? KnownOf(string copy)
    {
        if (lost.Count > 0 || store.Needs.Of(copy) is not { } known)
            return null;
        if (known.Lists.Length > 0)
        {
            var needed = known.Packs.ToHashSet();
            if (!known.Lists.All(list => Add(needed, list)))
                return null;
            store.Needs.Remember(copy, known = new KnownNeeds([.. needed.Order()], []));
        }
        return known.Packs.All(p => store.Index.NameOf(p) is not null) ? known.Packs : null;
    }

    /// <summary>A folder on the way down: what it needs so far, and the folders in it that are still to be walked.</summary>
    private sealed class Visit(ContentRef content, Visit? above, byte[] name)
    {
        public ContentRef Content => content;
        public HashSet<int> Needed { get; } = [];
        public List<(byte[] Name, ContentRef Content)> Below { get; } = [];
        public int Next { get; set; }
        public bool Sound { get; set; } = true;

        /// <summary>
        /// The path of an entry in this folder as shown; with an empty name that of the folder itself, a slash at its end.
        /// </summary>
        public string PathOf(ReadOnlySpan<byte> entry)
        {
            var names = new List<string> { NameText.Show(entry) };
            for (var at = this; at is not null; at = at.Above)
                names.Add(at.Above is null ? "" : NameText.Show(at.Name));
            names.Reverse();
            return string.Join('/', names);
        }

        private Visit? Above => above;
        private byte[] Name => name;
    }

    /// <summary>
    /// The packs that the tree needs, or null when something in it is absent. Goes down without calling itself: a tree may be tens of
    /// thousands of folders deep.
    /// </summary>
    private PackSet? Tree(Found found, ContentRef root)
    {
        if (whole.TryGetValue(root, out var known))
            return known;
        var hurt = new HashSet<ContentRef>();
        var open = new Stack<Visit>([Look(found, new Visit(root, null, []))]);
        while (true)
        {
            var at = open.Peek();
            if (at.Next < at.Below.Count)
            {
                var (name, content) = at.Below[at.Next++];
                if (whole.TryGetValue(content, out var there))
                    at.Needed.UnionWith(there.Numbers);
                else if (!hurt.Contains(content))
                    open.Push(Look(found, new Visit(content, at, name)));
                else
                {
                    found.Report($"{at.PathOf(name)}/ (as elsewhere in this copy)");
                    at.Sound = false;
                }
                continue;
            }
            open.Pop();
            PackSet? set = null;
            if (at.Sound)
                whole[at.Content] = set = Shared(at.Needed);
            else
                hurt.Add(at.Content);
            if (open.Count == 0)
                return set;
            if (set is null)
                open.Peek().Sound = false;
            else
                open.Peek().Needed.UnionWith(set.Numbers);
        }
    }

    // Most folders need what their neighbours need.
    private PackSet Shared(HashSet<int> needed)
    {
        var set = new PackSet([.. needed.Order()]);
        return sets.TryAdd(set, set) ? set : sets[set];
    }

    /// <summary>Reads the folder's own listing: what its files need, and which folders lie in it.</summary>
    private Visit Look(Found found, Visit at)
    {
        try
        {
            at.Sound &= Add(at.Needed, at.Content);
            var last = Array.Empty<byte>();
            foreach (var id in reader.ListingIds(at.Content))
            {
                // What a list of chunks needs is read between the entries, from the same reader.
                var chunk = reader.Read(id).ToArray();
                Entries(found, at, chunk, ref last);
            }
        }
        catch (StoreDamageException)
        {
            found.Report($"{at.PathOf([])} (the whole folder)");
            at.Sound = false;
        }
        return at;
    }

    // Straight from the bytes, because a store has millions of entries and nearly all of them are well: names are made for what is hurt.
    private void Entries(Found found, Visit at, byte[] chunk, ref byte[] last)
    {
        var rest = FolderListing.Records(chunk);
        ReadOnlySpan<byte> before = last;
        while (rest.Length > 0)
        {
            var record = EntryRecord.Take(ref rest);
            var name = EntryRecord.NameOf(record);
            if (before.SequenceCompareTo(name) >= 0)
                throw new StoreDamageException("a folder's listing is not in the order of its names");
            before = name;
            if (!EntryRecord.IsSafeName(name))
                throw new StoreDamageException("a folder's listing holds a name that no folder can hold");
            var content = EntryRecord.ContentOf(record);
            if (EntryRecord.KindOf(record) == EntryKind.Folder)
                at.Below.Add((name.ToArray(), content));
            else if (!Add(at.Needed, content) || thorough && !IsAsListed(record))
            {
                found.Report(at.PathOf(name));
                at.Sound = false;
            }
        }
        last = before.ToArray();
    }

    /// <summary>Whether a restore would take the record, and the chunks have the sizes that it names.</summary>
    private bool IsAsListed(ReadOnlySpan<byte> record)
    {
        try
        {
            var entry = EntryRecord.Read(record);
            if (entry.Kind != EntryKind.File)
                return true;
            long length = 0;
            foreach (var id in reader.Ids(entry.Content))
                length += store.LengthOf(id);
            return length == (entry.Extents is { } stretches ? stretches.Sum(s => s.Length) : entry.Size);
        }
        catch (StoreDamageException)
        {
            return false;
        }
    }

    /// <summary>Adds the packs that the content needs, those of its lists included; false when a chunk is absent.</summary>
    private bool Add(HashSet<int> needed, ContentRef content)
    {
        foreach (var id in content.Ids)
        {
            if (!Add(needed, id))
                return false;
            if (content.Depth > 0 && !AddList(needed, id, content.Depth))
                return false;
        }
        return true;
    }

    // At most as deep as content is nested, and each list once: one that names another many times costs no more than one that names it
    // once.
    private bool AddList(HashSet<int> needed, ChunkId list, int depth)
    {
        if (!lists.TryGetValue((list, depth), out var known))
        {
            var own = new HashSet<int>();
            try
            {
                foreach (var id in reader.Ids(new ContentRef(1, [list])).ToArray())
                    if (!Add(own, id) || depth > 1 && !AddList(own, id, depth - 1))
                        return false;
            }
            catch (StoreDamageException)
            {
                return false;
            }
            lists[(list, depth)] = known = Shared(own);
        }
        needed.UnionWith(known.Numbers);
        return true;
    }

    private bool Add(HashSet<int> needed, ChunkId id)
    {
        if (lost.Count > 0 && lost.Contains(id) || store.Index.SeemsToLieIn(id) is var pack && pack < 0)
            return false;
        needed.Add(pack);
        return true;
    }

    private DateTimeOffset ReadAt(int pack)
    {
        if (!read.TryGetValue(pack, out var at))
            read[pack] = at = (store.Index.NameOf(pack) is { } name ? readAt(name) : null) ?? DateTimeOffset.MinValue;
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
            foreach (var number in numbers)
                hash.Add(number);
            return hash.ToHashCode();
        }
    }
}
