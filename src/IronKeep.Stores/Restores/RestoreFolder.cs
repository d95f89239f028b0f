using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// A folder that is being restored. It is open while anything in it is left to do; whoever does the last gives it its attributes and
/// tells the folder above.
/// </summary>
internal sealed class RestoreFolder(RestoreFolder? above, TreeEntry? entry, OpenFolder handle, bool takesAttributes)
{
    private int left = 1;

    public RestoreFolder? Above => above;
    public TreeEntry? Entry => entry;
    public OpenFolder Handle => handle;
    public bool TakesAttributes => takesAttributes;

    /// <summary>The path as shown, from the root of the copy.</summary>
    public string Path => above is null ? "" : $"{above.Path}/{NameText.Show(entry!.Name)}";

    /// <summary>The path of an entry in this folder.</summary>
    public string PathOf(TreeEntry child) => $"{Path}/{NameText.Show(child.Name)}";

    public void Expect() => Interlocked.Increment(ref left);

    /// <summary>One thing less to wait for; true for the caller who ended the last.</summary>
    public bool Release() => Interlocked.Decrement(ref left) == 0;

    /// <summary>The names that lead here from the root of the restore.</summary>
    public List<byte[]> Names()
    {
        var names = new List<byte[]>();
        for (var at = this; at.Above is not null; at = at.Above) names.Add(at.Entry!.Name);
        names.Reverse();
        return names;
    }
}
