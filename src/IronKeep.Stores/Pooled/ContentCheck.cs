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

/// <summary>What a content check read and found. Copies not named under <paramref name="Copies"/> are sound.</summary>
public sealed record CheckReport(int Packs, long Bytes, ImmutableArray<string> Checked, ImmutableArray<PackDamage> Damage, ImmutableArray<CopyDamage> Copies)
{
    public bool Sound => Damage.Length == 0 && Copies.Length == 0;
}

/// <summary>
/// Re-reads every byte of a store and compares it with what was written: each pack against its name, each copy record against its
/// check, each copy's tree against the chunks that are whole. A damaged pack is set aside, its whole chunks are written to a new
/// one; the others count as absent from then on, so the next run that meets them stores them anew.
/// </summary>
public static class ContentCheck
{
    private const int MostPaths = 1000;

    public static CheckReport Run(PooledStore store, Action<long, long>? progress = null, CancellationToken cancel = default)
    {
        using var stay = store.Enter();
        store.CheckStillThere();
        store.Index.Refresh();
        var packs = store.Place.List(ChunkIndex.Folder).Where(f => ChunkIndex.IsPack(f.Name)).ToList();
        var total = packs.Sum(p => p.Size);
        long done = 0;
        var damage = new System.Collections.Concurrent.ConcurrentBag<PackDamage>();
        Parallel.ForEach(packs, new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount, CancellationToken = cancel }, file =>
        {
            if (CheckPack(store, ChunkIndex.PackOf(file.Name), file.Size) is { } found) damage.Add(found);
            progress?.Invoke(Interlocked.Add(ref done, file.Size), total);
        });
        var contents = store.ReadContents();
        var hurt = contents.Damaged.Select(d => new CopyDamage(d.CopyId, [d.Problem], 1)).ToList();
        var folders = new Dictionary<ImmutableArray<ChunkId>, bool>(TreeWalk.ListingComparer.Instance);
        foreach (var copy in contents.Copies)
        {
            cancel.ThrowIfCancellationRequested();
            var finder = new DamageFinder(store, folders);
            finder.Walk(copy.Record);
            if (finder.Count > 0) hurt.Add(new CopyDamage(copy.Record.Id, [.. finder.Paths], finder.Count));
        }
        return new CheckReport(packs.Count, total,
            [.. contents.Copies.Select(c => c.Record.Id)], [.. damage.OrderBy(d => d.Pack, StringComparer.Ordinal)], [.. hurt]);
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

    /// <summary>Finds the paths of a copy that need an absent chunk. Folders found whole are remembered across copies.</summary>
    private sealed class DamageFinder(PooledStore store, Dictionary<ImmutableArray<ChunkId>, bool> whole)
    {
        public List<string> Paths { get; } = [];
        public long Count { get; private set; }

        public void Walk(CopyRecord record) => Folder("", record.RootChunks());

        private bool Folder(string path, ImmutableArray<ChunkId> content)
        {
            if (whole.TryGetValue(content, out var known) && known) return true;
            List<TreeEntry> entries;
            try
            {
                entries = store.ReadFolder(content);
            }
            catch (StoreDamageException)
            {
                Report($"{path}/ (the whole folder)");
                return false;
            }
            var sound = true;
            foreach (var entry in entries)
            {
                var name = $"{path}/{NameText.Show(entry.Name)}";
                if (entry.Kind == EntryKind.Folder) sound &= Folder(name, entry.Content);
                else if (!store.HasAll(entry.Content))
                {
                    Report(name);
                    sound = false;
                }
            }
            whole[content] = sound;
            return sound;
        }

        private void Report(string path)
        {
            Count++;
            if (Paths.Count < MostPaths) Paths.Add(path);
        }
    }
}
