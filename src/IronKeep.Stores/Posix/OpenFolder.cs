using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Posix;

/// <summary>
/// A folder held open. Everything is done relative to it and with names as bytes, so that no name is too odd, no path too long,
/// and a link put in the way is not followed. Errors are <see cref="PosixException"/>.
/// </summary>
public sealed unsafe class OpenFolder : ISourceFolder
{
    [ThreadStatic]
    private static byte[]? listing;
    private readonly SafeFileHandle handle;

    private OpenFolder(SafeFileHandle handle) => this.handle = handle;

    private int Fd => (int)handle.DangerousGetHandle();

    /// <summary>Opens an absolute path, following links on the way.</summary>
    public static OpenFolder AtPath(string path) => new(Open(Native.AtFdCwd, Encoding.UTF8.GetBytes(path), Native.Folder, path));

    /// <summary>Opens a folder inside this one; a link in its place is refused.</summary>
    public OpenFolder Enter(ReadOnlySpan<byte> name) => new(Open(Fd, name, Native.Folder | Native.NoFollow, null));

    /// <summary>Opens the folder above; only where nobody else can move the folders on the way.</summary>
    internal OpenFolder Above() => new(Open(Fd, ".."u8, Native.Folder, null));

    /// <summary>Opens a folder by its relative path below this one; a link anywhere on the way is refused.</summary>
    public OpenFolder Below(string path) => new(new SafeFileHandle(OpenBelow(path, Native.ReadOnly | Native.Folder, 0), true));

    /// <summary>
    /// Opens a file by its relative path below this one for reading; a link anywhere on the way is refused, and a FIFO is not waited for.
    /// </summary>
    public OpenFile FileBelow(string path) => new(OpenBelow(path, Native.ReadOnly | Native.NonBlock, 0));

    /// <summary>Where the open folder really lies, as the kernel names it.</summary>
    public string RealPath() => new FileInfo(KernelPath).LinkTarget ?? "";

    /// <summary>A path that leads to the open folder itself, whatever is done to its name.</summary>
    internal string KernelPath => $"/proc/self/fd/{Fd}";

    private int OpenBelow(string path, int flags, uint mode)
    {
        const int notThere = 38,
            notPermitted = 1;
        flags |= Native.NoFollow | Native.CloseOnExec;
        fixed (byte* name = Encoding.UTF8.GetBytes(path + "\0"))
        {
            var how = new Native.OpenHow
            {
                Flags = (ulong)(uint)flags,
                Mode = mode,
                Resolve = Native.NoLinksBelow,
            };
            var fd = Native.SystemCall(Native.OpenAt2Number, Fd, name, &how, sizeof(Native.OpenHow));
            if (fd >= 0)
                return (int)fd;
            if (Marshal.GetLastPInvokeError() is not (notThere or notPermitted))
                throw Failed($"cannot open {path}");
        }
        // A kernel or a sandbox without that call: step by step.
        var (at, opened) = (this, (OpenFolder?)null);
        try
        {
            var parts = path.Split('/');
            foreach (var part in parts[..^1])
            {
                var next = at.Enter(Encoding.UTF8.GetBytes(part));
                opened?.Dispose();
                at = opened = next;
            }
            return OpenAt(at.Fd, Encoding.UTF8.GetBytes(parts[^1]), flags, mode, null);
        }
        finally
        {
            opened?.Dispose();
        }
    }

    /// <summary>
    /// The names in the folder without "." and "..", sorted by their bytes. Once for each opening: the folder is read to its end.
    /// </summary>
    public NameList List()
    {
        var names = new NameList();
        var buffer = listing ??= new byte[64 * 1024];
        fixed (byte* start = buffer)
        {
            while (true)
            {
                var read = Native.GetDents(Fd, start, (nuint)buffer.Length);
                if (read < 0)
                    throw Failed("cannot list the folder");
                if (read == 0)
                    break;
                // struct linux_dirent64: inode 8, offset 8, record length 2, type 1, name ended by zero.
                for (var at = 0; at < read; )
                {
                    var record = buffer.AsSpan(at);
                    var name = record[19..];
                    name = name[..name.IndexOf((byte)0)];
                    if (!name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8))
                        names.Add(name);
                    at += BinaryPrimitives.ReadUInt16LittleEndian(record[16..]);
                }
            }
        }
        names.Sort();
        return names;
    }

    ISourceFolder ISourceFolder.EnterSource(ReadOnlySpan<byte> name) => Enter(name);

    ISourceFile ISourceFolder.OpenSource(ReadOnlySpan<byte> name) => OpenFile(name);

    /// <summary>Attributes of an entry (of a link itself, not of what it points to); null when there is none.</summary>
    public FileFacts? Facts(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        return FactsOfTerminated(Terminated(name, text), out var facts) ? facts : null;
    }

    /// <summary>Attributes of an entry whose name ends with a zero; false when there is none.</summary>
    public bool FactsOfTerminated(ReadOnlySpan<byte> name, out FileFacts facts)
    {
        fixed (byte* pointer = name)
        {
            Native.StatxBuffer buffer;
            var found = Native.Statx(Fd, pointer, Native.AtSymlinkNoFollow | Native.AtDontSync, Native.StatxBasic, &buffer) == 0;
            facts = found ? ToFacts(buffer) : default;
            if (!found && Marshal.GetLastPInvokeError() is not (2 or 20) and var error)
                throw new PosixException(error, "cannot read the attributes");
            return found;
        }
    }

    /// <summary>Attributes of the open folder itself.</summary>
    public FileFacts Facts() => FactsOf(Fd);

    /// <summary>The extended attributes of the open folder itself.</summary>
    public List<NamedAttribute> Attributes() => NamedAttributes.Of(Fd);

    /// <summary>The extended attributes of an entry that is not opened.</summary>
    public List<NamedAttribute> Attributes(ReadOnlySpan<byte> name) => NamedAttributes.At(Fd, name);

    public void SetAttribute(ReadOnlySpan<byte> name, NamedAttribute attribute) => NamedAttributes.SetAt(Fd, name, attribute);

    /// <summary>Attributes of an open file.</summary>
    internal static FileFacts FactsOf(int file)
    {
        byte zero = 0;
        Native.StatxBuffer buffer;
        return Native.Statx(file, &zero, Native.AtEmptyPath, Native.StatxBasic, &buffer) == 0
            ? ToFacts(buffer)
            : throw Failed("cannot read the attributes");
    }

    /// <summary>Opens a file for reading without following a link and without waiting on a FIFO.</summary>
    public OpenFile OpenFile(ReadOnlySpan<byte> name) =>
        new(OpenAt(Fd, name, Native.ReadOnly | Native.NoFollow | Native.NonBlock, 0, null));

    /// <summary>Opens a file at a path for reading, following links.</summary>
    public static OpenFile OpenFileAt(string path) => new(OpenAt(Native.AtFdCwd, Encoding.UTF8.GetBytes(path), Native.ReadOnly, 0, path));

    /// <summary>Makes a new file for writing, readable by its owner alone; an existing entry is never touched.</summary>
    public OpenFile CreateFile(ReadOnlySpan<byte> name) =>
        new(OpenAt(Fd, name, Native.WriteOnly | Native.Create | Native.Exclusive | Native.NoFollow, 0b110_000_000, null));

    /// <summary>Gives an entry of another folder a second name in this one (a hard link).</summary>
    public void LinkTo(OpenFolder other, ReadOnlySpan<byte> existing, ReadOnlySpan<byte> name)
    {
        Span<byte> fromText = stackalloc byte[existing.Length + 1],
            toText = stackalloc byte[name.Length + 1];
        fixed (
            byte* from = Terminated(existing, fromText),
                to = Terminated(name, toText)
        )
            if (Native.LinkAt(other.Fd, from, Fd, to, 0) != 0)
                throw Failed("cannot be linked");
    }

    /// <summary>Makes a device node; <paramref name="node"/> has the major number in its upper half.</summary>
    public void MakeDevice(ReadOnlySpan<byte> name, bool block, ulong node)
    {
        ulong major = node >> 32,
            minor = node & 0xFFFF_FFFF;
        // The C library's makedev().
        var device = (minor & 0xFF) | ((major & 0xFFF) << 8) | ((minor & ~0xFFul) << 12) | ((major & ~0xFFFul) << 32);
        var mode = block ? 0x6000u | 0b110_000_000 : 0x2000u | 0b110_000_000;
        Call(name, (p, fd) => Native.MakeNodeAt(fd, (byte*)p, mode, device), "cannot make the device node");
    }

    public byte[] ReadLink(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        var target = new byte[4096];
        fixed (
            byte* pointer = Terminated(name, text),
                into = target
        )
        {
            var length = Native.ReadLinkAt(Fd, pointer, into, (nuint)target.Length);
            return length < 0 ? throw Failed("cannot read the link") : target[..(int)length];
        }
    }

    public void MakeFolder(ReadOnlySpan<byte> name) =>
        Call(name, (p, fd) => Native.MakeFolderAt(fd, (byte*)p, 0b111_000_000), "cannot make the folder");

    public void MakeFifo(ReadOnlySpan<byte> name) =>
        Call(name, (p, fd) => Native.MakeFifoAt(fd, (byte*)p, 0b110_000_000), "cannot make the FIFO");

    public void MakeLink(ReadOnlySpan<byte> name, ReadOnlySpan<byte> target)
    {
        var targetText = new byte[target.Length + 1];
        target.CopyTo(targetText);
        fixed (byte* to = targetText)
        {
            var address = (nint)to;
            Call(name, (p, fd) => Native.SymlinkAt((byte*)address, fd, (byte*)p), "cannot make the link");
        }
    }

    /// <summary>Sets the owner of the open folder itself.</summary>
    public void SetOwner(uint user, uint group)
    {
        if (Native.ChangeOwner(Fd, user, group) != 0)
            throw Failed("cannot set the owner");
    }

    /// <summary>Sets an extended attribute of the open folder itself.</summary>
    public void SetAttribute(NamedAttribute attribute) => NamedAttributes.Set(Fd, attribute);

    /// <summary>Sets the twelve permission bits and both times of the open folder itself.</summary>
    public void SetModeAndModified(uint mode, FileTime time)
    {
        if (Native.ChangeMode(Fd, mode) != 0)
            throw Failed("cannot set the mode");
        var times = stackalloc long[] { time.Seconds, time.Nanoseconds, time.Seconds, time.Nanoseconds };
        if (Native.SetTimes(Fd, times) != 0)
            throw Failed("cannot set the times");
    }

    public void SetOwner(ReadOnlySpan<byte> name, uint user, uint group) =>
        Call(name, (p, fd) => Native.ChangeOwnerAt(fd, (byte*)p, user, group, Native.AtSymlinkNoFollow), "cannot set the owner");

    /// <summary>Sets the twelve permission bits; not for links, which have none.</summary>
    public void SetMode(ReadOnlySpan<byte> name, uint mode) =>
        Call(name, (p, fd) => Native.ChangeModeAt(fd, (byte*)p, mode, 0), "cannot set the mode");

    /// <summary>Sets access and modification time alike.</summary>
    public void SetModified(ReadOnlySpan<byte> name, FileTime time)
    {
        var times = stackalloc long[] { time.Seconds, time.Nanoseconds, time.Seconds, time.Nanoseconds };
        var address = (nint)times;
        Call(name, (p, fd) => Native.SetTimesAt(fd, (byte*)p, (long*)address, Native.AtSymlinkNoFollow), "cannot set the times");
    }

    /// <summary>
    /// Moves an entry into another folder of the same file system, under a name of its own there. Without <paramref name="replace"/> an
    /// existing entry of that name is never touched: the call fails with <see cref="PosixException.Exists"/>.
    /// </summary>
    public void RenameTo(OpenFolder other, ReadOnlySpan<byte> from, ReadOnlySpan<byte> to, bool replace)
    {
        const int notSupported = 22;
        var error = TryRename(from, other, to, replace ? 0 : Native.NoReplace);
        if (error == notSupported && !replace)
        {
            // This file system cannot refuse by itself.
            if (other.Facts(to) is not null)
                throw new PosixException(Native.AlreadyExists, "cannot be given its name");
            error = TryRename(from, other, to, 0);
        }
        if (error != 0)
            throw new PosixException(error, "cannot be given its name");
    }

    private int TryRename(ReadOnlySpan<byte> from, OpenFolder other, ReadOnlySpan<byte> to, uint flags)
    {
        Span<byte> fromText = stackalloc byte[from.Length + 1],
            toText = stackalloc byte[to.Length + 1];
        fixed (
            byte* old = Terminated(from, fromText),
                name = Terminated(to, toText)
        )
            return Native.RenameAt(Fd, old, other.Fd, name, flags) == 0 ? 0 : Marshal.GetLastPInvokeError();
    }

    /// <summary>Removes an empty folder; one that is gone is no error.</summary>
    public void RemoveFolder(ReadOnlySpan<byte> name)
    {
        const int removeFolder = 0x200;
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
            if (Native.UnlinkAt(Fd, pointer, removeFolder) != 0 && Marshal.GetLastPInvokeError() is not 2 and var error)
                throw new PosixException(error, "cannot be removed");
    }

    /// <summary>Makes a new file for writing, for its owner alone; an existing entry is never touched, a link never followed.</summary>
    internal SafeFileHandle NewFile(ReadOnlySpan<byte> name) =>
        new(OpenAt(Fd, name, Native.WriteOnly | Native.Create | Native.Exclusive | Native.NoFollow, 0b110_000_000, null), true);

    /// <summary>Removes an entry that is not a folder; one that is gone is no error.</summary>
    public void Remove(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
            if (Native.UnlinkAt(Fd, pointer, 0) != 0 && Marshal.GetLastPInvokeError() is not 2 and var error)
                throw new PosixException(error, "cannot be removed");
    }

    /// <summary>Makes the folder's entries durable.</summary>
    public void Flush()
    {
        if (Native.Sync(handle) != 0)
            throw Failed("cannot make the folder durable");
    }

    public void Dispose() => handle.Dispose();

    private delegate int NameCall(nint name, int folder);

    private void Call(ReadOnlySpan<byte> name, NameCall call, string what)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
            if (call((nint)pointer, Fd) != 0)
                throw Failed(what);
    }

    private static SafeFileHandle Open(int folder, ReadOnlySpan<byte> name, int flags, string? path) =>
        new(OpenAt(folder, name, flags, 0, path), true);

    private static int OpenAt(int folder, ReadOnlySpan<byte> name, int flags, uint mode, string? path)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
        {
            var fd = Native.OpenAt(folder, pointer, flags | Native.CloseOnExec, mode);
            return fd >= 0 ? fd : throw Failed(path is null ? "cannot open" : $"cannot open {path}");
        }
    }

    private static Span<byte> Terminated(ReadOnlySpan<byte> name, Span<byte> text)
    {
        name.CopyTo(text);
        text[name.Length] = 0;
        return text;
    }

    private static PosixException Failed(string what) => new(Marshal.GetLastPInvokeError(), what);

    private static FileFacts ToFacts(in Native.StatxBuffer b) =>
        new(
            (b.Mode & 0xF000) switch
            {
                0x4000 => EntryKind.Folder,
                0xA000 => EntryKind.Symlink,
                0x1000 => EntryKind.Fifo,
                0xC000 => EntryKind.Socket,
                0x6000 => EntryKind.BlockDevice,
                0x2000 => EntryKind.CharacterDevice,
                _ => EntryKind.File,
            },
            b.Mode & 0xFFFu,
            b.User,
            b.Group,
            (long)b.Size,
            (long)b.Blocks,
            b.Inode,
            ((ulong)b.DeviceMajor << 32) | b.DeviceMinor,
            ((ulong)b.DeviceMajorOfNode << 32) | b.DeviceMinorOfNode,
            b.Links,
            new FileTime(b.Modified.Seconds, b.Modified.Nanoseconds),
            new FileTime(b.Changed.Seconds, b.Changed.Nanoseconds)
        );
}
