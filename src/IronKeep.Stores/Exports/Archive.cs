using System.Text;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Writes a copy, or some paths of it, as one file: a pax tar archive, compressed with Zstandard when its name ends in .zst.
/// </summary>
public static class Archive
{
    private const string Zstd = ".zst";
    private const string Part = ".part";

    /// <summary>
    /// Entries written and sockets left out. The file has a passing name that nobody can foresee until it is whole and durable, because
    /// half an archive must not look like one, and a link planted in its way must not be followed; a file that is there already, and a
    /// forbidden folder, are refused with an <see cref="IOException"/>. Readable by its owner alone.
    /// </summary>
    public static (long Written, long LeftOut) ToFile(
        ITreeSource store,
        CopyRecord record,
        IReadOnlyList<string> paths,
        string file,
        Action<long, long>? progress,
        CancellationToken cancel,
        ForbiddenFolders? forbidden = null
    )
    {
        var name = Encoding.UTF8.GetBytes(Path.GetFileName(file));
        if (name.Length == 0)
            throw new IOException($"{file} is a folder; name a new file for the archive");
        using var folder = OpenFolder.AtPath(Path.GetDirectoryName(file) is { Length: > 0 } above ? above : ".");
        if (forbidden?.Reason(folder.RealPath()) is { } why)
            throw new IOException($"{file} cannot be written: {why}");
        if (folder.Facts(name) is not null)
            throw new IOException($"{file} exists already; name a new file for the archive");
        var part = Encoding.ASCII.GetBytes($".ironkeep-{Guid.NewGuid():n}{Part}");
        try
        {
            (long, long) done;
            using (var output = new FileStream(folder.NewFile(part), FileAccess.Write))
            {
                done = ToStream(store, record, paths, output, file.EndsWith(Zstd, StringComparison.Ordinal), progress, cancel);
                output.Flush(flushToDisk: true);
            }
            folder.RenameTo(folder, part, name, replace: false);
            folder.Flush();
            return done;
        }
        catch
        {
            folder.Remove(part);
            throw;
        }
    }

    /// <summary>The same into a stream, which stays open.</summary>
    public static (long Written, long LeftOut) ToStream(
        ITreeSource store,
        CopyRecord record,
        IReadOnlyList<string> paths,
        Stream output,
        bool compress,
        Action<long, long>? progress,
        CancellationToken cancel
    )
    {
        // A buffer without an end of its own: disposing of it would close what lies beneath.
        var buffered = new BufferedStream(output, 1024 * 1024);
        (long, long) done;
        if (compress)
        {
            using var into = new ZstdSharp.CompressionStream(buffered, leaveOpen: true);
            done = new PaxTar(into, progress).Write(store, record, paths, cancel);
        }
        else
            done = new PaxTar(buffered, progress).Write(store, record, paths, cancel);
        buffered.Flush();
        return done;
    }
}
