using System.Collections.Concurrent;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>The files of more than one name that have been met, by what they were on their machine.</summary>
internal sealed class LinkedFiles
{
    private readonly ConcurrentDictionary<(ulong Device, ulong Inode), Kept> known = new();

    /// <summary>
    /// The name under which such a file is kept in the staging folder until the restore ends, once it is there; null before, and where
    /// there are no hard links. Whoever works on it locks it.
    /// </summary>
    public sealed class Kept
    {
        public byte[]? Name { get; set; }
    }

    public Kept Of(TreeEntry entry) => known.GetOrAdd((entry.Device, entry.Inode), _ => new Kept());
}
