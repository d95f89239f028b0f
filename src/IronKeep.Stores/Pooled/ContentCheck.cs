using System.Collections.Immutable;
using System.Security.Cryptography;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>A pack whose bytes are not what was written, and how many chunks are lost with it.</summary>
public sealed record PackDamage(string Pack, string Problem, int ChunksLost);

/// <summary>The damage of one copy: the files and folders that cannot be restored whole (the first thousand by name) and their number.</summary>
public sealed record CopyDamage(string CopyId, ImmutableArray<string> Paths, long Count);

/// <summary>
/// What a check is to read: packs least recently read first, until <paramref name="Budget"/> bytes are read (null: everything; at
/// least one pack). <paramref name="LastRead"/> tells when a pack was last read (UTC), or null for never.
/// </summary>
public sealed record CheckScope(long? Budget, Func<string, DateTimeOffset?> LastRead, DateTimeOffset Now)
{
    public static CheckScope Everything { get; } = new(null, _ => null, DateTimeOffset.UnixEpoch);
}

/// <summary>A copy that was found whole, and when the last of its packs to be read was read (UTC); null while one was never read.</summary>
public sealed record WholeCopy(string CopyId, DateTimeOffset? ReadSince);

/// <summary>
/// What a content check read and found: bytes read of the bytes that the store's packs have, the packs read, the copies that are
/// whole as far as is known, and those that are hurt.
/// </summary>
public sealed record CheckReport(
    long Bytes, long TotalBytes, ImmutableArray<string> Packs, int TotalPacks, ImmutableArray<WholeCopy> Whole, ImmutableArray<PackDamage> Damage, ImmutableArray<CopyDamage> Copies)
{
    public bool Sound => Damage.Length == 0 && Copies.Length == 0;
}

/// <summary>
/// Re-reads the bytes of a store and compares it with what was written: each pack against its name, each copy record against its
/// check, each copy's tree against the chunks that are there. A damaged pack is set aside, its whole chunks are written to a new
/// one; the others count as absent from then on, so the next run that meets them stores them anew.
/// </summary>
public static class ContentCheck
{
    private const int MostPaths = 1000;

    public static CheckReport Run(PooledStore store, CheckScope? scope = null, Action<long, long>? progress = null, CancellationToken cancel = default)
    {
        scope ??= CheckScope.Everything;
        using var stay = store.Enter();
        store.CheckStillThere();
        store.Index.Refresh();
        var all = store.Place.List(ChunkIndex.Folder).Where(f => ChunkIndex.IsPack(f.Name)).ToList();
        var packs = Choose(all, scope);
        var total = packs.Sum(p => p.Size);
        long done = 0;
        var damage = new System.Collections.Concurrent.ConcurrentBag<PackDamage>();
        Parallel.ForEach(packs, new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount, CancellationToken = cancel }, file =>
        {
            if (CheckPack(store, ChunkIndex.PackOf(file.Name), file.Size) is { } found) damage.Add(found);
            progress?.Invoke(Interlocked.Add(ref done, file.Size), total);
        });
        var read = packs.Select(f => ChunkIndex.PackOf(f.Name)).ToHashSet();
        var contents = store.ReadContents();
        var hurt = contents.Damaged.Select(d => new CopyDamage(d.CopyId, [d.Problem], 1)).ToList();
        var whole = ImmutableArray.CreateBuilder<WholeCopy>();
        var walk = new DamageFinder(store, pack => read.Contains(pack) ? scope.Now : scope.LastRead(pack));
        foreach (var copy in contents.Copies)
        {
            cancel.ThrowIfCancellationRequested();
            var found = walk.Walk(copy.Record);
            if (found.Count > 0) hurt.Add(new CopyDamage(copy.Record.Id, [.. found.Paths], found.Count));
            else whole.Add(new WholeCopy(copy.Record.Id, found.ReadSince == DateTimeOffset.MinValue ? null : found.ReadSince));
        }
        return new CheckReport(total, all.Sum(f => f.Size), [.. read], all.Count, whole.ToImmutable(), [.. damage.OrderBy(d => d.Pack, StringComparer.Ordinal)], [.. hurt]);
    }

    private static List<PlaceFile> Choose(List<PlaceFile> all, CheckScope scope)
    {
        if (scope.Budget is not { } budget) return all;
        var chosen = new List<PlaceFile>();
        long sum = 0;
        foreach (var file in all.OrderBy(f => scope.LastRead(ChunkIndex.PackOf(f.Name)) ?? DateTimeOffset.MinValue).ThenBy(f => f.Name, StringComparer.Ordinal))
        {
            if (chosen.Count > 0 && sum + file.Size > budget) break;
            chosen.Add(file);
            sum += file.Size;
        }
        return chosen;
    }

    private static PackDamage? CheckPack(PooledStore store, string pack, long size)
    {
        byte[] bytes = [];
        var problem = "";
        try
        {
            if (size > PackFormat.LargestPack) problem = "it is larger than any pack";
            else bytes = store.Place.Read(ChunkIndex.FileOf(pack));
        }
        catch (PlaceException e) when (e.Fault is PlaceFault.NotFound or PlaceFault.Other)
        {
            problem = e.Message;
        }
        if (problem.Length == 0 && Convert.ToHexStringLower(SHA256.HashData(bytes)) == pack) return null;
        return Quarantine.SetAside(store, pack, bytes, problem);
    }

    /// <summary>What a walk of one copy found; ReadSince is <see cref="DateTimeOffset.MinValue"/> while a pack it needs was never read.</summary>
    private sealed class Found
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

    /// <summary>
    /// Finds the paths of a copy that need an absent chunk, and when the packs it needs were read. Folders found whole are remembered
    /// across copies.
    /// </summary>
    private sealed class DamageFinder(PooledStore store, Func<string, DateTimeOffset?> readAt)
    {
        private readonly Dictionary<ImmutableArray<ChunkId>, DateTimeOffset> whole = new(TreeWalk.ListingComparer.Instance);

        public Found Walk(CopyRecord record)
        {
            var found = new Found();
            found.ReadSince = Folder(found, "", record.RootChunks()) ?? DateTimeOffset.MinValue;
            return found;
        }

        /// <summary>The oldest reading of what the folder needs, or null when something below it is absent.</summary>
        private DateTimeOffset? Folder(Found found, string path, ImmutableArray<ChunkId> content)
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

        private DateTimeOffset? Oldest(ImmutableArray<ChunkId> content)
        {
            var oldest = DateTimeOffset.MaxValue;
            foreach (var id in content)
            {
                if (!store.Index.TryGet(id, out var at)) return null;
                if ((readAt(at.Pack) ?? DateTimeOffset.MinValue) is var read && read < oldest) oldest = read;
            }
            return oldest;
        }
    }
}
