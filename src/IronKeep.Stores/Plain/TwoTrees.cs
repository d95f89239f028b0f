using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>
/// Goes through a tree beside the one before it: folders that are the same in everything are passed over with all below them. Goes down
/// without calling itself, because a tree may be tens of thousands of folders deep.
/// </summary>
internal sealed class TwoTrees(ITreeSource now, ITreeSource? before)
{
    private sealed class Level(int length, IEnumerator<TreeEntry> now, IEnumerator<TreeEntry>? before) : IDisposable
    {
        private bool begun;

        public int Length => length;
        private TreeEntry? Now { get; set; }
        private TreeEntry? Before { get; set; }

        /// <summary>The next name with its entry in either tree; both null at the end.</summary>
        public (TreeEntry? Now, TreeEntry? Before) Next()
        {
            if (!begun)
                (begun, Now, Before) = (true, Step(now), Step(before));
            var order =
                Now is null ? 1
                : Before is null ? -1
                : Now.Name.AsSpan().SequenceCompareTo(Before.Name);
            var found = (order <= 0 ? Now : null, order >= 0 ? Before : null);
            if (found.Item1 is not null)
                Now = Step(now);
            if (found.Item2 is not null)
                Before = Step(before);
            return found;
        }

        private static TreeEntry? Step(IEnumerator<TreeEntry>? entries) => entries?.MoveNext() == true ? entries.Current : null;

        public void Dispose()
        {
            now.Dispose();
            before?.Dispose();
        }
    }

    /// <summary>
    /// Whether nothing of an entry has changed; of a folder, nothing below it either. Names of a file are told apart by what they lead to.
    /// </summary>
    public static bool Same(TreeEntry a, TreeEntry b) =>
        a.Kind == b.Kind
        && a.Mode == b.Mode
        && (a.User, a.Group, a.Owner, a.OwningGroup) == (b.User, b.Group, b.Owner, b.OwningGroup)
        && a.Modified == b.Modified
        && (
            a.Kind == EntryKind.Folder
                ? a.Content == b.Content
                : a.Size == b.Size && (a.Inode, a.Device, a.Links) == (b.Inode, b.Device, b.Links)
        )
        && a.Node == b.Node
        && a.LinkTarget.AsSpan().SequenceEqual(b.LinkTarget)
        && a.Attributes.Length == b.Attributes.Length
        && a.Attributes.Zip(b.Attributes)
            .All(p => p.First.Name.AsSpan().SequenceEqual(p.Second.Name) && p.First.Value.AsSpan().SequenceEqual(p.Second.Value));

    /// <summary>
    /// Every name with its path (from the roots, without a slash in front, valid until the next) and its entry in both trees, null where it
    /// is not there. What is below a folder that is gone, or that is no folder any more, is not told by itself.
    /// </summary>
    public IEnumerable<(ReadOnlyMemory<byte> Path, TreeEntry? Now, TreeEntry? Before)> Of(TreeEntry root, TreeEntry? was)
    {
        var path = new byte[256];
        var open = new Stack<Level>();
        open.Push(Enter(0, root, was));
        while (open.TryPeek(out var at))
        {
            var (entry, old) = at.Next();
            if (entry is null && old is null)
            {
                open.Pop().Dispose();
                continue;
            }
            var name = (entry ?? old)!.Name;
            var length = at.Length;
            if (length + 1 + name.Length > path.Length)
                Array.Resize(ref path, 2 * (length + 1 + name.Length));
            if (length > 0)
                path[length++] = (byte)'/';
            name.CopyTo(path, length);
            length += name.Length;
            yield return (path.AsMemory(0, length), entry, old);
            if (entry?.Kind == EntryKind.Folder && !(old?.Kind == EntryKind.Folder && old.Content == entry.Content))
                open.Push(Enter(length, entry, old));
        }
    }

    private Level Enter(int length, TreeEntry entry, TreeEntry? old) =>
        new(
            length,
            now.EnumerateFolder(entry.Content).GetEnumerator(),
            old?.Kind == EntryKind.Folder ? before?.EnumerateFolder(old.Content).GetEnumerator() : null
        );
}
