using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Finds the paths of a copy that need an absent chunk, and when the packs it needs were read. Folders found whole are remembered
/// across copies.
/// </summary>
internal sealed class DamageFinder(PooledStore store, Func<string, DateTimeOffset?> readAt, IReadOnlySet<ChunkId> lost) : IDisposable
{
    private const int MostPaths = 1000;
    private readonly Dictionary<ContentRef, DateTimeOffset> whole = [];
    private readonly ChunkReader reader = store.NewReader();

    /// <summary>What a walk of one copy found; ReadSince is <see cref="DateTimeOffset.MinValue"/> while a pack it needs was never read.</summary>
    public sealed class Found
    {
        public List<string> Paths { get; } = [];
        public long Count { get; private set; }
        public DateTimeOffset ReadSince { get; set; } = DateTimeOffset.MaxValue;

        public void Report(string path)
        {
            Count++;
            if (Paths.Count < MostPaths) Paths.Add(path);
        }
    }

    public Found Walk(CopyRecord record)
    {
        var found = new Found();
        found.ReadSince = Folder(found, "", record.RootContent()) ?? DateTimeOffset.MinValue;
        return found;
    }

    public void Dispose() => reader.Dispose();

    /// <summary>The oldest reading of what the folder needs, or null when something below it is absent.</summary>
    private DateTimeOffset? Folder(Found found, string path, ContentRef content)
    {
        if (whole.TryGetValue(content, out var known)) return known;
        List<TreeEntry> entries;
        try
        {
            entries = store.ReadFolder(content);
        }
        catch (StoreDamageException)
        {
            found.Report($"{path}/ (the whole folder)");
            return null;
        }
        var oldest = Oldest(content);
        foreach (var entry in entries)
        {
            var name = $"{path}/{NameText.Show(entry.Name)}";
            var at = entry.Kind == EntryKind.Folder ? Folder(found, name, entry.Content) : Oldest(entry.Content);
            if (at is null && entry.Kind != EntryKind.Folder) found.Report(name);
            oldest = at < oldest ? at : at is null ? null : oldest;
        }
        if (oldest is { } sound) whole[content] = sound;
        return oldest;
    }

    private DateTimeOffset? Oldest(ContentRef content)
    {
        var oldest = DateTimeOffset.MaxValue;
        try
        {
            // The lists themselves are read on the way; where they lie counts as well.
            var ids = content.Depth == 0 ? content.Ids : content.Ids.Concat(reader.Ids(content));
            foreach (var id in ids)
            {
                if (lost.Contains(id) || !store.Index.TryGet(id, out var at)) return null;
                if ((readAt(at.Pack) ?? DateTimeOffset.MinValue) is var read && read < oldest) oldest = read;
            }
            return oldest;
        }
        catch (StoreDamageException)
        {
            return null;
        }
    }
}
