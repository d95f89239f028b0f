using System.Collections.Immutable;
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
    private readonly Dictionary<string, DateTimeOffset> read = [];
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
        found.ReadSince = Folder(found, () => "", record.RootContent()) ?? DateTimeOffset.MinValue;
        return found;
    }

    public void Dispose() => reader.Dispose();

    /// <summary>The oldest reading of what the folder needs, or null when something below it is absent.</summary>
    private DateTimeOffset? Folder(Found found, Func<string> path, ContentRef content)
    {
        if (whole.TryGetValue(content, out var known)) return known;
        List<byte[]> listing;
        try
        {
            listing = [.. reader.Ids(content).ToList().Select(id => reader.Read(id).ToArray())];
        }
        catch (StoreDamageException)
        {
            found.Report($"{path()}/ (the whole folder)");
            return null;
        }
        var oldest = Oldest(content);
        foreach (var chunk in listing)
        {
            try
            {
                oldest = Entries(found, path, chunk, oldest);
            }
            catch (StoreDamageException)
            {
                found.Report($"{path()}/ (the whole folder)");
                oldest = null;
            }
        }
        if (oldest is { } sound) whole[content] = sound;
        return oldest;
    }

    // Straight from the bytes, because a store has millions of entries and nearly all of them are well: names are made for what is hurt.
    private DateTimeOffset? Entries(Found found, Func<string> path, byte[] chunk, DateTimeOffset? oldest)
    {
        for (var at = chunk.Length - FolderListing.Records(chunk).Length; at < chunk.Length;)
        {
            ReadOnlySpan<byte> rest = chunk.AsSpan(at);
            var before = rest.Length;
            var record = EntryRecord.Take(ref rest);
            var start = at;
            at += before - rest.Length;
            var name = () => $"{path()}/{NameIn(chunk, start)}";
            var content = EntryRecord.ContentOf(record);
            var folder = EntryRecord.KindOf(record) == EntryKind.Folder;
            var readAt = folder ? Folder(found, name, content) : Oldest(content);
            if (readAt is null && !folder) found.Report(name());
            oldest = readAt < oldest ? readAt : readAt is null ? null : oldest;
        }
        return oldest;
    }

    private static string NameIn(byte[] chunk, int start)
    {
        ReadOnlySpan<byte> from = chunk.AsSpan(start);
        return NameText.Show(EntryRecord.NameOf(EntryRecord.Take(ref from)));
    }

    private DateTimeOffset? Oldest(ContentRef content)
    {
        if (content.Depth == 0) return Oldest(content.Ids, DateTimeOffset.MaxValue);
        try
        {
            // The lists themselves are read on the way; where they lie counts as well.
            return Oldest(content.Ids, DateTimeOffset.MaxValue) is { } lists ? Oldest([.. reader.Ids(content)], lists) : null;
        }
        catch (StoreDamageException)
        {
            return null;
        }
    }

    private DateTimeOffset? Oldest(ImmutableArray<ChunkId> ids, DateTimeOffset oldest)
    {
        foreach (var id in ids)
        {
            if (lost.Count > 0 && lost.Contains(id) || store.Index.SeemsToLieIn(id) is not { } pack) return null;
            if (ReadAt(pack) is var read && read < oldest) oldest = read;
        }
        return oldest;
    }

    private DateTimeOffset ReadAt(string pack)
    {
        if (!read.TryGetValue(pack, out var at)) read[pack] = at = readAt(pack) ?? DateTimeOffset.MinValue;
        return at;
    }
}
