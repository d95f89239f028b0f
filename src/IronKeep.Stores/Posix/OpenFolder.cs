using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Posix;

/// <summary>
/// A folder held open. Everything is done relative to it and with names as bytes, so that no name is too odd, no path too long,
/// and a link put in the way is not followed. Errors are <see cref="PosixException"/>.
/// </summary>
public sealed unsafe class OpenFolder : IDisposable
{
    private readonly SafeFileHandle handle;

    private OpenFolder(SafeFileHandle handle) => this.handle = handle;

    private int Fd => (int)handle.DangerousGetHandle();

    /// <summary>Opens an absolute path, following links on the way.</summary>
    public static OpenFolder AtPath(string path) => new(Open(Native.AtFdCwd, Encoding.UTF8.GetBytes(path), Native.Folder, 0, path));

    /// <summary>Opens a folder inside this one; a link in its place is refused.</summary>
    public OpenFolder Enter(ReadOnlySpan<byte> name) => new(Open(Fd, name, Native.Folder | Native.NoFollow, 0, null));

    /// <summary>The names in the folder without "." and "..", in the order of the file system. Once for each opening: the folder is read to its end.</summary>
    public List<byte[]> List()
    {
        var names = new List<byte[]>();
        var buffer = new byte[64 * 1024];
        fixed (byte* start = buffer)
        {
            while (true)
            {
                var read = Native.GetDents(Fd, start, (nuint)buffer.Length);
                if (read < 0) throw Failed("cannot list the folder");
                if (read == 0) return names;
                // struct linux_dirent64: inode 8, offset 8, record length 2, type 1, name ended by zero.
                for (var at = 0; at < read;)
                {
                    var record = buffer.AsSpan(at);
                    var name = record[19..];
                    name = name[..name.IndexOf((byte)0)];
                    if (!name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8)) names.Add(name.ToArray());
                    at += BinaryPrimitives.ReadUInt16LittleEndian(record[16..]);
                }
            }
        }
    }

    /// <summary>Attributes of an entry (of a link itself, not of what it points to); null when there is none.</summary>
    public FileFacts? Facts(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
        {
            Native.StatxBuffer buffer;
            if (Native.Statx(Fd, pointer, Native.AtSymlinkNoFollow, Native.StatxBasic, &buffer) == 0) return ToFacts(buffer);
            var error = Marshal.GetLastPInvokeError();
            return error is 2 or 20 ? null : throw new PosixException(error, "cannot read the attributes");
        }
    }

    /// <summary>Attributes of the open folder itself.</summary>
    public FileFacts Facts() => FactsOf(handle);

    /// <summary>Attributes of an open file.</summary>
    public static FileFacts FactsOf(SafeFileHandle file)
    {
        byte zero = 0;
        Native.StatxBuffer buffer;
        return Native.Statx((int)file.DangerousGetHandle(), &zero, Native.AtEmptyPath, Native.StatxBasic, &buffer) == 0
            ? ToFacts(buffer)
            : throw Failed("cannot read the attributes");
    }

    /// <summary>Opens a file for reading without following a link and without waiting on a FIFO.</summary>
    public SafeFileHandle OpenFile(ReadOnlySpan<byte> name) => Open(Fd, name, Native.ReadOnly | Native.NoFollow | Native.NonBlock, 0, null);

    /// <summary>Makes a new file for writing, readable by its owner alone; an existing entry is never touched.</summary>
    public SafeFileHandle CreateFile(ReadOnlySpan<byte> name) =>
        Open(Fd, name, Native.WriteOnly | Native.Create | Native.Exclusive | Native.NoFollow, 0b110_000_000, null);

    public byte[] ReadLink(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        var target = new byte[4096];
        fixed (byte* pointer = Terminated(name, text), into = target)
        {
            var length = Native.ReadLinkAt(Fd, pointer, into, (nuint)target.Length);
            return length < 0 ? throw Failed("cannot read the link") : target[..(int)length];
        }
    }

    public void MakeFolder(ReadOnlySpan<byte> name) => Call(name, (p, fd) => Native.MakeFolderAt(fd, (byte*)p, 0b111_000_000), "cannot make the folder");

    public void MakeFifo(ReadOnlySpan<byte> name) => Call(name, (p, fd) => Native.MakeFifoAt(fd, (byte*)p, 0b110_000_000), "cannot make the FIFO");

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

    public void SetOwner(ReadOnlySpan<byte> name, uint user, uint group) =>
        Call(name, (p, fd) => Native.ChangeOwnerAt(fd, (byte*)p, user, group, Native.AtSymlinkNoFollow), "cannot set the owner");

    /// <summary>Sets the twelve permission bits; not for links, which have none.</summary>
    public void SetMode(ReadOnlySpan<byte> name, uint mode) => Call(name, (p, fd) => Native.ChangeModeAt(fd, (byte*)p, mode, 0), "cannot set the mode");

    /// <summary>Sets access and modification time alike.</summary>
    public void SetModified(ReadOnlySpan<byte> name, FileTime time)
    {
        var times = stackalloc long[] { time.Seconds, time.Nanoseconds, time.Seconds, time.Nanoseconds };
        var address = (nint)times;
        Call(name, (p, fd) => Native.SetTimesAt(fd, (byte*)p, (long*)address, Native.AtSymlinkNoFollow), "cannot set the times");
    }

    /// <summary>
    /// Gives an entry of this folder another name in it. Without <paramref name="replace"/> an existing entry of that name is never
    /// touched: the call fails with <see cref="PosixException.Exists"/>.
    /// </summary>
    public void Rename(ReadOnlySpan<byte> from, ReadOnlySpan<byte> to, bool replace)
    {
        const int notSupported = 22;
        if (!replace && TryRename(from, to, Native.NoReplace) is var error)
        {
            if (error == 0) return;
            if (error != notSupported) throw new PosixException(error, "cannot be given its name");
            // This file system cannot refuse by itself; nobody else works in a folder that is being restored.
            if (Facts(to) is not null) throw new PosixException(Native.AlreadyExists, "cannot be given its name");
        }
        if (TryRename(from, to, 0) is not 0 and var failed) throw new PosixException(failed, "cannot be given its name");
    }

    private int TryRename(ReadOnlySpan<byte> from, ReadOnlySpan<byte> to, uint flags)
    {
        Span<byte> fromText = stackalloc byte[from.Length + 1], toText = stackalloc byte[to.Length + 1];
        fixed (byte* old = Terminated(from, fromText), name = Terminated(to, toText))
            return Native.RenameAt(Fd, old, Fd, name, flags) == 0 ? 0 : Marshal.GetLastPInvokeError();
    }

    /// <summary>Removes an entry that is not a folder; one that is gone is no error.</summary>
    public void Remove(ReadOnlySpan<byte> name)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
            if (Native.UnlinkAt(Fd, pointer, 0) != 0 && Marshal.GetLastPInvokeError() is not 2 and var error) throw new PosixException(error, "cannot be removed");
    }

    /// <summary>Makes the folder's entries durable.</summary>
    public void Flush()
    {
        if (Native.Sync(handle) != 0) throw Failed("cannot make the folder durable");
    }

    public void Dispose() => handle.Dispose();

    private delegate int NameCall(nint name, int folder);

    private void Call(ReadOnlySpan<byte> name, NameCall call, string what)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
            if (call((nint)pointer, Fd) != 0) throw Failed(what);
    }

    private static SafeFileHandle Open(int folder, ReadOnlySpan<byte> name, int flags, uint mode, string? path)
    {
        Span<byte> text = stackalloc byte[name.Length + 1];
        fixed (byte* pointer = Terminated(name, text))
        {
            var fd = Native.OpenAt(folder, pointer, flags | Native.CloseOnExec, mode);
            return fd >= 0 ? new SafeFileHandle(fd, true) : throw Failed(path is null ? "cannot open" : $"cannot open {path}");
        }
    }

    private static Span<byte> Terminated(ReadOnlySpan<byte> name, Span<byte> text)
    {
        name.CopyTo(text);
        text[name.Length] = 0;
        return text;
    }

    private static PosixException Failed(string what) => new(Marshal.GetLastPInvokeError(), what);

    private static FileFacts ToFacts(in Native.StatxBuffer b) => new(
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
        b.Mode & 0xFFFu, b.User, b.Group, (long)b.Size, b.Inode, ((ulong)b.DeviceMajor << 32) | b.DeviceMinor, b.Links,
        new FileTime(b.Modified.Seconds, b.Modified.Nanoseconds), new FileTime(b.Changed.Seconds, b.Changed.Nanoseconds));
}
