namespace IronKeep.Stores.Posix;

/// <summary>Whatever the service makes is for its own user alone; what is open to others is tightened, or refused, and said.</summary>
public static class OwnFiles
{
    public const UnixFileMode Folder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const UnixFileMode Others = UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute;
    private const UnixFileMode Group = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.GroupExecute;

    /// <summary>From here on files are made for their owner alone, by this process and those that it starts.</summary>
    public static void Tighten() => _ = Native.SetUmask(0b000_111_111);

    /// <summary>Takes the rights of others from a folder that was there already; what was open, in words, or null.</summary>
    public static string? TightenFolder(string folder)
    {
        var mode = File.GetUnixFileMode(folder);
        if ((mode & (Others | Group)) == 0)
            return null;
        File.SetUnixFileMode(folder, mode & ~(Others | Group));
        return $"the folder {folder} was open to others (mode {Convert.ToString((int)mode, 8)}) and is for the service alone now";
    }

    /// <summary>Whether nobody but root and the user of this process can change an entry.</summary>
    public static bool IsOurs(FileFacts entry) =>
        (entry.User == 0 || entry.User == Native.EffectiveUser()) && (entry.Mode & 0b000_010_010) == 0;

    /// <summary>Who beside its owner may read a file, in words; null when nobody.</summary>
    public static string? WhoElseReads(string file)
    {
        var mode = File.GetUnixFileMode(file);
        return (mode & Others) != 0 ? "everybody on the machine"
            : (mode & (UnixFileMode.GroupRead | UnixFileMode.GroupWrite)) != 0 ? "its group"
            : null;
    }
}
