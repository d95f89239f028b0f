using System.Collections.Concurrent;
using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// How closely a check looks. Presence: the store is listed, tables and listings are read, everything the copies need must be there.
/// Content: each pack's bytes are hashed and compared with its name. Deep: besides, each chunk is decrypted, decompressed and hashed.
/// </summary>
public enum CheckDepth
{
    Presence,
    Content,
    Deep,
}

/// <summary>A pack whose bytes are not what was written, and how many chunks are lost with it.</summary>
public sealed record PackDamage(string Pack, string Problem, int ChunksLost);

/// <summary>
/// The damage of one copy: the files and folders that cannot be restored whole (the first thousand by name) and their number.
/// </summary>
public sealed record CopyDamage(string CopyId, ImmutableArray<string> Paths, long Count);

/// <summary>
/// What a check is to read: packs least recently read first, until <paramref name="Budget"/> bytes are read (null: everything; at
/// least one pack). <paramref name="LastRead"/> tells when a pack was last read (UTC), or null for never.
/// </summary>
public sealed record CheckScope(
    long? Budget,
    Func<string, DateTimeOffset?> LastRead,
    DateTimeOffset Now,
    CheckDepth Depth = CheckDepth.Content
)
{
    /// <summary>Whether damaged packs are only told of: nothing in the store is changed.</summary>
    public bool OnlyLooks { get; init; }

    /// <summary>Whether a copy of this id is known to the caller; a record that cannot be read hurts a copy only then.</summary>
    public Func<string, bool> IsKnown { get; init; } = _ => true;

    public static CheckScope Everything { get; } = new(null, _ => null, DateTimeOffset.UnixEpoch);
}

/// <summary>A copy that was found whole, and when the last of its packs to be read was read (UTC); null while one was never read.</summary>
public sealed record WholeCopy(string CopyId, DateTimeOffset? ReadSince);

/// <summary>
/// What a check read and found: bytes read of the bytes that the store's packs have, the packs read, the copies that are whole as far
/// as is known, those that are hurt, and other files of the store that are not what was written.
/// </summary>
public sealed record CheckReport(
    long Bytes,
    long TotalBytes,
    ImmutableArray<string> Packs,
    int TotalPacks,
    ImmutableArray<WholeCopy> Whole,
    ImmutableArray<PackDamage> Damage,
    ImmutableArray<CopyDamage> Copies,
    ImmutableArray<string> Files
)
{
    /// <summary>
    /// Files that lie in the store and are not its own, and notes that cannot be read: they hurt no copy, but somebody should look.
    /// </summary>
    public ImmutableArray<string> Strays { get; init; } = [];

    public bool Sound => Damage.Length == 0 && Copies.Length == 0 && Files.Length == 0;
}

/// <summary>
/// Re-reads the bytes of a store and compares it with what was written: each pack against its name, each copy record against its
/// signature, each copy's tree against the chunks that are there. A damaged pack is set aside, its whole chunks are written to a new
/// one; the others count as absent from then on, so the next run that meets them stores them anew.
/// </summary>
public static class StoreCheck
{
    private const int Piece = 512 * 1024;

    public static CheckReport Run(
        PooledStore store,
        CheckScope? scope = null,
        Action<long, long>? progress = null,
        CancellationToken cancel = default
    )
    {
        scope ??= CheckScope.Everything;
        store.CheckStillThere();
        store.Refresh();
        var all = store.Place.List(PackNames.Folder).Where(f => PackNames.IsPack(f.Name)).ToList();
        var packs = scope.Depth == CheckDepth.Presence ? [] : Choose(all, scope);
        var total = packs.Sum(p => p.Size);
        long done = 0;
        var wrong = new ConcurrentBag<(string Pack, string Problem)>();
        foreach (var file in all)
            if (store.Index.SizeOf(PackNames.PackOf(file.Name)) is { } size && size != file.Size && !packs.Contains(file))
                wrong.Add((PackNames.PackOf(file.Name), $"it has {file.Size} bytes of {size}"));
        foreach (var (pack, problem) in store.Index.Damaged.Where(d => !packs.Exists(p => PackNames.PackOf(p.Name) == d.Key)))
            wrong.Add((pack, problem));
        // One after the other to whoever is free, the largest first, so that all end together.
        var turns = Partitioner.Create(packs.OrderByDescending(p => p.Size), EnumerablePartitionerOptions.NoBuffering);
        Parallel.ForEach(
            turns,
            new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount, CancellationToken = cancel },
            () => new Inspector(store),
            (file, _, inspector) =>
            {
                if (inspector.ProblemOf(PackNames.PackOf(file.Name), file.Size, scope.Depth, cancel) is { } problem)
                    wrong.Add((PackNames.PackOf(file.Name), problem));
                progress?.Invoke(Interlocked.Add(ref done, file.Size), total);
                return inspector;
            },
            inspector => inspector.Dispose()
        );
        var lost = new HashSet<ChunkId>();
        var damage = wrong
            .OrderBy(w => w.Pack, StringComparer.Ordinal)
            .Select(w => scope.OnlyLooks ? Quarantine.Look(store, w.Pack, w.Problem, lost) : Quarantine.SetAside(store, w.Pack, w.Problem))
            .ToImmutableArray();
        var read = packs.Select(f => PackNames.PackOf(f.Name)).ToHashSet();
        var contents = store.ReadContents();
        // A record that nobody knows and that the store's key did not sign is no copy of this store.
        var known = contents.Damaged.ToLookup(d => scope.IsKnown(d.CopyId));
        var hurt = known[true].Select(d => new CopyDamage(d.CopyId, [d.Problem], 1)).ToList();
        var whole = ImmutableArray.CreateBuilder<WholeCopy>();
        using var finder = new DamageFinder(
            store,
            pack => read.Contains(pack) ? scope.Now : scope.LastRead(pack),
            lost,
            scope.Depth == CheckDepth.Deep
        );
        foreach (var copy in contents.Copies)
        {
            cancel.ThrowIfCancellationRequested();
            var found = finder.Walk(copy.Record);
            if (found.Count > 0)
                hurt.Add(new CopyDamage(copy.Record.Id, [.. found.Paths], found.Count));
            else
                whole.Add(new WholeCopy(copy.Record.Id, found.ReadSince == DateTimeOffset.MinValue ? null : found.ReadSince));
        }
        return new CheckReport(total, all.Sum(f => f.Size), [.. read], all.Count, whole.ToImmutable(), damage, [.. hurt], OtherFiles(store))
        {
            Strays =
            [
                .. known[false].Select(d => $"{d.File}: {d.Problem}, and no copy of this name is known"),
                .. contents.Unreadable.Where(d => d.IsNote).Select(d => d.Problem),
                .. Strays(store),
            ],
        };
    }

    /// <summary>Wrapped keys, lists and other files beside packs and records that are not what was written, or that are nobody's.</summary>
    private static ImmutableArray<string> OtherFiles(PooledStore store)
    {
        var wrong = KeyRing.Damaged(store.Place).Select(d => d.Problem).ToList();
        var lists = new List<string>();
        LeavingList.Read(store.Place, lists);
        wrong.AddRange(lists.Select(l => $"{l} is not what was written; the next reclaiming removes it"));
        return [.. wrong];
    }

    private const int MostStrays = 100;

    /// <summary>Files that are none of the store's own, by their names.</summary>
    private static IEnumerable<string> Strays(PooledStore store)
    {
        bool IsIn(string file, string folder, string ending) =>
            file.StartsWith(folder, StringComparison.Ordinal) && file.EndsWith(ending, StringComparison.Ordinal);
        return store
            .Place.List("")
            .Select(f => f.Name)
            .Where(f =>
                f != StoreHead.FileName
                && f != Ballast.FileName
                && !PackNames.IsPack(f)
                && !RecordShelf.IsOwn(f)
                && !IsIn(f, "wraps/", ".wrap")
                && !IsIn(f, "leases/", ".lease")
                && !IsIn(f, "leaving/", ".list")
                && !IsIn(f, "work/", ".part")
                && !IsIn(f, "damaged/", ".pack")
            )
            .Take(MostStrays)
            .Select(f => $"{f} is none of the store's own files; look what it is, and take it out");
    }

    private static List<PlaceFile> Choose(List<PlaceFile> all, CheckScope scope)
    {
        if (scope.Budget is not { } budget)
            return all;
        var chosen = new List<PlaceFile>();
        long sum = 0;
        foreach (
            var file in all.OrderBy(f => scope.LastRead(PackNames.PackOf(f.Name)) ?? DateTimeOffset.MinValue)
                .ThenBy(f => f.Name, StringComparer.Ordinal)
        )
        {
            if (chosen.Count > 0 && sum + file.Size > budget)
                break;
            chosen.Add(file);
            sum += file.Size;
        }
        return chosen;
    }

    /// <summary>Looks at packs, one after the other, with buffers of its own.</summary>
    private sealed class Inspector(PooledStore store) : IDisposable
    {
        private readonly HashStream hash = new(store.Keys.Hash);
        private readonly PackReader reader = new(store.Place, store.Keys);
        private byte[] buffer = new byte[Piece];

        /// <summary>Null when the pack is what was written; an empty text when its bytes differ; else why it cannot be read.</summary>
        public string? ProblemOf(string pack, long size, CheckDepth depth, CancellationToken cancel)
        {
            if (size > PackFormat.Largest)
                return "it is larger than any pack";
            try
            {
                var table = depth == CheckDepth.Deep ? store.Index.TableOf(pack) : null;
                if (depth == CheckDepth.Deep && table is null)
                    return store.Index.IsKnown(pack) || store.Index.Damaged.ContainsKey(pack) ? "" : null;
                return IsWhole(pack, size, table, cancel) ? null : "";
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // Reclaiming took it; if it did not, the walk of the copies finds what is absent.
                return null;
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.Other)
            {
                return e.Message;
            }
        }

        /// <summary>Reads the pack from its beginning to its end, once: piece by piece, or block by block when there is a table.</summary>
        private bool IsWhole(string pack, long size, PackTable? table, CancellationToken cancel)
        {
            var block = 0;
            var sound = true;
            for (long at = 0; at < size; )
            {
                cancel.ThrowIfCancellationRequested();
                var length =
                    table is null ? (int)Math.Min(Piece, size - at)
                    : at < PackFormat.HeadSize ? PackFormat.HeadSize
                    : block < table.Blocks.Length ? table.Blocks[block].Stored
                    : (int)(size - at);
                if (buffer.Length < length)
                    buffer = new byte[length];
                var bytes = buffer.AsSpan(0, length);
                if (store.Place.ReadAt(PackNames.FileOf(pack), at, bytes) != length)
                {
                    sound = false;
                    break;
                }
                hash.Add(bytes);
                if (table is not null && at >= PackFormat.HeadSize && block < table.Blocks.Length)
                {
                    sound &= reader.Open(pack, table, block, bytes) && Chunks(table, block);
                    block++;
                }
                at += length;
            }
            Span<byte> name = stackalloc byte[Hashes.Size];
            hash.Finish(name);
            return sound && Convert.ToHexStringLower(name) == pack;
        }

        private bool Chunks(PackTable table, int number)
        {
            var block = table.Blocks[number];
            for (var i = block.FirstChunk; i < block.FirstChunk + block.Chunks; i++)
                if (store.Keys.IdOf(reader.Raw.Slice(table.SpotAt(i).Offset, table.SpotAt(i).Length)) != table.IdAt(i))
                    return false;
            return true;
        }

        public void Dispose()
        {
            hash.Dispose();
            reader.Dispose();
        }
    }
}
