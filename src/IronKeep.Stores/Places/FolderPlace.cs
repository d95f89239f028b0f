using System.Text;
using IronKeep.Stores.Posix;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Places;

/// <summary>A place in a folder of a local or mounted file system. The folder itself is never made here: a missing one means a missing mount.</summary>
public sealed class FolderPlace(string root) : IPlace
{
    private const string WorkFolder = "work";
    private const long WorthPreallocating = 1024 * 1024;

    public string Name => root;

    public IReadOnlyList<PlaceFile> List(string folder)
    {
        NeedRoot();
        var start = Full(folder);
        if (!Directory.Exists(start)) return [];
        return Guard(() =>
        {
            var files = new List<PlaceFile>();
            using var opened = OpenFolder.AtPath(start);
            List(opened, folder, files);
            return files;
        }, folder);
    }

    /// <summary>Links are left out. What others remove meanwhile is not there.</summary>
    private static void List(OpenFolder folder, string name, List<PlaceFile> files)
    {
        var names = folder.List();
        for (var i = 0; i < names.Count; i++)
        {
            if (!folder.FactsOfTerminated(names.Terminated(i), out var facts)) continue;
            var inside = Encoding.UTF8.GetString(names[i]);
            var full = name.Length == 0 ? inside : $"{name}/{inside}";
            if (facts.Kind == EntryKind.File) files.Add(new PlaceFile(full, facts.Size));
            if (facts.Kind != EntryKind.Folder) continue;
            try
            {
                using var below = folder.Enter(names[i]);
                List(below, full, files);
            }
            catch (PosixException e) when (e.NotFound)
            {
            }
        }
    }

    public bool Exists(string name) => File.Exists(Full(name));

    public byte[] Read(string name) => Guard(() => new FileInfo(Full(name)) is { Exists: true, Length: > Place.MostSmall } large
        ? throw new PlaceException(PlaceFault.Other, $"store folder {root}, file {name}: it has {large.Length} bytes, which nothing of its kind has")
        : File.ReadAllBytes(Full(name)), name);

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        try
        {
            using var file = OpenFolder.OpenFileAt(Full(name));
            return file.Read(buffer, offset);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Translate(e, name);
        }
    }

    public IPlaceWriter Create(long expected)
    {
        NeedRoot();
        var working = Full($"{WorkFolder}/{ProcessMark.Own}-{Guid.NewGuid():n}.part");
        return Guard(() =>
        {
            Directory.CreateDirectory(Path.GetDirectoryName(working)!);
            return new Writer(this, working, Open(expected >= WorthPreallocating ? expected : 0), expected >= WorthPreallocating);
        }, working);

        // Large files get their room at once: that is twice as fast as growing. Where there is not so much, a smaller file may still fit.
        SafeFileHandle Open(long room)
        {
            try
            {
                return File.OpenHandle(working, FileMode.CreateNew, FileAccess.Write, FileShare.None, preallocationSize: room);
            }
            catch (IOException) when (room > 0)
            {
                File.Delete(working);
                return File.OpenHandle(working, FileMode.CreateNew, FileAccess.Write, FileShare.None);
            }
        }
    }

    public void Move(string from, string to)
    {
        NeedRoot();
        Guard(() =>
        {
            Publish(Full(from), Full(to));
            SyncFolder(Path.GetDirectoryName(Full(from))!);
            return true;
        }, from);
    }

    public void Delete(string name, bool durable = true)
    {
        NeedRoot();
        Guard(() =>
        {
            var path = Full(name);
            if (!File.Exists(path)) return true;
            File.Delete(path);
            if (durable) SyncFolder(Path.GetDirectoryName(path)!);
            return true;
        }, name);
    }

    public void RemoveRemnants(TimeSpan idle)
    {
        var work = Full(WorkFolder);
        if (!Directory.Exists(work)) return;
        foreach (var part in Directory.EnumerateFiles(work, "*.part"))
        {
            if (File.GetLastWriteTimeUtc(part) + idle <= DateTime.UtcNow || ProcessMark.IsDead(Path.GetFileName(part))) Guard(() => { File.Delete(part); return true; }, part);
        }
    }

    public long? FreeBytes() => Guard(() => new DriveInfo(root).AvailableFreeSpace, "");

    private string Full(string name) => Path.Combine(root, name);

    private void NeedRoot()
    {
        if (!Directory.Exists(root))
            throw new PlaceException(PlaceFault.Unreachable, $"the store's folder {root} is not there; mount it or restore its path");
    }

    private static void Publish(string from, string to)
    {
        var folder = Path.GetDirectoryName(to)!;
        if (!Directory.Exists(folder))
        {
            Directory.CreateDirectory(folder);
            SyncFolder(Path.GetDirectoryName(folder)!);
        }
        File.Move(from, to, overwrite: true);
        SyncFolder(folder);
    }

    private static void SyncFolder(string path)
    {
        using var folder = OpenFolder.AtPath(path);
        folder.Flush();
    }

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
        if (e is PlaceException already) return already;
        if (!Directory.Exists(root)) return new PlaceException(PlaceFault.Unreachable, $"the store's folder {root} is not there; mount it or restore its path", e);
        var fault = e switch
        {
            UnauthorizedAccessException => PlaceFault.AccessRefused,
            PosixException { AccessDenied: true } => PlaceFault.AccessRefused,
            PosixException { NoSpace: true } => PlaceFault.Full,
            FileNotFoundException or DirectoryNotFoundException or PosixException { NotFound: true } => PlaceFault.NotFound,
            // The runtime puts errno into HResult for what it does not know: 28 no space, 122 quota, 27 file too large.
            _ when e.HResult is 28 or 122 or unchecked((int)0x80070070) => PlaceFault.Full,
            _ when e.HResult is 30 => PlaceFault.AccessRefused,
            _ => PlaceFault.Other,
        };
        var cause = fault switch
        {
            PlaceFault.Full => "there is no room left",
            PlaceFault.AccessRefused => "access is refused; give the service the right to write there",
            PlaceFault.NotFound => "it is not there",
            _ => e.Message,
        };
        return new PlaceException(fault, $"store folder {root}, file {name}: {cause}", e);
    }

    private sealed class Writer(FolderPlace place, string working, SafeFileHandle file, bool cut) : IPlaceWriter
    {
        private long length;
        private bool finished;

        public void Append(ReadOnlySpan<byte> content)
        {
            try
            {
                RandomAccess.Write(file, content, length);
                // The disk begins now, so that little is left to wait for at the end. Where that is not possible, the end waits.
                if (content.Length >= WorthPreallocating) _ = Native.SyncRange(file, length, content.Length, Native.SyncBegin);
                length += content.Length;
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw place.Translate(e, working);
            }
        }

        public void Finish(string name)
        {
            place.NeedRoot();
            place.Guard(() =>
            {
                if (cut) RandomAccess.SetLength(file, length);
                RandomAccess.FlushToDisk(file);
                file.Dispose();
                Publish(working, place.Full(name));
                return finished = true;
            }, name);
        }

        public void Dispose()
        {
            file.Dispose();
            if (finished) return;
            try { File.Delete(working); } catch (IOException) { } catch (UnauthorizedAccessException) { }
        }
    }
}
