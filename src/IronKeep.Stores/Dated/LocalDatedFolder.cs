using System.Buffers;
using System.Security.Cryptography;
using System.Text;
using System.Text.Unicode;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>A folder of this machine with dated files in it.</summary>
public sealed class LocalDatedFolder(string folder) : IDatedFolder
{
    private const int Stretch = 1024 * 1024,
        ReadOnly = 30,
        IsLink = 40;

    public string Name => folder;

    public string? WhyNotWritable => RealPaths.WhyNotWritable(folder);

    /// <summary>The numbers of the file system and of the folder itself, which are others when another disk lies there.</summary>
    internal FileFacts Where
    {
        get
        {
            try
            {
                using var at = OpenFolder.AtPath(folder);
                return at.Facts();
            }
            catch (PosixException e)
            {
                throw new PlaceException(
                    PlaceFault.Unreachable,
                    $"the folder {folder} of dated files cannot be looked into: {e.Message}",
                    e
                );
            }
        }
    }

    public IDatedRoot Open()
    {
        try
        {
            return new Root(OpenFolder.AtPath(folder));
        }
        catch (PosixException e)
        {
            throw new PlaceException(
                e.AccessDenied ? PlaceFault.AccessRefused : PlaceFault.Unreachable,
                $"the folder {folder} of dated files cannot be looked into: {e.Message}; mount it, or restore its path or its rights",
                e
            );
        }
    }

    /// <summary>Held open, so that it is one and the same folder whatever is mounted meanwhile.</summary>
    private sealed class Root(OpenFolder root) : IDatedRoot
    {
        public IReadOnlyList<FolderEntry>? List(string path) =>
            Guarded<IReadOnlyList<FolderEntry>?>(() =>
            {
                OpenFolder inner;
                try
                {
                    inner = path.Length == 0 ? root.Below(".") : root.Below(path);
                }
                catch (PosixException e) when (e.NotFound || e.Error == IsLink)
                {
                    return null;
                }
                using (inner)
                {
                    var names = inner.List();
                    var entries = new List<FolderEntry>(names.Count);
                    for (var i = 0; i < names.Count; i++)
                        if (inner.FactsOfTerminated(names.Terminated(i), out var facts))
                            entries.Add(new FolderEntry(Utf8.IsValid(names[i]) ? Encoding.UTF8.GetString(names[i]) : null, facts));
                    return entries;
                }
            });

        public FileFacts? Facts(string path) =>
            Guarded<FileFacts?>(() =>
            {
                try
                {
                    using var folder = Folder(path, make: false);
                    return folder.Facts(NameOf(path));
                }
                catch (PosixException e) when (e.NotFound || e.Error == IsLink)
                {
                    return null;
                }
            });

        public ISourceFile OpenFile(string path) => Guarded(() => new Opened(root.FileBelow(path)));

        public HashedFile Hash(string path, Action<long>? progress, CancellationToken cancel) =>
            Guarded(() =>
            {
                using var file = root.FileBelow(path);
                var before = file.Facts();
                // A pipe would be waited for, and a folder has no bytes.
                if (before.Kind != EntryKind.File)
                    throw new PlaceException(PlaceFault.Other, "it is no file");
                using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
                var buffer = ArrayPool<byte>.Shared.Rent(Stretch);
                try
                {
                    for (long at = 0; ; )
                    {
                        cancel.ThrowIfCancellationRequested();
                        var read = file.Read(buffer.AsSpan(0, Stretch), at);
                        if (read == 0)
                            return new HashedFile(Convert.ToHexStringLower(hash.GetHashAndReset()), before, file.Facts());
                        hash.AppendData(buffer, 0, read);
                        at += read;
                        progress?.Invoke(at);
                    }
                }
                finally
                {
                    ArrayPool<byte>.Shared.Return(buffer);
                }
            });

        public void Move(string from, string to) =>
            Guarded(() =>
            {
                using var source = Folder(from, make: false);
                using var target = Folder(to, make: true);
                source.RenameTo(target, NameOf(from), NameOf(to), replace: false);
                target.Flush();
                source.Flush();
                return true;
            });

        public void Remove(string path) =>
            Guarded(() =>
            {
                using var folder = Folder(path, make: false);
                folder.Remove(NameOf(path));
                folder.Flush();
                return true;
            });

        public bool RemoveFolder(string path)
        {
            try
            {
                using var above = Folder(path, make: false);
                above.RemoveFolder(NameOf(path));
                return true;
            }
            catch (PosixException)
            {
                return false;
            }
        }

        /// <summary>
        /// The folder that a path lies in, opened step by step below the root without following a link, and made where it may be.
        /// </summary>
        private OpenFolder Folder(string path, bool make)
        {
            var at = root.Below(".");
            foreach (var part in path[..Math.Max(0, path.LastIndexOf('/'))].Split('/', StringSplitOptions.RemoveEmptyEntries))
            {
                var name = Encoding.UTF8.GetBytes(part);
                using var above = at;
                if (make && above.Facts(name) is null)
                {
                    try
                    {
                        above.MakeFolder(name);
                        above.Flush();
                    }
                    catch (PosixException e) when (e.Exists)
                    {
                        // Somebody was faster.
                    }
                }
                at = above.Enter(name);
            }
            return at;
        }

        private static byte[] NameOf(string path) => Encoding.UTF8.GetBytes(path[(path.LastIndexOf('/') + 1)..]);

        public void Dispose() => root.Dispose();
    }

    private static T Guarded<T>(Func<T> act)
    {
        try
        {
            return act();
        }
        catch (PosixException e)
        {
            throw new PlaceException(
                e.AccessDenied || e.Error == ReadOnly ? PlaceFault.AccessRefused
                    : e.NotFound ? PlaceFault.NotFound
                    : e.Exists ? PlaceFault.InUse
                    : e.NoSpace ? PlaceFault.Full
                    : PlaceFault.Other,
                e.Exists ? "a file of that name is where it would go; move that one away first" : e.Message,
                e
            );
        }
    }

    /// <summary>A file whose failures are those of a place.</summary>
    private sealed class Opened(OpenFile file) : ISourceFile
    {
        public FileFacts Facts() => Guarded(file.Facts);

        public int Read(Span<byte> buffer, long offset)
        {
            try
            {
                return file.Read(buffer, offset);
            }
            catch (PosixException e)
            {
                throw new PlaceException(PlaceFault.Other, e.Message, e);
            }
        }

        public List<Extent>? Extents(long size, int most) => null;

        public List<NamedAttribute> Attributes() => [];

        public void Dispose() => file.Dispose();
    }
}
