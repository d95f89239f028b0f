using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Exports;

/// <summary>Writes a copy, or some paths of it, as one file: a pax tar archive, compressed with Zstandard when its name ends in .zst.</summary>
public static class Archive
{
    private const string Zstd = ".zst";
    private const string Part = ".part";

    /// <summary>
    /// Entries written and sockets left out. The file has a passing name until it is whole and durable, because half an archive must
    /// not look like one; a file that is there already is refused with an <see cref="IOException"/>.
    /// </summary>
    public static (long Written, long LeftOut) ToFile(PooledStore store, CopyRecord record, IReadOnlyList<string> paths, string file, Action<long, long>? progress, CancellationToken cancel)
    {
        if (File.Exists(file)) throw new IOException($"{file} exists already; name a new file for the archive");
        var part = file + Part;
        try
        {
            (long, long) done;
            using (var output = new FileStream(part, FileMode.Create, FileAccess.Write))
            {
                done = ToStream(store, record, paths, output, file.EndsWith(Zstd, StringComparison.Ordinal), progress, cancel);
                output.Flush(flushToDisk: true);
            }
            File.Move(part, file);
            return done;
        }
        catch
        {
            File.Delete(part);
            throw;
        }
    }

    /// <summary>The same into a stream, which stays open.</summary>
    public static (long Written, long LeftOut) ToStream(PooledStore store, CopyRecord record, IReadOnlyList<string> paths, Stream output, bool compress, Action<long, long>? progress, CancellationToken cancel)
    {
        // A buffer without an end of its own: disposing of it would close what lies beneath.
        var buffered = new BufferedStream(output, 1024 * 1024);
        (long, long) done;
        if (compress)
        {
            using var into = new ZstdSharp.CompressionStream(buffered, leaveOpen: true);
            done = new PaxTar(into, progress).Write(store, record, paths, cancel);
        }
        else done = new PaxTar(buffered, progress).Write(store, record, paths, cancel);
        buffered.Flush();
        return done;
    }
}
