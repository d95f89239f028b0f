using System.Text;
using IronKeep.Core.Charters;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>The taken paths as a tree from "/": which folders are only passed through, and where everything is taken.</summary>
internal sealed class TakeTree
{
    private readonly Dictionary<byte[], TakeTree> children = new(ByteOrder.Instance);

    /// <summary>Everything from here on is taken.</summary>
    public bool Taken { get; private set; }

    /// <summary>Where a moment of this folder is held still; null: it is read where it lies.</summary>
    public string? StillAt { get; private set; }

    /// <summary>The names to pass through, in byte order.</summary>
    public IEnumerable<byte[]> Names => children.Keys.Order(ByteOrder.Instance);

    public TakeTree? Below(byte[] name) => children.GetValueOrDefault(name);

    /// <summary>The tree of taken paths; what is held still is one of them or lies on the way to one.</summary>
    public static TakeTree Of(IEnumerable<string> paths, IEnumerable<StillFolder> still)
    {
        var root = new TakeTree();
        foreach (var path in paths)
            root.At(path).Taken = true;
        foreach (var folder in still)
            root.At(folder.From).StillAt = folder.At;
        return root;
    }

    private TakeTree At(string path)
    {
        var at = this;
        foreach (var name in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            var key = Encoding.UTF8.GetBytes(name);
            if (!at.children.TryGetValue(key, out var next))
                at.children[key] = next = new TakeTree();
            at = next;
        }
        return at;
    }
}
