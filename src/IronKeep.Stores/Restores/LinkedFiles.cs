using System.Collections.Concurrent;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>The files of more than one name that have been met, by what they were on their machine.</summary>
internal sealed class LinkedFiles
{
    private readonly ConcurrentDictionary<(ulong Device, ulong Inode), FirstName> known = new();

    /// <summary>Where the first name of such a file lies, once it is there. Whoever works on it locks it.</summary>
    public sealed class FirstName
    {
        public RestoreFolder? Folder { get; set; }
        public byte[] Name { get; set; } = [];
    }

    public FirstName Of(TreeEntry entry) => known.GetOrAdd((entry.Device, entry.Inode), _ => new FirstName());
}
