using System.IO.Compression;
using System.IO.Enumeration;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Following;

/// <summary>A file of the folder: its name and its attributes.</summary>
internal sealed record Entry(string Name, FileFacts Facts)
{
    public bool IsCompressed => Name.EndsWith(".gz", StringComparison.Ordinal) || Name.EndsWith(".zst", StringComparison.Ordinal);
}

/// <summary>
/// The folder of a log, held open for a while. Files are opened by name in it, and links are never followed: whoever may write there does
/// not choose what is read.
/// </summary>
internal sealed class FollowedFolder(string path) : IDisposable
{
    private const int MostHead = 256;
    public const int MostTail = 256;
    private static readonly TimeSpan HeldFor = TimeSpan.FromSeconds(10);
    private OpenFolder? folder;
    private long openedAt;

    private OpenFolder Folder
    {
        get
        {
            // Another may have been put in its place.
            if (folder is not null && System.Diagnostics.Stopwatch.GetElapsedTime(openedAt) < HeldFor)
                return folder;
            folder?.Dispose();
            folder = null;
            (folder, openedAt) = (OpenFolder.AtPath(path), System.Diagnostics.Stopwatch.GetTimestamp());
            return folder;
        }
    }

    /// <summary>The attributes of one entry; null when there is none.</summary>
    public FileFacts? Facts(byte[] name) => Folder.Facts(name);

    public FileTime Changed => Folder.Facts().Modified;

    /// <summary>
    /// Everything in it whose name fits or that came of such a file by rotation; links among them, which are never opened.
    /// </summary>
    public List<Entry> List(string pattern)
    {
        var found = new List<Entry>();
        // A folder that is held open is listed once only: the kernel goes on where it was.
        using var fresh = OpenFolder.AtPath(path);
        var names = fresh.List();
        for (var n = 0; n < names.Count; n++)
        {
            var bytes = names[n];
            var name = Encoding.UTF8.GetString(bytes);
            if (
                !IsNamed(name, pattern)
                && !Enumerable.Range(1, name.Length - 1).Any(i => name[i] is '.' or '-' && IsNamed(name[..i], pattern))
            )
                continue;
            if (fresh.Facts(bytes) is { } facts)
                found.Add(new Entry(name, facts));
        }
        return found;
    }

    public static bool IsNamed(string name, string pattern) =>
        FileSystemName.MatchesSimpleExpression(pattern.Replace("\\", "\\\\", StringComparison.Ordinal), name, ignoreCase: false);

    /// <summary>Opens a file to read from an offset of its content; null when it is gone or no file.</summary>
    public Stream? Open(Entry entry, long offset)
    {
        OpenFile file;
        try
        {
            file = Folder.OpenFile(Encoding.UTF8.GetBytes(entry.Name));
        }
        catch (PosixException e) when (e.Error == PosixException.Missing)
        {
            return null;
        }
        if (file.Facts() is not { Kind: EntryKind.File } facts || (facts.Device, facts.Inode) != (entry.Facts.Device, entry.Facts.Inode))
        {
            file.Dispose();
            return null;
        }
        if (!entry.IsCompressed)
            return new Positioned(file, offset);
        var raw = new Positioned(file, 0);
        Stream text = entry.Name.EndsWith(".gz", StringComparison.Ordinal)
            ? new GZipStream(raw, CompressionMode.Decompress)
            : new ZstdSharp.DecompressionStream(raw);
        Skip(text, offset);
        return text;
    }

    private static void Skip(Stream stream, long bytes)
    {
        var buffer = new byte[64 * 1024];
        while (bytes > 0 && stream.Read(buffer, 0, (int)Math.Min(buffer.Length, bytes)) is > 0 and var read)
            bytes -= read;
    }

    /// <summary>The hash of the first bytes of a file's content, and of how many.</summary>
    public (string Head, int Length) HeadOf(Entry entry, int most = MostHead)
    {
        using var stream = Open(entry, 0);
        if (stream is null)
            return ("", 0);
        var bytes = new byte[most];
        var length = stream.ReadAtLeast(bytes, most, throwOnEndOfStream: false);
        return (HashOf(bytes.AsSpan(0, length)), length);
    }

    private string TailOf(Entry entry, long offset)
    {
        var bytes = LastBefore(entry, offset);
        return bytes.Length == Math.Min(MostTail, offset) ? HashOf(bytes) : "?";
    }

    /// <summary>The bytes of a file's content before a place, a few.</summary>
    public byte[] LastBefore(Entry entry, long offset)
    {
        if (offset == 0)
            return [];
        using var stream = Open(entry, Math.Max(0, offset - MostTail));
        if (stream is null)
            return [];
        var bytes = new byte[Math.Min(MostTail, offset)];
        return bytes[..stream.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false)];
    }

    public static string HashOf(ReadOnlySpan<byte> bytes) => Convert.ToHexStringLower(SHA256.HashData(bytes)[..12]);

    /// <summary>
    /// Whether a file holds what was read of another: the same first bytes, and the same before the place up to which it was read.
    /// </summary>
    public bool Holds(Entry entry, FollowedFile file)
    {
        if (entry.Facts.Kind != EntryKind.File || (!entry.IsCompressed && entry.Facts.Size < file.Offset))
            return false;
        try
        {
            return HeadOf(entry, file.HeadLength) == (file.Head, file.HeadLength) && TailOf(entry, file.Offset) == file.Tail;
        }
        catch (Exception e) when (e is InvalidDataException or IOException or ZstdSharp.ZstdException)
        {
            return false;
        }
    }

    public void Dispose() => folder?.Dispose();

    /// <summary>A file's bytes from an offset on, as they are there now.</summary>
    private sealed class Positioned(OpenFile file, long at) : Stream
    {
        public override bool CanRead => true;
        public override bool CanSeek => false;
        public override bool CanWrite => false;
        public override long Length => throw new NotSupportedException();
        public override long Position
        {
            get => at;
            set => throw new NotSupportedException();
        }

        public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

        public override int Read(Span<byte> buffer)
        {
            var read = file.Read(buffer, at);
            at += read;
            return read;
        }

        public override void Flush() { }

        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        protected override void Dispose(bool disposing)
        {
            if (disposing)
                file.Dispose();
            base.Dispose(disposing);
        }
    }
}
