using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Posix;

/// <summary>
/// The system calls that the standard library does not offer: names as bytes, paths relative to an open folder, all attributes.
/// </summary>
internal static unsafe partial class Native
{
    public const int AtFdCwd = -100;
    public const int AtSymlinkNoFollow = 0x100;
    public const int AtEmptyPath = 0x1000;

    /// <summary>Take what the kernel knows, without asking a server again.</summary>
    public const int AtDontSync = 0x4000;
    public const uint StatxBasic = 0x7ff;

    /// <summary>Begin to write to the disk, and do not wait.</summary>
    public const uint SyncBegin = 2;
    public const int SeekData = 3,
        SeekHole = 4;

    public const int ReadOnly = 0;
    public const int WriteOnly = 1;
    public const int Create = 0x40;
    public const int Exclusive = 0x80;
    public const int AlreadyExists = 17;
    public const uint NoReplace = 1;
    public const int NonBlock = 0x800;
    public static readonly int Folder = Arm ? 0x4000 : 0x10000;
    public static readonly int NoFollow = Arm ? 0x8000 : 0x20000;
    public const int CloseOnExec = 0x80000;

    private static bool Arm => RuntimeInformation.ProcessArchitecture is Architecture.Arm64 or Architecture.Arm;

    [LibraryImport("libc", EntryPoint = "openat", SetLastError = true)]
    public static partial int OpenAt(int folder, byte* name, int flags, uint mode);

    /// <summary>struct open_how of openat2(2).</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct OpenHow
    {
        public ulong Flags,
            Mode,
            Resolve;
    }

    /// <summary>The number of openat2, the same on every architecture; and: follow no link anywhere, stay below the folder.</summary>
    public const nint OpenAt2Number = 437;
    public const ulong NoLinksBelow = 0x02 | 0x04 | 0x08;

    [LibraryImport("libc", EntryPoint = "syscall", SetLastError = true)]
    public static partial nint SystemCall(nint number, nint folder, byte* name, OpenHow* how, nint size);

    [LibraryImport("libc", EntryPoint = "fallocate", SetLastError = true)]
    public static partial int Allocate(SafeFileHandle file, int mode, long offset, long length);

    [LibraryImport("libc", EntryPoint = "umask")]
    public static partial uint SetUmask(uint mask);

    [LibraryImport("libc", EntryPoint = "execv", SetLastError = true)]
    public static partial int Execute(byte* path, byte** words);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    public static partial uint EffectiveUser();

    [LibraryImport("libc", EntryPoint = "getegid")]
    public static partial uint EffectiveGroup();

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    public static partial int Statx(int folder, byte* name, int flags, uint mask, StatxBuffer* result);

    [LibraryImport("libc", EntryPoint = "getdents64", SetLastError = true)]
    public static partial nint GetDents(int folder, byte* buffer, nuint size);

    [LibraryImport("libc", EntryPoint = "readlinkat", SetLastError = true)]
    public static partial nint ReadLinkAt(int folder, byte* name, byte* buffer, nuint size);

    [LibraryImport("libc", EntryPoint = "mkdirat", SetLastError = true)]
    public static partial int MakeFolderAt(int folder, byte* name, uint mode);

    [LibraryImport("libc", EntryPoint = "symlinkat", SetLastError = true)]
    public static partial int SymlinkAt(byte* target, int folder, byte* name);

    [LibraryImport("libc", EntryPoint = "mkfifoat", SetLastError = true)]
    public static partial int MakeFifoAt(int folder, byte* name, uint mode);

    [LibraryImport("libc", EntryPoint = "fchmodat", SetLastError = true)]
    public static partial int ChangeModeAt(int folder, byte* name, uint mode, int flags);

    [LibraryImport("libc", EntryPoint = "fchownat", SetLastError = true)]
    public static partial int ChangeOwnerAt(int folder, byte* name, uint user, uint group, int flags);

    [LibraryImport("libc", EntryPoint = "utimensat", SetLastError = true)]
    public static partial int SetTimesAt(int folder, byte* name, long* accessAndModified, int flags);

    [LibraryImport("libc", EntryPoint = "renameat2", SetLastError = true)]
    public static partial int RenameAt(int fromFolder, byte* from, int toFolder, byte* to, uint flags);

    [LibraryImport("libc", EntryPoint = "unlinkat", SetLastError = true)]
    public static partial int UnlinkAt(int folder, byte* name, int flags);

    [LibraryImport("libc", EntryPoint = "linkat", SetLastError = true)]
    public static partial int LinkAt(int fromFolder, byte* from, int toFolder, byte* to, int flags);

    [LibraryImport("libc", EntryPoint = "mknodat", SetLastError = true)]
    public static partial int MakeNodeAt(int folder, byte* name, uint mode, ulong device);

    [LibraryImport("libc", EntryPoint = "lseek", SetLastError = true)]
    public static partial long Seek(int file, long offset, int whence);

    [LibraryImport("libc", EntryPoint = "ftruncate", SetLastError = true)]
    public static partial int Truncate(int file, long size);

    [LibraryImport("libc", EntryPoint = "pread", SetLastError = true)]
    public static partial nint ReadAt(int file, byte* buffer, nuint size, long offset);

    [LibraryImport("libc", EntryPoint = "pwrite", SetLastError = true)]
    public static partial nint WriteAt(int file, byte* buffer, nuint size, long offset);

    [LibraryImport("libc", EntryPoint = "sync_file_range", SetLastError = true)]
    public static partial int SyncRange(SafeFileHandle file, long offset, long length, uint flags);

    [LibraryImport("libc", EntryPoint = "close", SetLastError = true)]
    public static partial int Close(int file);

    [LibraryImport("libc", EntryPoint = "fchown", SetLastError = true)]
    public static partial int ChangeOwner(int file, uint user, uint group);

    [LibraryImport("libc", EntryPoint = "fchmod", SetLastError = true)]
    public static partial int ChangeMode(int file, uint mode);

    [LibraryImport("libc", EntryPoint = "futimens", SetLastError = true)]
    public static partial int SetTimes(int file, long* accessAndModified);

    [LibraryImport("libc", EntryPoint = "flistxattr", SetLastError = true)]
    public static partial nint ListAttributes(int file, byte* list, nuint size);

    [LibraryImport("libc", EntryPoint = "fgetxattr", SetLastError = true)]
    public static partial nint GetAttribute(int file, byte* name, byte* value, nuint size);

    [LibraryImport("libc", EntryPoint = "fsetxattr", SetLastError = true)]
    public static partial int SetAttribute(int file, byte* name, byte* value, nuint size, int flags);

    [LibraryImport("libc", EntryPoint = "llistxattr", SetLastError = true)]
    public static partial nint ListAttributesAt(byte* path, byte* list, nuint size);

    [LibraryImport("libc", EntryPoint = "lgetxattr", SetLastError = true)]
    public static partial nint GetAttributeAt(byte* path, byte* name, byte* value, nuint size);

    [LibraryImport("libc", EntryPoint = "lsetxattr", SetLastError = true)]
    public static partial int SetAttributeAt(byte* path, byte* name, byte* value, nuint size, int flags);

    [LibraryImport("libc", EntryPoint = "access", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial int Access(string path, int mode);

    [LibraryImport("libc", EntryPoint = "fsync", SetLastError = true)]
    public static partial int Sync(SafeFileHandle file);

    [LibraryImport("libc", EntryPoint = "getpwuid", SetLastError = true)]
    public static partial nint UserById(uint id);

    [LibraryImport("libc", EntryPoint = "getgrgid", SetLastError = true)]
    public static partial nint GroupById(uint id);

    [LibraryImport("libc", EntryPoint = "realpath", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial nint RealPath(string path, nint buffer);

    [LibraryImport("libc", EntryPoint = "free")]
    public static partial void Free(nint memory);

    /// <summary>struct statx of the Linux ABI, the same on every architecture.</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct StatxBuffer
    {
        public uint Mask,
            BlockSize;
        public ulong Attributes;
        public uint Links,
            User,
            Group;
        public ushort Mode,
            Padding;
        public ulong Inode,
            Size,
            Blocks,
            AttributesMask;
        public Timestamp Accessed,
            Born,
            Changed,
            Modified;
        public uint DeviceMajorOfNode,
            DeviceMinorOfNode,
            DeviceMajor,
            DeviceMinor;
        public fixed ulong Spare[14];
    }

    [StructLayout(LayoutKind.Sequential)]
    public struct Timestamp
    {
        public long Seconds;
        public uint Nanoseconds;
        public int Padding;
    }
}
