using System.Collections.Concurrent;
using Renci.SshNet;
using Renci.SshNet.Common;

namespace IronKeep.Stores.Places;

/// <summary>
/// A place in a folder of an SSH server. What a dropped connection interrupts is tried again on a new one, a file that is being
/// written goes on where it was. The server decides when bytes are on its disk: the protocol has no sync of its own.
/// </summary>
public sealed class SftpPlace(SftpAddress address, TimeSpan? patience = null) : IPlace, IDisposable
{
    private const string WorkFolder = "work";
    private readonly SftpLine line = new(address, patience);
    private readonly ConcurrentDictionary<string, byte> folders = new();

    public string Name => address.ToString();

    // The protocol's own rename refuses a name that is taken. Whether the server tells its room shows when it is asked.
    public PlaceAbilities Can { get; } =
        new()
        {
            Renames = true,
            PutsIfAbsent = true,
            TellsRoom = true,
        };

    public IReadOnlyList<PlaceFile> List(string folder) =>
        Do(
            client =>
            {
                var files = new List<PlaceFile>();
                var open = new Stack<string>([folder]);
                while (open.TryPop(out var at))
                {
                    if (!client.Exists(Full(at)))
                    {
                        NeedRoot(client);
                        continue;
                    }
                    foreach (var entry in client.ListDirectory(Full(at)))
                    {
                        if (entry.Name is "." or "..")
                            continue;
                        var name = at.Length == 0 ? entry.Name : $"{at}/{entry.Name}";
                        if (entry.IsDirectory)
                            open.Push(name);
                        else if (entry.IsRegularFile)
                            files.Add(new PlaceFile(name, entry.Length));
                    }
                }
                return files;
            },
            folder
        );

    public bool Exists(string name) => Do(client => client.Exists(Full(name)), name);

    public byte[] Read(string name) =>
        Do(
            client =>
            {
                using var file = client.OpenRead(Full(name));
                if (file.Length > Place.MostSmall)
                    throw new PlaceException(
                        PlaceFault.Other,
                        $"{Name}, file {name}: it has {file.Length} bytes, which nothing of its kind has"
                    );
                var bytes = new byte[file.Length];
                return bytes[..file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false)];
            },
            name
        );

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        var bytes = new byte[buffer.Length];
        var read = Do(
            client =>
            {
                using var file = client.OpenRead(Full(name));
                if (offset >= file.Length)
                    return 0;
                file.Position = offset;
                return file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
            },
            name
        );
        bytes.AsSpan(0, read).CopyTo(buffer);
        return read;
    }

    public IPlaceWriter Create(long expected)
    {
        var working = $"{WorkFolder}/{Guid.NewGuid():n}.part";
        Do(
            client =>
            {
                NeedFolder(client, WorkFolder);
                client.Create(Full(working)).Dispose();
                return true;
            },
            working
        );
        return new Writer(this, working);
    }

    public void Move(string from, string to) => Rename(from, to, onlyNew: false);

    private bool Rename(string from, string to, bool onlyNew) =>
        Do(
            client =>
            {
                if (to.LastIndexOf('/') is var slash and > 0)
                    NeedFolder(client, to[..slash]);
                else
                    NeedRoot(client);
                // Tried again after a drop: it may have happened already.
                if (!client.Exists(Full(from)) && client.Exists(Full(to)))
                    return true;
                try
                {
                    client.RenameFile(Full(from), Full(to), isPosix: !onlyNew);
                    return true;
                }
                catch (SshException) when (onlyNew && client.IsConnected && client.Exists(Full(to)))
                {
                    return false;
                }
            },
            from
        );

    public void Delete(string name, bool durable = true) =>
        Do(
            client =>
            {
                NeedRoot(client);
                if (client.Exists(Full(name)))
                    client.DeleteFile(Full(name));
                return true;
            },
            name
        );

    public void RemoveRemnants(TimeSpan idle) =>
        Do(
            client =>
            {
                NeedRoot(client);
                // A link in the folder's place leads to files that are not the store's.
                if (!client.ListDirectory(address.Folder).Any(e => e.Name == WorkFolder && e.IsDirectory))
                    return true;
                foreach (
                    var file in client
                        .ListDirectory(Full(WorkFolder))
                        .Where(f => f.Name.EndsWith(".part", StringComparison.Ordinal) && f.LastWriteTimeUtc + idle <= DateTime.UtcNow)
                )
                    client.DeleteFile(file.FullName);
                return true;
            },
            WorkFolder
        );

    public long? FreeBytes() => Room(client => client.GetStatus(address.Folder) is var room ? room.AvailableBlocks * room.BlockSize : 0);

    public long? TotalBytes() => Room(client => client.GetStatus(address.Folder) is var room ? room.TotalBlocks * room.BlockSize : 0);

    private long? Room(Func<SftpClient, ulong> of) =>
        Do(
            client =>
            {
                try
                {
                    return (long?)of(client);
                }
                catch (Exception e) when (e is NotSupportedException or SshException and not SshConnectionException)
                {
                    return null;
                }
            },
            ""
        );

    public void Dispose() => line.Dispose();

    private string Full(string name) => name.Length == 0 ? address.Folder : $"{address.Folder.TrimEnd('/')}/{name}";

    private void NeedRoot(SftpClient client)
    {
        if (!client.Exists(address.Folder))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"the store's folder {Name} is not there; make it on the server, or restore its path"
            );
    }

    private void NeedFolder(SftpClient client, string folder)
    {
        if (folders.ContainsKey(folder))
            return;
        NeedRoot(client);
        var at = "";
        foreach (var part in folder.Split('/'))
        {
            at = at.Length == 0 ? part : $"{at}/{part}";
            try
            {
                if (!client.Exists(Full(at)))
                    client.CreateDirectory(Full(at));
            }
            catch (SshException) when (client.IsConnected && client.Exists(Full(at)))
            {
                // Another was faster.
            }
        }
        folders.TryAdd(folder, 0);
    }

    private T Do<T>(Func<SftpClient, T> action, string name) => line.Do(action, e => Translate(e, name));

    private PlaceException Translate(Exception e, string name)
    {
        var fault = e switch
        {
            SftpPathNotFoundException => PlaceFault.NotFound,
            SftpPermissionDeniedException => PlaceFault.AccessRefused,
            _ => PlaceFault.Other,
        };
        // The protocol has one word for every other failure; a full disk is the one that can be asked for.
        if (fault == PlaceFault.Other && IsFull())
            fault = PlaceFault.Full;
        var cause = fault switch
        {
            PlaceFault.Full => "there is no room left",
            PlaceFault.NotFound => "it is not there",
            PlaceFault.AccessRefused => "access is refused; give the user the right to write there",
            _ => e.Message,
        };
        return new PlaceException(fault, $"{Name}, file {name}: {cause}", e);
    }

    private bool IsFull()
    {
        try
        {
            return FreeBytes() < 1024 * 1024;
        }
        catch (PlaceException)
        {
            return false;
        }
    }

    private sealed class Writer(SftpPlace place, string working) : IPlaceWriter
    {
        private long length;
        private bool finished;

        public void Append(ReadOnlySpan<byte> content)
        {
            var bytes = content.ToArray();
            // At its offset: what a drop left half written is written again.
            place.Do(
                client =>
                {
                    using var file = client.Open(place.Full(working), FileMode.Open, FileAccess.Write);
                    file.Position = length;
                    file.Write(bytes);
                    file.Flush();
                    return true;
                },
                working
            );
            length += bytes.Length;
        }

        public bool Finish(string name, bool onlyNew)
        {
            var there = place.Do(
                client => client.Exists(place.Full(working)) ? client.GetAttributes(place.Full(working)).Size : length,
                working
            );
            if (there != length)
                throw new PlaceException(
                    PlaceFault.Other,
                    $"{place.Name}, file {name}: the server has {there} bytes of {length}; run again"
                );
            return finished = place.Rename(working, name, onlyNew);
        }

        public void Dispose()
        {
            if (finished)
                return;
            try
            {
                place.Delete(working);
            }
            catch (PlaceException)
            {
                // It goes as a remnant.
            }
        }
    }
}
