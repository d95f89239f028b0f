namespace IronKeep.Stores.Posix;

/// <summary>
/// A folder that is copied from, open: on this machine (<see cref="OpenFolder"/>), or reached otherwise. No link is followed. Failures are
/// <see cref="PosixException"/>; where the machine itself is out of reach, <see cref="SourceAwayException"/>.
/// </summary>
public interface ISourceFolder : IDisposable
{
    /// <summary>The names in the folder without "." and "..", sorted by their bytes. Once for each opening.</summary>
    NameList List();

    /// <summary>Opens a folder in it.</summary>
    ISourceFolder EnterSource(ReadOnlySpan<byte> name);

    /// <summary>Opens a file in it to read.</summary>
    ISourceFile OpenSource(ReadOnlySpan<byte> name);

    /// <summary>Attributes of the folder itself.</summary>
    FileFacts Facts();

    /// <summary>Attributes of an entry, whose name ends with a zero; false when there is none.</summary>
    bool FactsOfTerminated(ReadOnlySpan<byte> name, out FileFacts facts);

    /// <summary>Named attributes of the folder itself, and of an entry.</summary>
    List<NamedAttribute> Attributes();
    List<NamedAttribute> Attributes(ReadOnlySpan<byte> name);

    /// <summary>Where a link leads, as it says.</summary>
    byte[] ReadLink(ReadOnlySpan<byte> name);
}

/// <summary>A file that is copied from, open to read. Safe for several threads.</summary>
public interface ISourceFile : IDisposable
{
    FileFacts Facts();

    /// <summary>Fills the buffer from an offset on; fewer bytes at the end.</summary>
    int Read(Span<byte> buffer, long offset);

    /// <summary>The stretches that hold data, at most so many; null where that is not known.</summary>
    List<Extent>? Extents(long size, int most);

    List<NamedAttribute> Attributes();
}

/// <summary>The machine that is copied from cannot be reached, or does not let us in; the message says which, and the way out.</summary>
public sealed class SourceAwayException(string message, bool isRefused, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>Whether it answers and lets nobody in.</summary>
    public bool IsRefused => isRefused;
}
