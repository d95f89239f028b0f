namespace IronKeep.Stores.Posix;

/// <summary>What a file system entry is.</summary>
public enum EntryKind : byte { File = 1, Folder = 2, Symlink = 3, Fifo = 4, Socket = 5, BlockDevice = 6, CharacterDevice = 7 }

/// <summary>A time of a file: seconds since 1970 (negative before) and nanoseconds, as the file system keeps it.</summary>
public readonly record struct FileTime(long Seconds, uint Nanoseconds)
{
    public DateTimeOffset ToDateTimeOffset() => DateTimeOffset.FromUnixTimeSeconds(Math.Clamp(Seconds, -62135596800, 253402300799)).AddTicks(Nanoseconds / 100);
}

/// <summary>The attributes of one entry. <paramref name="Mode"/> holds the twelve permission bits only.</summary>
public readonly record struct FileFacts(
    EntryKind Kind, uint Mode, uint User, uint Group, long Size, ulong Inode, ulong Device, uint Links, FileTime Modified, FileTime Changed);

/// <summary>A system call failed; carries the error number of errno(3).</summary>
public sealed class PosixException(int error, string what) : IOException($"{what}: {Describe(error)}")
{
    public int Error { get; } = error;

    public bool NotFound => Error is 2 or 20;
    public bool AccessDenied => Error is 1 or 13;
    public bool Exists => Error == 17;
    public bool NoSpace => Error is 28 or 122;

    private static string Describe(int error) => error switch
    {
        1 => "operation not permitted",
        2 => "no such file or folder",
        5 => "input/output error of the device",
        13 => "permission denied",
        17 => "already exists",
        20 => "not a folder",
        21 => "is a folder",
        28 => "no space left on the device",
        30 => "the file system is read-only",
        36 => "the name is too long",
        40 => "is a symbolic link where none is followed",
        122 => "the disk quota is used up",
        _ => $"error {error}",
    };
}
