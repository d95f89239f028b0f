namespace IronKeep.Stores.Posix;

/// <summary>What a file system entry is.</summary>
public enum EntryKind : byte
{
    File = 1,
    Folder = 2,
    Symlink = 3,
    Fifo = 4,
    Socket = 5,
    BlockDevice = 6,
    CharacterDevice = 7,
}

/// <summary>A time of a file: seconds since 1970 (negative before) and nanoseconds, as the file system keeps it.</summary>
public readonly record struct FileTime(long Seconds, uint Nanoseconds)
{
    public static FileTime Of(DateTimeOffset time) =>
        new(time.ToUnixTimeSeconds(), (uint)(time.UtcTicks % TimeSpan.TicksPerSecond * TimeSpan.NanosecondsPerTick));

    public DateTimeOffset ToDateTimeOffset() =>
        DateTimeOffset.FromUnixTimeSeconds(Math.Clamp(Seconds, -62135596800, 253402300799)).AddTicks(Nanoseconds / 100);
}

/// <summary>
/// The attributes of one entry. <paramref name="Mode"/> holds the twelve permission bits only; <paramref name="Blocks"/> counts 512
/// bytes each; <paramref name="Node"/> is the number of a device node, major in the upper half.
/// </summary>
public readonly record struct FileFacts(
    EntryKind Kind,
    uint Mode,
    uint User,
    uint Group,
    long Size,
    long Blocks,
    ulong Inode,
    ulong Device,
    ulong Node,
    uint Links,
    FileTime Modified,
    FileTime Changed
);

/// <summary>A named attribute beside the fixed ones: extended attributes, and with them access control lists.</summary>
public sealed record NamedAttribute(byte[] Name, byte[] Value);

/// <summary>A stretch of a file that holds data, in bytes; between two of them lies a hole.</summary>
public readonly record struct Extent(long Offset, long Length);
