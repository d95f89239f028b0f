using System.Collections.Immutable;
using System.IO.Enumeration;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>A hit of a search below some folder: its shown path relative to it, and the entry.</summary>
public sealed record SearchHit(string Path, TreeEntry Entry);

/// <summary>
/// Finds entries by name in many copies of one store. A folder that is the same in several copies is read once, so that all copies
/// of a job cost little more than one.
/// </summary>
public sealed class TreeSearch
{
    private readonly PooledStore store;
    private readonly string pattern;
    private readonly bool wholePath;
    private readonly int most;
    private readonly Dictionary<ContentRef, ImmutableArray<SearchHit>> known = [];

    /// <summary>
    /// A pattern with '*' and '?', any case, for names; with a slash in it, for whole paths. Without wildcards it may stand anywhere
    /// in the name. No folder gives more than <paramref name="most"/> hits.
    /// </summary>
    public TreeSearch(PooledStore store, string pattern, int most)
    {
        this.store = store;
        this.most = most;
        wholePath = pattern.Contains('/', StringComparison.Ordinal);
        this.pattern = pattern.Contains('*', StringComparison.Ordinal) || pattern.Contains('?', StringComparison.Ordinal) ? pattern : $"*{pattern}*";
    }

    /// <summary>All hits in one copy; folders that are damaged are passed over.</summary>
    public IEnumerable<SearchHit> In(CopyRecord record, CancellationToken cancel) => wholePath ? Paths(record.RootContent(), "", cancel).Take(most) : Names(record.RootContent(), cancel);

    private ImmutableArray<SearchHit> Names(ContentRef listing, CancellationToken cancel)
    {
        if (known.TryGetValue(listing, out var before)) return before;
        var hits = ImmutableArray.CreateBuilder<SearchHit>();
        foreach (var entry in Read(listing, cancel))
        {
            if (hits.Count >= most) break;
            var name = NameText.Show(entry.Name);
            if (Fits(name)) hits.Add(new SearchHit("/" + name, entry));
            if (entry.Kind == EntryKind.Folder) hits.AddRange(Names(entry.Content, cancel).Take(most - hits.Count).Select(h => h with { Path = $"/{name}{h.Path}" }));
        }
        return known[listing] = hits.ToImmutable();
    }

    private IEnumerable<SearchHit> Paths(ContentRef listing, string above, CancellationToken cancel)
    {
        foreach (var entry in Read(listing, cancel))
        {
            var path = $"{above}/{NameText.Show(entry.Name)}";
            if (Fits(path)) yield return new SearchHit(path, entry);
            if (entry.Kind != EntryKind.Folder) continue;
            foreach (var hit in Paths(entry.Content, path, cancel)) yield return hit;
        }
    }

    private List<TreeEntry> Read(ContentRef listing, CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        try
        {
            return store.ReadFolder(listing);
        }
        catch (StoreDamageException)
        {
            return [];
        }
    }

    private bool Fits(string text) => FileSystemName.MatchesSimpleExpression(pattern, text, ignoreCase: true);
}
