using System.Text;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>The taken paths as a tree from "/": which folders are only passed through, and where everything is taken.</summary>
internal sealed class TakeTree
{
    private readonly Dictionary<byte[], TakeTree> children = new(ByteOrder.Instance);

    /// <summary>Everything from here on is taken.</summary>
    public bool Taken { get; private set; }

    /// <summary>The names to pass through, in byte order.</summary>
    public IEnumerable<byte[]> Names => children.Keys.Order(ByteOrder.Instance);

    public TakeTree? Below(byte[] name) => children.GetValueOrDefault(name);

    public static TakeTree Of(IEnumerable<string> paths)
    {
        var root = new TakeTree();
        foreach (var path in paths)
        {
            var at = root;
            foreach (var name in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
            {
                var key = Encoding.UTF8.GetBytes(name);
                if (!at.children.TryGetValue(key, out var next))
                    at.children[key] = next = new TakeTree();
                at = next;
            }
            at.Taken = true;
        }
        return root;
    }
}
