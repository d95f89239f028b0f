namespace IronKeep.Stores.Posix;

/// <summary>A system call failed; carries the error number of errno(3).</summary>
public sealed class PosixException(int error, string what) : IOException($"{what}: {Describe(error)}")
{
    public int Error { get; } = error;

    /// <summary>ENOENT: there is nothing of that name.</summary>
    public const int Missing = 2;

    /// <summary>EEXIST: something has that name already.</summary>
    public const int AlreadyThere = 17;

    public bool NotFound => Error is 2 or 20;
    public bool AccessDenied => Error is 1 or 13;
    public bool Exists => Error == AlreadyThere;
    public bool NoSpace => Error is 28 or 122;

    public bool ReadOnly => Error is 30;
    public bool NotSupported => Error is 95 or 22 or 38;

    private static string Describe(int error) =>
        error switch
        {
            1 => "operation not permitted",
            2 => "no such file or folder",
            5 => "input/output error of the device",
            13 => "permission denied",
            17 => "already exists",
            20 => "not a folder",
            21 => "is a folder",
            22 => "the file system does not take this",
            24 => "too many files are open",
            28 => "no space left on the device",
            30 => "the file system is read-only",
            36 => "the name is too long",
            40 => "is a symbolic link where none is followed",
            61 => "the attribute is not there",
            95 => "the file system does not know this",
            122 => "the disk quota is used up",
            _ => $"error {error}",
        };
}
