using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Trees;

/// <summary>
/// One entry of a folder as a copy remembers it. <paramref name="Content"/> lists the chunks of a file, or of a folder's own
/// listing. A folder's <paramref name="Size"/> and <paramref name="Items"/> are the sums of all below it.
/// </summary>
public sealed record TreeEntry(
    EntryKind Kind,
    byte[] Name,
    uint Mode,
    uint User,
    uint Group,
    string Owner,
    string OwningGroup,
    FileTime Modified,
    FileTime Changed,
    ulong Inode,
    long Size,
    long Items,
    byte[] LinkTarget,
    ImmutableArray<ChunkId> Content)
{
    /// <summary>Whether a file's attributes say that its content is the same: size, both times and inode.</summary>
    public bool SameContentAs(FileFacts facts) =>
        Kind == EntryKind.File && facts.Kind == EntryKind.File && Size == facts.Size && Modified == facts.Modified && Changed == facts.Changed && Inode == facts.Inode;
}
