namespace IronKeep.Stores.Places;

/// <summary>A file at a place: its name relative to the place, with '/' between folders, and its size in bytes.</summary>
public readonly record struct PlaceFile(string Name, long Size);

/// <summary>What a place can do beside keeping files; a layout asks before it relies on it.</summary>
public sealed record PlaceAbilities
{
    /// <summary>Whether a file can be given another name without being sent again, all at once.</summary>
    public bool Renames { get; init; }

    /// <summary>Whether a file can be made on the condition that there is none of its name, decided by the place.</summary>
    public bool PutsIfAbsent { get; init; }

    /// <summary>Whether it tells how much room is left.</summary>
    public bool TellsRoom { get; init; }
}

/// <summary>
/// Where a store's files lie. The one seam between the store's format and a folder, a server or an object store. Names are
/// relative, of letters of ASCII, digits, '.', '-' and '/'. Safe for several threads. Errors are <see cref="PlaceException"/>. Work that
/// was cancelled (<see cref="PlaceWaits"/>) is not kept waiting: what is under way then ends within <see cref="PlaceWaits.Grace"/> where
/// the place can be let go.
/// </summary>
public interface IPlace
{
    /// <summary>The place as people know it, for messages.</summary>
    string Name { get; }

    PlaceAbilities Can { get; }

    /// <summary>All files below a folder; empty when the folder does not exist.</summary>
    IReadOnlyList<PlaceFile> List(string folder);

    bool Exists(string name);

    /// <summary>A whole small file; one larger than <see cref="Place.MostSmall"/> is refused.</summary>
    byte[] Read(string name);

    /// <summary>Fills the buffer from an offset; returns the bytes read, fewer only at the end of the file.</summary>
    int ReadAt(string name, long offset, Span<byte> buffer);

    /// <summary>
    /// Begins a new file that is written piece by piece; <paramref name="expected"/> is about how long it will be (bytes).
    /// </summary>
    IPlaceWriter Create(long expected);

    /// <summary>Renames durably; the target's folder is made when missing.</summary>
    void Move(string from, string to);

    /// <summary>Removes a file; one that is already gone is no error. One that is not removed durably can be back after a crash.</summary>
    void Delete(string name, bool durable = true);

    /// <summary>
    /// Removes what interrupted writing left behind, if it was not touched for <paramref name="idle"/>, or if its writer is known to be
    /// dead.
    /// </summary>
    void RemoveRemnants(TimeSpan idle);

    /// <summary>Bytes that can still be written, or null when the place cannot tell.</summary>
    long? FreeBytes();

    /// <summary>The size of the whole file system in bytes, or null when the place cannot tell.</summary>
    long? TotalBytes() => null;
}

/// <summary>
/// A file on its way to a place: nothing of it can be seen there until <see cref="Finish"/>; disposing before that gives it up.
/// </summary>
public interface IPlaceWriter : IDisposable
{
    void Append(ReadOnlySpan<byte> content);

    /// <summary>
    /// Makes the file durable and gives it its name; an existing file of that name is replaced, or with <paramref name="onlyNew"/> left
    /// alone, and the answer is false. Only where the place <see cref="PlaceAbilities.PutsIfAbsent"/>.
    /// </summary>
    bool Finish(string name, bool onlyNew = false);
}

/// <summary>What all places share.</summary>
public static class Place
{
    /// <summary>Whole files are read up to this size (bytes); nothing small in a store is larger.</summary>
    public const int MostSmall = 4 * 1024 * 1024;

    /// <summary>
    /// Makes a new small file, complete and durable under its name or not at all. An existing file of the name is replaced.
    /// </summary>
    public static void Write(this IPlace place, string name, ReadOnlySpan<byte> content)
    {
        using var file = place.Create(content.Length);
        file.Append(content);
        file.Finish(name);
    }

    /// <summary>The same for a name that nobody may have taken; false when somebody has.</summary>
    public static bool WriteNew(this IPlace place, string name, ReadOnlySpan<byte> content)
    {
        using var file = place.Create(content.Length);
        file.Append(content);
        return file.Finish(name, onlyNew: true);
    }
}

/// <summary>What went wrong at a place.</summary>
public enum PlaceFault
{
    Unreachable,
    Full,
    AccessRefused,
    InUse,
    NotFound,
    Other,
}

/// <summary>An operation at a place failed.</summary>
public sealed class PlaceException(PlaceFault fault, string message, Exception? inner = null) : IOException(message, inner)
{
    public PlaceFault Fault { get; } = fault;
}
