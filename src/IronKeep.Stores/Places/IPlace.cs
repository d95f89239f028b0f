namespace IronKeep.Stores.Places;

/// <summary>A file at a place: its name relative to the place, with '/' between folders, and its size in bytes.</summary>
public readonly record struct PlaceFile(string Name, long Size);

/// <summary>
/// Where a store's files lie. The one seam between the store's format and a folder, a server or an object store. Names are
/// relative, of lower-case letters, digits, '.', '-' and '/'. Errors are <see cref="PlaceException"/>.
/// </summary>
public interface IPlace
{
    /// <summary>The place as people know it, for messages.</summary>
    string Name { get; }

    /// <summary>All files below a folder; empty when the folder does not exist.</summary>
    IEnumerable<PlaceFile> List(string folder);

    bool Exists(string name);

    /// <summary>A whole small file.</summary>
    byte[] Read(string name);

    /// <summary>Fills the buffer from an offset; returns the bytes read, fewer only at the end of the file.</summary>
    int ReadAt(string name, long offset, Span<byte> buffer);

    /// <summary>Makes a new file, complete and durable under its name or not at all. An existing file of the name is replaced.</summary>
    void Write(string name, ReadOnlySpan<byte> content);

    /// <summary>Renames durably; the target's folder is made when missing.</summary>
    void Move(string from, string to);

    /// <summary>Removes a file; one that is already gone is no error.</summary>
    void Delete(string name);

    /// <summary>Removes what an interrupted <see cref="Write"/> left behind.</summary>
    void RemoveRemnants();

    /// <summary>Bytes that can still be written, or null when the place cannot tell.</summary>
    long? FreeBytes();

    /// <summary>Keeps other writers out until disposed; throws with <see cref="PlaceFault.InUse"/> when one is already in.</summary>
    IDisposable Claim();
}

/// <summary>What went wrong at a place.</summary>
public enum PlaceFault { Unreachable, Full, AccessRefused, InUse, NotFound, Other }

/// <summary>An operation at a place failed.</summary>
public sealed class PlaceException(PlaceFault fault, string message, Exception? inner = null) : IOException(message, inner)
{
    public PlaceFault Fault { get; } = fault;
}
