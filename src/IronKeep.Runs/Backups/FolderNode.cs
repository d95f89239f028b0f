using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>
/// A folder in work: its entries fill in as files are stored and folders below end. Whoever finishes the last of them writes the
/// listing and hands the result up, so nothing waits and only open folders are in memory.
/// </summary>
internal sealed class FolderNode(FolderNode? parent, int place, byte[] name, string path, FileFacts facts, OpenFolder handle, Dictionary<byte[], TreeEntry>? previous)
{
    private readonly List<TreeEntry?> entries = [];
    private int open = 1;

    public FolderNode? Parent => parent;
    public int Place => place;
    public byte[] Name => name;
    /// <summary>The path from "/" as shown, "" for the root.</summary>
    public string Path => path;
    public FileFacts Facts => facts;
    public OpenFolder Handle => handle;

    /// <summary>The entry of that name in the previous copy, or null.</summary>
    public TreeEntry? Before(byte[] child) => previous?.GetValueOrDefault(child);

    public void Add(TreeEntry entry)
    {
        lock (entries) entries.Add(entry);
    }

    /// <summary>Keeps a place for an entry that comes later through <see cref="Fill"/>.</summary>
    public int Reserve()
    {
        Interlocked.Increment(ref open);
        lock (entries)
        {
            entries.Add(null);
            return entries.Count - 1;
        }
    }

    /// <summary>Gives the reserved entry, or null when it was skipped.</summary>
    public void Fill(int at, TreeEntry? entry)
    {
        lock (entries) entries[at] = entry;
    }

    /// <summary>One thing less to wait for; true for the caller who ended the last.</summary>
    public bool Release() => Interlocked.Decrement(ref open) == 0;

    /// <summary>The finished entries; only after <see cref="Release"/> said true.</summary>
    public List<TreeEntry> Entries() => entries.OfType<TreeEntry>().ToList();
}
