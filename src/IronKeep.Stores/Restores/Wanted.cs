using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// What is to be restored of a folder: all of it, or some entries with what is wanted of each. Paths that share folders share them here, so
/// that each folder is made once.
/// </summary>
internal sealed class Wanted(TreeEntry entry)
{
    private readonly Dictionary<byte[], Wanted> below = new(ByteOrder.Instance);

    public TreeEntry Entry => entry;
    public bool All { get; private set; }
    public IEnumerable<Wanted> Below => below.Values;

    public static Wanted Everything(TreeEntry entry) => new(entry) { All = true };

    /// <summary>The root with the paths that the copy holds; the others are reported.</summary>
    public static Wanted Of(ITreeSource store, CopyRecord record, IReadOnlyList<string> paths, RestoreNotes notes)
    {
        var root = new Wanted(TreeWalk.RootOf(record)) { All = paths.Count == 0 };
        foreach (var path in paths)
        {
            if (NameText.ReadPath(path) is not { } names)
                notes.Report(path, "the path cannot be read: a backslash must be doubled or begin \\xNN");
            else if (!root.Add(store, names))
                notes.Report(path, "the copy holds no such file or folder");
        }
        return root;
    }

    private bool Add(ITreeSource store, List<byte[]> names)
    {
        // First to its end: of a path that leads nowhere not even the folders are made.
        var found = new List<TreeEntry>();
        var at = entry;
        foreach (var name in names)
        {
            var next =
                at.Kind == Posix.EntryKind.Folder
                    ? store.EnumerateFolder(at.Content).FirstOrDefault(e => e.Name.AsSpan().SequenceEqual(name))
                    : null;
            if (next is null)
                return false;
            found.Add(at = next);
        }
        var wanted = this;
        foreach (var step in found)
        {
            if (!wanted.below.TryGetValue(step.Name, out var next))
                wanted.below[step.Name] = next = new Wanted(step);
            wanted = next;
        }
        wanted.All = true;
        return true;
    }
}
