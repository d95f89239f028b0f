using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// A folder that is being restored. Whoever does the last thing in it gives it its attributes and tells the folder above. One that is new
/// is made in the staging folder (<paramref name="stagedAs"/>, null for the others) and has its place when it is finished;
/// <paramref name="staged"/> says that it, or a folder above it, is there still.
/// </summary>
internal sealed class RestoreFolder(RestoreFolder? above, TreeEntry? entry, bool takesAttributes, bool staged, byte[]? stagedAs)
{
    private int left = 1;

    public RestoreFolder? Above => above;
    public TreeEntry? Entry => entry;
    public bool TakesAttributes => takesAttributes;
    public bool Staged => staged;
    public byte[]? StagedAs => stagedAs;

    /// <summary>The open folder while there is one, and how many use it; belongs to <see cref="OpenHandles"/>.</summary>
    internal OpenFolder? Handle { get; set; }
    internal int Uses { get; set; }
    internal LinkedListNode<RestoreFolder>? Idle { get; set; }

    /// <summary>The path as shown, from the root of the copy.</summary>
    public string Path => string.Concat(Names().Select(n => "/" + NameText.Show(n)));

    /// <summary>The path of an entry in this folder.</summary>
    public string PathOf(TreeEntry child) => $"{Path}/{NameText.Show(child.Name)}";

    public void Expect() => Interlocked.Increment(ref left);

    /// <summary>One thing less to wait for; true for the caller who ended the last.</summary>
    public bool Release() => Interlocked.Decrement(ref left) == 0;

    /// <summary>The names that lead here from the root of the restore.</summary>
    private List<byte[]> Names()
    {
        var names = new List<byte[]>();
        for (var at = this; at.Above is not null; at = at.Above)
            names.Add(at.Entry!.Name);
        names.Reverse();
        return names;
    }
}
