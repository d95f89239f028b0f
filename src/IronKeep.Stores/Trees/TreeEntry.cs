using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Trees;

/// <summary>
/// One entry of a folder as a copy remembers it. <paramref name="Content"/> leads to a file's bytes (of a file with holes: of its
/// <paramref name="Extents"/> one after the other), or to a folder's own listing. A folder's <paramref name="Size"/> and
/// <paramref name="Items"/> are the sums of all below it. <paramref name="Extents"/> is null for a file without holes.
/// <paramref name="Node"/> is the number of a device node. Entries of more than one link that have the same device and inode are one file.
/// </summary>
public sealed record TreeEntry(
    EntryKind Kind,
    byte[] Name,
    uint Mode,
    uint User,
    uint Group,
    uint Links,
    FileTime Modified,
    FileTime Changed,
    ulong Inode,
    ulong Device,
    long Size,
    ContentRef Content,
    long Items,
    string Owner,
    string OwningGroup,
    ulong Node,
    byte[] LinkTarget,
    ImmutableArray<NamedAttribute> Attributes,
    ImmutableArray<Extent>? Extents
);
