using System.Runtime.CompilerServices;
using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;
using Renci.SshNet;
using Renci.SshNet.Common;
using Renci.SshNet.Sftp;

namespace IronKeep.Stores.Remote;

/// <summary>
/// A machine whose folders are read over SFTP (version 3 of the protocol), with the rights of the user that signs in. What the protocol
/// does not carry is left out: see <see cref="NotCarried"/>. Safe for several threads.
/// </summary>
public sealed class SftpSource(SftpAddress address, TimeSpan? patience = null) : IDisposable
{
    /// <summary>Names are bytes; this takes each byte as one letter, and back.</summary>
    private static readonly Encoding Bytes = Encoding.Latin1;

    /// <summary>A file that was changed so shortly before, or later, may change once more without showing it.</summary>
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(3);
    private readonly SftpLine line = new(address, patience, Bytes);
    private readonly DateTime begun = DateTime.UtcNow;
    private long devices;

    /// <summary>What a copy over SFTP does not hold, in words.</summary>
    public const string NotCarried =
        "read over SFTP, which does not carry extended attributes and access control lists, holes, hard links, device nodes, fractions of "
        + "seconds, or where another file system begins";

    /// <summary>How many device nodes were left out.</summary>
    public long Devices => Interlocked.Read(ref devices);

    public ISourceFolder Top() => new Folder(this, "/");

    public void Dispose() => line.Dispose();

    private T Do<T>(Func<SftpClient, T> action)
    {
        try
        {
            return line.Do(action, Translate);
        }
        catch (PlaceException e)
        {
            throw new SourceAwayException(e.Message, e.Fault == PlaceFault.AccessRefused, e);
        }
    }

    private static PosixException Translate(Exception e) =>
        e switch
        {
            SftpPathNotFoundException => new PosixException(PosixException.Missing, "the server says"),
            SftpPermissionDeniedException => new PosixException(13, "the server says"),
            _ => new PosixException(5, $"the server says '{e.Message}'"),
        };

    private static string Join(string folder, ReadOnlySpan<byte> name) =>
        folder.EndsWith('/') ? folder + Bytes.GetString(name) : $"{folder}/{Bytes.GetString(name)}";

    private FileFacts FactsOf(string path) => Do(client => Read(LStat(Session(client), path)));

    private FileFacts Read(SftpFileAttributes a)
    {
        var kind =
            a.IsDirectory ? EntryKind.Folder
            : a.IsRegularFile ? EntryKind.File
            : a.IsSymbolicLink ? EntryKind.Symlink
            : a.IsNamedPipe ? EntryKind.Fifo
            : a.IsSocket ? EntryKind.Socket
            : a.IsBlockDevice ? EntryKind.BlockDevice
            : EntryKind.CharacterDevice;
        var mode =
            Bit(a.IsUIDBitSet, 11)
            | Bit(a.IsGroupIDBitSet, 10)
            | Bit(a.IsStickyBitSet, 9)
            | Bit(a.OwnerCanRead, 8)
            | Bit(a.OwnerCanWrite, 7)
            | Bit(a.OwnerCanExecute, 6)
            | Bit(a.GroupCanRead, 5)
            | Bit(a.GroupCanWrite, 4)
            | Bit(a.GroupCanExecute, 3)
            | Bit(a.OthersCanRead, 2)
            | Bit(a.OthersCanWrite, 1)
            | Bit(a.OthersCanExecute, 0);
        var modified = FileTime.Of(new DateTimeOffset(DateTime.SpecifyKind(a.LastWriteTimeUtc, DateTimeKind.Utc)));
        // By another time with each source, such a file is read again with the next run.
        var changed = a.LastWriteTimeUtc > begun - Fresh ? FileTime.Of(new DateTimeOffset(begun)) : modified;
        var size = kind is EntryKind.File or EntryKind.Symlink ? Math.Max(0, a.Size) : 0;
        return new FileFacts(
            kind,
            mode,
            unchecked((uint)a.UserId),
            unchecked((uint)a.GroupId),
            size,
            // As many blocks as bytes: no holes are looked for.
            (size + 511) / 512,
            0,
            0,
            0,
            1,
            modified,
            kind == EntryKind.Folder ? modified : changed
        );
    }

    private static uint Bit(bool set, int at) => set ? 1u << at : 0;

    // The library asks for the real path first where it names a file by its path, which follows links. These do not.
    [UnsafeAccessor(UnsafeAccessorKind.Method, Name = "get_SftpSession")]
    [return: UnsafeAccessorType("Renci.SshNet.Sftp.ISftpSession, Renci.SshNet")]
    private static extern object Session(SftpClient client);

    [UnsafeAccessor(UnsafeAccessorKind.Method, Name = "RequestLStat")]
    private static extern SftpFileAttributes LStat(
        [UnsafeAccessorType("Renci.SshNet.Sftp.ISftpSession, Renci.SshNet")] object session,
        string path
    );

    [UnsafeAccessor(UnsafeAccessorKind.Method, Name = "RequestReadLink")]
    private static extern KeyValuePair<string, SftpFileAttributes>[] ReadLink(
        [UnsafeAccessorType("Renci.SshNet.Sftp.SftpSession, Renci.SshNet")] object session,
        string path,
        bool nullOnError
    );

    private sealed class Folder(SftpSource source, string path) : ISourceFolder
    {
        // As listed; where the folder was only passed through, entries are asked for one by one.
        private Dictionary<string, FileFacts>? listed;

        public NameList List()
        {
            var found = source.Do(client => client.ListDirectory(path).Select(e => (e.Name, Facts: source.Read(e.Attributes))).ToList());
            listed = new Dictionary<string, FileFacts>(found.Count, StringComparer.Ordinal);
            foreach (var (name, facts) in found)
            {
                // A name with a slash in it would lead elsewhere, and no folder has one.
                if (name is "." or ".." or "" || name.Contains('/') || name.Contains('\0'))
                    continue;
                if (facts.Kind is EntryKind.BlockDevice or EntryKind.CharacterDevice)
                    Interlocked.Increment(ref source.devices);
                else
                    listed[name] = facts;
            }
            return NameList.Of(listed.Keys.Select(Bytes.GetBytes));
        }

        public ISourceFolder EnterSource(ReadOnlySpan<byte> name)
        {
            var below = Join(path, name);
            return source.FactsOf(below).Kind == EntryKind.Folder
                ? new Folder(source, below)
                : throw new PosixException(20, "cannot be entered");
        }

        public ISourceFile OpenSource(ReadOnlySpan<byte> name) => new OpenedFile(source, Join(path, name));

        public FileFacts Facts() => source.FactsOf(path);

        public bool FactsOfTerminated(ReadOnlySpan<byte> name, out FileFacts facts)
        {
            var plain = name[..^1];
            if (listed is not null)
                return listed.TryGetValue(Bytes.GetString(plain), out facts);
            try
            {
                facts = source.FactsOf(Join(path, plain));
                return true;
            }
            catch (PosixException e) when (e.NotFound)
            {
                facts = default;
                return false;
            }
        }

        public List<NamedAttribute> Attributes() => [];

        public List<NamedAttribute> Attributes(ReadOnlySpan<byte> name) => [];

        public byte[] ReadLink(ReadOnlySpan<byte> name)
        {
            var at = Join(path, name);
            var said = source.Do(client => SftpSource.ReadLink(Session(client), at, false));
            return said is { Length: 1 }
                ? Bytes.GetBytes(said[0].Key)
                : throw new PosixException(5, "the server does not say where it leads");
        }

        public void Dispose() => listed = null;
    }

    /// <summary>
    /// A file open to read. Several may read it at once, each from where it last was: who goes on where another reading ended takes that
    /// one's stream, in which the next bytes are under way already.
    /// </summary>
    private sealed class OpenedFile(SftpSource source, string path) : ISourceFile
    {
        private readonly List<(SftpClient Client, SftpFileStream Stream)> open = [];

        public FileFacts Facts() => source.FactsOf(path);

        public List<Extent>? Extents(long size, int most) => null;

        public List<NamedAttribute> Attributes() => [];

        public int Read(Span<byte> buffer, long offset)
        {
            // What a dropped connection interrupts is read again from its begin.
            var bytes = new byte[buffer.Length];
            var read = source.Do(client =>
            {
                var stream = Take(offset) ?? (Client: client, Stream: client.Open(path, FileMode.Open, FileAccess.Read));
                try
                {
                    if (stream.Stream.Position != offset)
                        stream.Stream.Position = offset;
                    var count = stream.Stream.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
                    lock (open)
                        open.Add(stream);
                    return count;
                }
                catch
                {
                    Close(stream.Stream);
                    throw;
                }
            });
            bytes.AsSpan(0, read).CopyTo(buffer);
            return read;
        }

        private (SftpClient Client, SftpFileStream Stream)? Take(long offset)
        {
            lock (open)
            {
                // Those of connections that are gone are gone with them.
                foreach (var (_, stream) in open.Where(o => !IsAlive(o.Client)))
                    Close(stream);
                open.RemoveAll(o => !IsAlive(o.Client));
                var at = open.FindIndex(o => o.Stream.Position == offset);
                if (at < 0)
                    return null;
                var taken = open[at];
                open.RemoveAt(at);
                return taken;
            }
        }

        private static bool IsAlive(SftpClient client)
        {
            try
            {
                return client.IsConnected;
            }
            catch (ObjectDisposedException)
            {
                return false;
            }
        }

        private static void Close(SftpFileStream stream)
        {
            try
            {
                stream.Dispose();
            }
            catch (Exception e) when (e is SshException or ObjectDisposedException or System.Net.Sockets.SocketException)
            {
                // Its connection is gone, and it with it.
            }
        }

        public void Dispose()
        {
            lock (open)
            {
                foreach (var (_, stream) in open)
                    Close(stream);
                open.Clear();
            }
        }
    }
}
