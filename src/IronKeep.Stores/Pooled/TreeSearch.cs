using System.Diagnostics;
using System.IO.Enumeration;
using System.Text;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>A hit of a search below some folder: its shown path relative to it, and the entry.</summary>
public sealed record SearchHit(string Path, TreeEntry Entry);

/// <summary>
/// Finds entries by name in many copies of one store. A folder that is the same in several copies is read once, so that all copies
/// of a job cost little more than one. Goes down without calling itself, because a tree may be tens of thousands of folders deep, and
/// stops when its time is over.
/// </summary>
public sealed class TreeSearch
{
    /// <summary>Letters of paths that one copy may give: the paths of a very deep tree are long.</summary>
    private const long MostLetters = 8 * 1024 * 1024;

    private readonly ITreeSource store;
    private readonly string pattern;
    private readonly bool wholePath;
    private readonly int most;
    private readonly TimeSpan patience;
    private readonly Stopwatch watch = Stopwatch.StartNew();
    private readonly Dictionary<ContentRef, Node> known = [];

    /// <summary>
    /// A pattern with '*' and '?', any case, for names; with a slash in it, for whole paths. Without wildcards it may stand anywhere
    /// in the name. No copy gives more than <paramref name="most"/> hits, and nothing is looked at once <paramref name="patience"/> is
    /// over.
    /// </summary>
    public TreeSearch(ITreeSource store, string pattern, int most, TimeSpan? patience = null)
    {
        this.store = store;
        this.most = most;
        this.patience = patience ?? TimeSpan.MaxValue;
        wholePath = pattern.Contains('/', StringComparison.Ordinal);
        this.pattern =
            pattern.Contains('*', StringComparison.Ordinal) || pattern.Contains('?', StringComparison.Ordinal) ? pattern : $"*{pattern}*";
    }

    /// <summary>Whether everything was looked at so far that should be.</summary>
    public bool IsComplete { get; private set; } = true;

    /// <summary>What a folder holds for this search: names that fit, and folders with something below them that does.</summary>
    private sealed record Node(List<Item> Items)
    {
        public static Node Empty { get; } = new([]);
    }

    private readonly record struct Item(string Name, TreeEntry? Hit, Node? Below);

    /// <summary>A folder on the way down.</summary>
    private sealed class Visit(ContentRef content, List<TreeEntry> entries)
    {
        public ContentRef Content => content;
        public List<TreeEntry> Entries => entries;
        public int Next { get; set; }
        public List<Item> Items { get; } = [];
    }

    /// <summary>All hits in one copy; folders that are damaged are passed over.</summary>
    public IEnumerable<SearchHit> In(CopyRecord record, CancellationToken cancel) =>
        (wholePath ? Paths(record.RootContent(), cancel) : Below(NodeOf(record.RootContent(), cancel))).Take(most);

    private Node NodeOf(ContentRef root, CancellationToken cancel)
    {
        if (known.TryGetValue(root, out var before))
            return before;
        var open = new Stack<Visit>([new Visit(root, Read(root, cancel))]);
        while (true)
        {
            var at = open.Peek();
            if (at.Next < at.Entries.Count && at.Items.Count < most && !IsOver())
            {
                var entry = at.Entries[at.Next];
                var folder = entry.Kind == EntryKind.Folder;
                Node? below = null;
                if (folder && !known.TryGetValue(entry.Content, out below))
                {
                    // It comes by once more when the folder is known.
                    open.Push(new Visit(entry.Content, Read(entry.Content, cancel)));
                    continue;
                }
                at.Next++;
                var name = NameText.Show(entry.Name);
                var fits = Fits(name);
                if (fits || below is { Items.Count: > 0 })
                    at.Items.Add(new Item(name, fits ? entry : null, below is { Items.Count: > 0 } ? below : null));
                continue;
            }
            open.Pop();
            known[at.Content] = at.Items.Count == 0 ? Node.Empty : new Node(at.Items);
            if (open.Count == 0)
                return known[at.Content];
        }
    }

    private IEnumerable<SearchHit> Below(Node root)
    {
        var path = new StringBuilder();
        long letters = 0;
        var open = new Stack<(Node Node, int Next, int Length)>([(root, 0, 0)]);
        while (open.TryPop(out var at))
        {
            path.Length = at.Length;
            if (at.Next == at.Node.Items.Count)
                continue;
            open.Push(at with { Next = at.Next + 1 });
            var item = at.Node.Items[at.Next];
            path.Append('/').Append(item.Name);
            if (item.Hit is { } hit)
            {
                letters += path.Length;
                if (letters > MostLetters)
                {
                    IsComplete = false;
                    yield break;
                }
                yield return new SearchHit(path.ToString(), hit);
            }
            if (item.Below is { } below)
                open.Push((below, 0, path.Length));
        }
    }

    private IEnumerable<SearchHit> Paths(ContentRef root, CancellationToken cancel)
    {
        var path = new StringBuilder();
        long letters = 0;
        var open = new Stack<(List<TreeEntry> Entries, int Next, int Length)>([(Read(root, cancel), 0, 0)]);
        while (open.TryPop(out var at) && !IsOver())
        {
            path.Length = at.Length;
            if (at.Next == at.Entries.Count)
                continue;
            open.Push(at with { Next = at.Next + 1 });
            var entry = at.Entries[at.Next];
            path.Append('/').Append(NameText.Show(entry.Name));
            var text = path.ToString();
            if (Fits(text))
            {
                letters += text.Length;
                if (letters > MostLetters)
                {
                    IsComplete = false;
                    yield break;
                }
                yield return new SearchHit(text, entry);
            }
            if (entry.Kind == EntryKind.Folder)
                open.Push((Read(entry.Content, cancel), 0, path.Length));
        }
    }

    private bool IsOver()
    {
        if (watch.Elapsed <= patience)
            return false;
        IsComplete = false;
        return true;
    }

    private List<TreeEntry> Read(ContentRef listing, CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        try
        {
            return [.. store.EnumerateFolder(listing)];
        }
        catch (StoreDamageException)
        {
            return [];
        }
    }

    private bool Fits(string text) => FileSystemName.MatchesSimpleExpression(pattern, text, ignoreCase: true);
}
