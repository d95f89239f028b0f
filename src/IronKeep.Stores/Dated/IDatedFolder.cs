using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>
/// An entry of a folder of dated files: its name, or null where that is no text, and of its attributes the kind, the size, and the times.
/// </summary>
public readonly record struct FolderEntry(string? Name, FileFacts Facts);

/// <summary>The sum of a file's bytes (SHA-256, hexadecimal), and its attributes before and after they were read.</summary>
public readonly record struct HashedFile(string Sum, FileFacts Before, FileFacts After);

/// <summary>Where dated files lie: a folder of this machine, or one that an agent answers for. Safe for several threads.</summary>
public interface IDatedFolder
{
    /// <summary>The folder as people know it, for messages.</summary>
    string Name { get; }

    /// <summary>Why nothing can be moved in it; null when it can.</summary>
    string? WhyNotWritable { get; }

    /// <summary>
    /// The folder, for as long as something is done in it. One that cannot be looked into is a <see cref="PlaceException"/>.
    /// </summary>
    IDatedRoot Open();
}

/// <summary>
/// An open folder of dated files. Paths are relative, with '/' between folders, and no link is followed on the way. Errors are
/// <see cref="PlaceException"/>: not found, access refused, in use where a name is taken, unreachable.
/// </summary>
public interface IDatedRoot : IDisposable
{
    /// <summary>What is in a folder ("" for the topmost); null when there is no such folder, or it is a link.</summary>
    IReadOnlyList<FolderEntry>? List(string folder);

    /// <summary>Attributes of an entry; null when there is none.</summary>
    FileFacts? Facts(string path);

    /// <summary>Opens a file to read.</summary>
    ISourceFile OpenFile(string path);

    /// <summary>Reads a file to its end; <paramref name="progress"/> hears the bytes read, where that can be told.</summary>
    HashedFile Hash(string path, Action<long>? progress, CancellationToken cancel);

    /// <summary>Renames durably; folders on the way are made, and nothing is replaced.</summary>
    void Move(string from, string to);

    /// <summary>Removes a file durably.</summary>
    void Remove(string path);

    /// <summary>Removes an empty folder; false when it is not, or cannot be.</summary>
    bool RemoveFolder(string path);
}
