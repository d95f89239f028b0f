using System.Collections.Concurrent;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Places;

/// <summary>A place in a folder of a local or mounted file system. The folder itself is never made here: a missing one means a missing mount.</summary>
public sealed class FolderPlace(string root) : IPlace
{
    private const string WorkFolder = "work";
    private static readonly ConcurrentDictionary<string, byte> Claimed = new();

    public string Name => root;

    public IEnumerable<PlaceFile> List(string folder)
    {
        NeedRoot();
        var start = Full(folder);
        if (!Directory.Exists(start)) return [];
        return Guard(() => new DirectoryInfo(start)
            .EnumerateFiles("*", new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = FileAttributes.ReparsePoint, IgnoreInaccessible = false })
            .Select(f => new PlaceFile(Path.GetRelativePath(root, f.FullName), f.Length))
            .ToList(), folder);
    }

    public bool Exists(string name) => File.Exists(Full(name));

    public byte[] Read(string name) => Guard(() => File.ReadAllBytes(Full(name)), name);

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        try
        {
            using var file = File.OpenHandle(Full(name));
            var total = 0;
            while (total < buffer.Length)
            {
                var read = RandomAccess.Read(file, buffer[total..], offset + total);
                if (read == 0) break;
                total += read;
            }
            return total;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Translate(e, name);
        }
    }

    public void Write(string name, ReadOnlySpan<byte> content)
    {
        NeedRoot();
        var working = Full($"{WorkFolder}/{Guid.NewGuid():n}.part");
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(working)!);
            using (var file = File.OpenHandle(working, FileMode.CreateNew, FileAccess.Write, FileShare.None))
            {
                RandomAccess.Write(file, content, 0);
                RandomAccess.FlushToDisk(file);
            }
            Publish(working, Full(name));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            try { File.Delete(working); } catch (IOException) { } catch (UnauthorizedAccessException) { }
            throw Translate(e, name);
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

    public void Delete(string name)
    {
        NeedRoot();
        Guard(() =>
        {
            var path = Full(name);
            if (!File.Exists(path)) return true;
            File.Delete(path);
            SyncFolder(Path.GetDirectoryName(path)!);
            return true;
        }, name);
    }

    public void RemoveRemnants()
    {
        var work = Full(WorkFolder);
        if (!Directory.Exists(work)) return;
        foreach (var part in Directory.EnumerateFiles(work, "*.part")) Guard(() => { File.Delete(part); return true; }, part);
    }

    public long? FreeBytes() => Guard(() => new DriveInfo(root).AvailableFreeSpace, "");

    public IDisposable Claim()
    {
        NeedRoot();
        var path = Full($"{WorkFolder}/writer");
        // The kernel's lock belongs to the process and ends with it; within the process the set tells.
        if (!Claimed.TryAdd(path, 0)) throw InUse();
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            var file = new FileStream(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            return new PlaceClaim(file, () => Claimed.TryRemove(path, out _));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Claimed.TryRemove(path, out _);
            if (e is IOException && e.HResult == 11) throw InUse();
            throw Translate(e, path);
        }
    }

    private PlaceException InUse() =>
        new(PlaceFault.InUse, $"the store at {root} is in use by another writer; stop the other service, or wait until its work is done");

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

    private sealed class PlaceClaim(FileStream file, Action release) : IDisposable
    {
        public void Dispose()
        {
            file.Dispose();
            release();
        }
    }
}
