using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>
/// What is remembered of a file of a store of dated files, by its path below the store's folder. Size in bytes, the time of its last change
/// in nanoseconds since 1970, <paramref name="Since"/> (UTC) when it was first seen so.
/// </summary>
public sealed record FileMark(string Path, long Size, long Modified, DateTimeOffset Since)
{
    /// <summary>Whether it was settled once, and so is a copy.</summary>
    public bool IsCopy { get; init; }

    /// <summary>Whether it changed after it was a copy, and nobody has been told yet.</summary>
    public bool Changed { get; init; }

    /// <summary>
    /// The SHA-256 of its bytes in hexadecimal, and since when it is known (1970 where a file beside it said so); null: never read.
    /// </summary>
    public string? Sum { get; init; }
    public DateTimeOffset? SumAt { get; init; }

    /// <summary>What was wrong with its bytes when they were last read; null: nothing.</summary>
    public string? Problem { get; init; }

    /// <summary>Of a file in the bin: since when; null: somebody else put it there.</summary>
    public DateTimeOffset? Binned { get; init; }

    public bool Is(FileFacts facts) => Size == facts.Size && Modified == Nanoseconds(facts.Modified);

    public static long Nanoseconds(FileTime time) =>
        Math.Clamp(time.Seconds, -9_000_000_000, 9_000_000_000) * 1_000_000_000 + time.Nanoseconds;
}

/// <summary>
/// Where marks are kept. Several services may look over one folder: each keeps the marks as of a version, and one that saves marks of an
/// older version is refused.
/// </summary>
public interface IFileMemory
{
    /// <summary>The marks with their version, or null for them when there are none newer than the version that is named.</summary>
    (long Version, IReadOnlyList<FileMark>? Marks) Load(long known);

    /// <summary>
    /// Keeps and forgets marks, durably; the new version, or null when somebody else has saved since that version, and nothing was kept.
    /// </summary>
    long? Save(long version, IReadOnlyCollection<FileMark> kept, IReadOnlyCollection<string> forgotten);
}
