using System.Collections.Immutable;
using System.Security.Cryptography;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Plain;

/// <summary>
/// Verification of a plain store: every file of every copy is read and compared with the sum in the copy's signed record. Of one that
/// stands on others only its own files are judged; that it is worth nothing without them the chain says.
/// </summary>
internal static class PlainCheck
{
    private const int Buffer = 1024 * 1024;

    private sealed record Part(string Copy, CopyFile File)
    {
        public string Name => $"{Copy}/{File.Name}";
    }

    public static CheckReport Run(PlainStore store, CheckScope scope, Action<long, long>? progress, CancellationToken cancel)
    {
        store.CheckStillThere();
        var contents = store.Records.ReadAll();
        var there = store.Place.List("").ToDictionary(f => f.Name, f => f.Size);
        var copies = contents.Copies.Where(c => c.Binned is null).Select(c => c.Record).ToList();
        var parts = copies.SelectMany(c => FilesOf(c).Select(f => new Part(c.Id, f))).ToList();
        var damage = new Dictionary<Part, string>();
        foreach (var part in parts)
            if (!there.TryGetValue(PathOf(part), out var size))
                damage[part] = "it is not there";
            else if (size != part.File.Bytes)
                damage[part] = $"it has {size} bytes instead of {part.File.Bytes}";
        var chosen = scope.Depth == CheckDepth.Presence ? [] : Chosen([.. parts.Where(p => !damage.ContainsKey(p))], scope);
        var (total, done) = (chosen.Sum(p => p.File.Bytes), 0L);
        foreach (var part in chosen)
        {
            if (Problem(store.Place, part, read => progress?.Invoke(done + read, total), cancel) is { } problem)
                damage[part] = problem;
            done += part.File.Bytes;
        }
        var read = chosen.Select(p => p.Name).ToHashSet();
        var hurt = damage.Keys.ToLookup(p => p.Copy);
        return new CheckReport(
            done,
            parts.Sum(p => p.File.Bytes),
            [.. read.Order(StringComparer.Ordinal)],
            parts.Count,
            [
                .. copies
                    .Where(c => !hurt.Contains(c.Id))
                    .Select(c => new WholeCopy(c.Id, FilesOf(c).Select(f => LastRead($"{c.Id}/{f.Name}")).Aggregate(Earlier))),
            ],
            [.. damage.Select(d => new PackDamage(d.Key.Name, d.Value, 1))],
            [
                .. hurt.Select(h => new CopyDamage(h.Key, [.. h.Select(p => p.File.Name).Order(StringComparer.Ordinal)], h.Count())),
                .. contents
                    .Damaged.Where(d => scope.IsKnown(d.CopyId))
                    .Select(d => new CopyDamage(d.CopyId, ["the record of the copy"], 1)),
            ],
            [.. contents.Damaged.Select(d => d.Problem)]
        )
        {
            Strays = [.. contents.Unreadable.Where(d => d.IsNote).Select(d => d.Problem)],
        };

        DateTimeOffset? LastRead(string part) => read.Contains(part) ? scope.Now : scope.LastRead(part);
    }

    private static DateTimeOffset? Earlier(DateTimeOffset? a, DateTimeOffset? b) =>
        a is null || b is null ? null
        : a < b ? a
        : b;

    /// <summary>A record that names no files is of no copy that can be given back: it lacks its index at least.</summary>
    private static ImmutableArray<CopyFile> FilesOf(CopyRecord copy) =>
        copy.Files.IsEmpty ? [new CopyFile(PlainFiles.Index, 0, "")] : copy.Files;

    private static string PathOf(Part part) => $"{PlainStore.FolderOf(part.Copy)}/{part.File.Name}";

    private static List<Part> Chosen(List<Part> parts, CheckScope scope)
    {
        var (chosen, budget) = (new List<Part>(), scope.Budget);
        foreach (
            var part in parts.OrderBy(p => scope.LastRead(p.Name) ?? DateTimeOffset.MinValue).ThenBy(p => p.Name, StringComparer.Ordinal)
        )
        {
            if (budget is { } left && left < part.File.Bytes && chosen.Count > 0)
                break;
            chosen.Add(part);
            budget -= part.File.Bytes;
        }
        return chosen;
    }

    private static string? Problem(IPlace place, Part part, Action<long> progress, CancellationToken cancel)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[Buffer];
        try
        {
            for (long at = 0; at < part.File.Bytes; )
            {
                cancel.ThrowIfCancellationRequested();
                var got = place.ReadAt(PathOf(part), at, buffer.AsSpan(0, (int)Math.Min(buffer.Length, part.File.Bytes - at)));
                if (got == 0)
                    return "it became shorter while it was read";
                hash.AppendData(buffer, 0, got);
                progress(at += got);
            }
        }
        // A place that is out of reach says nothing of its files.
        catch (PlaceException e) when (e.Fault != PlaceFault.Unreachable)
        {
            return $"it cannot be read: {e.Message}";
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset()) == part.File.Sha256 ? null : "its bytes are not those that were written";
    }
}
