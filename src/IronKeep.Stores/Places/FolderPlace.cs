using System.Text;
using IronKeep.Stores.Posix;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Places;

/// <summary>
/// A place in a folder of a local or mounted file system. The folder itself is never made here: a missing one means a missing mount.
/// Whoever can write there can put anything in it, so everything is reached from the opened folder, no link below it is ever followed, and
/// only regular files are read. What is made is for its owner alone.
/// </summary>
public sealed class FolderPlace(string root) : IPlace
{
    private const string WorkFolder = "work";
    private const string PartEnding = ".part";
    private const long WorthPreallocating = 1024 * 1024;

    // A store is three folders deep and has thousands of files; what is far beyond is none.
    private const int Deepest = 8;
    private const int MostFiles = 5_000_000;

    public string Name => root;
    public PlaceAbilities Can { get; } =
        new()
        {
            Renames = true,
            PutsIfAbsent = true,
            TellsRoom = true,
        };

    public IReadOnlyList<PlaceFile> List(string folder) =>
        Guard(
            () =>
            {
                var files = new List<PlaceFile>();
                var open = new Stack<(string Name, int Depth)>([(folder, 0)]);
                using var top = OpenRoot();
                while (open.TryPop(out var at))
                {
                    try
                    {
                        using var opened = at.Name.Length == 0 ? OpenRoot() : top.Below(at.Name);
                        ListOne(opened, at.Name, at.Depth, files, open);
                    }
                    catch (PosixException e) when (e.Error == PosixException.Missing)
                    {
                        // What others remove meanwhile is not there.
                    }
                }
                return files;
            },
            folder
        );

    private void ListOne(OpenFolder folder, string name, int depth, List<PlaceFile> files, Stack<(string, int)> open)
    {
        var names = folder.List();
        for (var i = 0; i < names.Count; i++)
        {
            if (!folder.FactsOfTerminated(names.Terminated(i), out var facts))
                continue;
            var inside = Encoding.UTF8.GetString(names[i]);
            var full = name.Length == 0 ? inside : $"{name}/{inside}";
            if (facts.Kind == EntryKind.File)
                files.Add(new PlaceFile(full, facts.Size));
            if (facts.Kind == EntryKind.Folder && depth < Deepest)
                open.Push((full, depth + 1));
        }
        if (files.Count > MostFiles)
            throw new PlaceException(
                PlaceFault.Other,
                $"store folder {root} has more than {MostFiles} files, which no store has; look what else is in it"
            );
    }

    public bool Exists(string name) =>
        Guard(
            () =>
            {
                try
                {
                    using var top = OpenRoot();
                    var (folder, file) = Split(name);
                    using var opened = folder.Length == 0 ? null : top.Below(folder);
                    return (opened ?? top).Facts(Encoding.UTF8.GetBytes(file)) is { Kind: EntryKind.File };
                }
                catch (Exception e) when (e is PosixException { NotFound: true } or PlaceException { Fault: PlaceFault.Unreachable })
                {
                    return false;
                }
            },
            name
        );

    public byte[] Read(string name) =>
        Guard(
            () =>
            {
                using var file = OpenToRead(name, out var size);
                if (size > Place.MostSmall)
                    throw new PlaceException(
                        PlaceFault.Other,
                        $"store folder {root}, file {name}: it has {size} bytes, which nothing of its kind has"
                    );
                var bytes = new byte[size];
                return bytes[..file.Read(bytes, 0)];
            },
            name
        );

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        try
        {
            using var file = OpenToRead(name, out _);
            return file.Read(buffer, offset);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Translate(e, name);
        }
    }

    public IPlaceWriter Create(long expected)
    {
        var name = $"{ProcessMark.Own}-{Guid.NewGuid():n}{PartEnding}";
        return Guard(
            () =>
            {
                using var top = OpenRoot();
                var work = Made(top, WorkFolder);
                try
                {
                    var file = work.NewFile(Encoding.UTF8.GetBytes(name));
                    // Large files get their room at once: that is twice as fast as growing. Where there is not so much, a smaller file may
                    // still fit.
                    var cut = expected >= WorthPreallocating && Native.Allocate(file, 0, 0, expected) == 0;
                    return new Writer(this, work, name, file, cut);
                }
                catch
                {
                    work.Dispose();
                    throw;
                }
            },
            $"{WorkFolder}/{name}"
        );
    }

    public void Move(string from, string to) =>
        Guard(
            () =>
            {
                using var top = OpenRoot();
                var (folder, file) = Split(from);
                using var opened = folder.Length == 0 ? null : top.Below(folder);
                Guard(() => Publish(top, opened ?? top, file, to), to);
                (opened ?? top).Flush();
                return true;
            },
            from
        );

    public void Delete(string name, bool durable = true) =>
        Guard(
            () =>
            {
                try
                {
                    using var top = OpenRoot();
                    var (folder, file) = Split(name);
                    using var opened = folder.Length == 0 ? null : top.Below(folder);
                    var at = opened ?? top;
                    if (at.Facts(Encoding.UTF8.GetBytes(file)) is null)
                        return true;
                    at.Remove(Encoding.UTF8.GetBytes(file));
                    if (durable)
                        at.Flush();
                }
                catch (PosixException e) when (e.Error == PosixException.Missing)
                {
                    // Gone already.
                }
                return true;
            },
            name
        );

    public void RemoveRemnants(TimeSpan idle) =>
        Guard(
            () =>
            {
                try
                {
                    using var top = OpenRoot();
                    using var work = top.Below(WorkFolder);
                    var names = work.List();
                    for (var i = 0; i < names.Count; i++)
                    {
                        var name = Encoding.UTF8.GetString(names[i]);
                        if (
                            !name.EndsWith(PartEnding, StringComparison.Ordinal)
                            || work.Facts(names[i]) is not { Kind: EntryKind.File } facts
                        )
                            continue;
                        if (facts.Modified.ToDateTimeOffset() + idle <= DateTimeOffset.UtcNow || ProcessMark.IsDead(name))
                            work.Remove(names[i]);
                    }
                }
                catch (PosixException e) when (e.Error == PosixException.Missing)
                {
                    // Nobody has written yet.
                }
                return true;
            },
            WorkFolder
        );

    public long? FreeBytes() => Guard(() => new DriveInfo(root).AvailableFreeSpace, "");

    public long? TotalBytes() => Guard(() => new DriveInfo(root).TotalSize, "");

    private OpenFolder OpenRoot()
    {
        try
        {
            return OpenFolder.AtPath(root);
        }
        catch (PosixException e) when (e.NotFound)
        {
            throw NotThere(e);
        }
    }

    private PlaceException NotThere(Exception? inner) =>
        new(PlaceFault.Unreachable, $"the store's folder {root} is not there; mount it or restore its path", inner);

    private OpenFile OpenToRead(string name, out long size)
    {
        using var top = OpenRoot();
        var file = top.FileBelow(name);
        try
        {
            var facts = file.Facts();
            if (facts.Kind != EntryKind.File)
                throw new PlaceException(
                    PlaceFault.Other,
                    $"store folder {root}, file {name}: it is not a regular file; somebody put it there, so look who can write to the store"
                );
            size = facts.Size;
            return file;
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>Opens the folders of a relative path one in the other, and makes those that are missing, durably.</summary>
    private static OpenFolder Made(OpenFolder top, string path)
    {
        OpenFolder? at = null;
        foreach (var part in path.Split('/'))
        {
            var (above, name) = (at ?? top, Encoding.UTF8.GetBytes(part));
            try
            {
                try
                {
                    at = above.Enter(name);
                }
                catch (PosixException e) when (e.NotFound)
                {
                    try
                    {
                        above.MakeFolder(name);
                        above.Flush();
                    }
                    catch (PosixException exists) when (exists.Exists)
                    {
                        // Another was faster.
                    }
                    at = above.Enter(name);
                }
            }
            finally
            {
                if (above != top)
                    above.Dispose();
            }
        }
        return at!;
    }

    private static bool Publish(OpenFolder top, OpenFolder from, string name, string to, bool onlyNew = false)
    {
        var (folder, file) = Split(to);
        using var made = folder.Length == 0 ? null : Made(top, folder);
        try
        {
            from.RenameTo(made ?? top, Encoding.UTF8.GetBytes(name), Encoding.UTF8.GetBytes(file), replace: !onlyNew);
        }
        catch (PosixException e) when (onlyNew && e.Exists)
        {
            return false;
        }
        (made ?? top).Flush();
        return true;
    }

    private static (string Folder, string File) Split(string name) =>
        name.LastIndexOf('/') is var at and >= 0 ? (name[..at], name[(at + 1)..]) : ("", name);

    private T Guard<T>(Func<T> action, string name)
    {
        try
        {
            return action();
        }
        catch (Exception e) when (e is IOException and not PlaceException or UnauthorizedAccessException)
        {
            throw Translate(e, name);
        }
    }

    private PlaceException Translate(Exception e, string name)
    {
        if (e is PlaceException already)
            return already;
        const int readOnly = 30,
            linkInTheWay = 40,
            notAFolder = 20;
        if (e is not (UnauthorizedAccessException or PosixException { AccessDenied: true }) && !Directory.Exists(root))
            return NotThere(e);
        var fault = e switch
        {
            UnauthorizedAccessException => PlaceFault.AccessRefused,
            PosixException { AccessDenied: true } or PosixException { Error: readOnly } => PlaceFault.AccessRefused,
            PosixException { NoSpace: true } => PlaceFault.Full,
            PosixException { Error: notAFolder } => PlaceFault.Other,
            FileNotFoundException or DirectoryNotFoundException or PosixException { NotFound: true } => PlaceFault.NotFound,
            // The runtime puts errno into HResult for what it does not know: 28 no space, 122 quota, 27 file too large.
            _ when e.HResult is 28 or 122 or unchecked((int)0x80070070) => PlaceFault.Full,
            _ when e.HResult is readOnly => PlaceFault.AccessRefused,
            _ => PlaceFault.Other,
        };
        var cause = fault switch
        {
            PlaceFault.Full => "there is no room left",
            PlaceFault.AccessRefused when e is PosixException { Error: readOnly } => "the file system is read-only; mount it for writing",
            PlaceFault.AccessRefused => "access is refused; give the service the right to write there",
            PlaceFault.NotFound => "it is not there",
            _ when e is PosixException { Error: linkInTheWay or notAFolder } =>
                "a symbolic link or a file stands where a folder or a file of the store belongs; nothing is done through it. Look who can "
                    + "write to the store, and remove it",
            _ => e.Message,
        };
        return new PlaceException(fault, $"store folder {root}, file {name}: {cause}", e);
    }

    private sealed class Writer(FolderPlace place, OpenFolder work, string working, SafeFileHandle file, bool cut) : IPlaceWriter
    {
        private long length;
        private bool finished;

        public void Append(ReadOnlySpan<byte> content)
        {
            try
            {
                RandomAccess.Write(file, content, length);
                // The disk begins now, so that little is left to wait for at the end. Where that is not possible, the end waits.
                if (content.Length >= WorthPreallocating)
                    _ = Native.SyncRange(file, length, content.Length, Native.SyncBegin);
                length += content.Length;
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw place.Translate(e, $"{WorkFolder}/{working}");
            }
        }

        public bool Finish(string name, bool onlyNew) =>
            place.Guard(
                () =>
                {
                    if (cut)
                        RandomAccess.SetLength(file, length);
                    RandomAccess.FlushToDisk(file);
                    file.Dispose();
                    using var top = place.OpenRoot();
                    return finished = Publish(top, work, working, name, onlyNew);
                },
                name
            );

        public void Dispose()
        {
            file.Dispose();
            try
            {
                if (!finished)
                    work.Remove(Encoding.UTF8.GetBytes(working));
            }
            catch (PosixException)
            {
                // It goes as a remnant.
            }
            work.Dispose();
        }
    }
}
