using System.Runtime.InteropServices;
using System.Text;

namespace IronKeep.Stores.Posix;

/// <summary>
/// Reads and sets extended attributes, by an open file or by the name of an entry that cannot be opened (a link, a FIFO, a device).
/// </summary>
internal static unsafe class NamedAttributes
{
    // The kernel's limits: XATTR_LIST_MAX and XATTR_SIZE_MAX.
    private const int MostBytes = 65536;
    private const int TooSmall = 34,
        Gone = 61,
        NotKnown = 95;

    [ThreadStatic]
    private static byte[]? space;

    public static List<NamedAttribute> Of(int fd)
    {
        fixed (byte* list = Space())
        {
            var length = Native.ListAttributes(fd, list, MostBytes);
            return length <= 0
                ? None(length)
                : Values(list, (int)length, (name, value) => Native.GetAttribute(fd, (byte*)name, (byte*)value, MostBytes));
        }
    }

    public static List<NamedAttribute> At(int folder, ReadOnlySpan<byte> name)
    {
        fixed (
            byte* path = PathOf(folder, name),
                list = Space()
        )
        {
            var address = (nint)path;
            var length = Native.ListAttributesAt(path, list, MostBytes);
            return length <= 0
                ? None(length)
                : Values(list, (int)length, (attribute, value) =>
                    Native.GetAttributeAt((byte*)address, (byte*)attribute, (byte*)value, MostBytes)
                );
        }
    }

    public static void Set(int fd, NamedAttribute attribute)
    {
        fixed (
            byte* name = WithZero(attribute.Name),
                value = attribute.Value
        )
            if (Native.SetAttribute(fd, name, value, (nuint)attribute.Value.Length, 0) != 0)
                throw Failed();
    }

    public static void SetAt(int folder, ReadOnlySpan<byte> entry, NamedAttribute attribute)
    {
        fixed (
            byte* path = PathOf(folder, entry),
                name = WithZero(attribute.Name),
                value = attribute.Value
        )
            if (Native.SetAttributeAt(path, name, value, (nuint)attribute.Value.Length, 0) != 0)
                throw Failed();
    }

    private static byte[] Space() => space ??= new byte[2 * MostBytes];

    private static List<NamedAttribute> None(nint length) =>
        length == 0 || Marshal.GetLastPInvokeError() is NotKnown
            ? []
            : throw new PosixException(Marshal.GetLastPInvokeError(), "cannot read the extended attributes");

    private static List<NamedAttribute> Values(byte* list, int length, Func<nint, nint, nint> get)
    {
        var found = new List<NamedAttribute>();
        var value = list + MostBytes;
        for (var at = 0; at < length; )
        {
            var name = MemoryMarshal.CreateReadOnlySpanFromNullTerminated(list + at);
            var size = get((nint)(list + at), (nint)value);
            // One that went away meanwhile, or that only the kernel may see, is not the entry's.
            if (size >= 0)
                found.Add(new NamedAttribute(name.ToArray(), new ReadOnlySpan<byte>(value, (int)size).ToArray()));
            else if (Marshal.GetLastPInvokeError() is not (Gone or TooSmall or NotKnown or 1 or 13))
                throw new PosixException(Marshal.GetLastPInvokeError(), "cannot read an extended attribute");
            at += name.Length + 1;
        }
        found.Sort((a, b) => a.Name.AsSpan().SequenceCompareTo(b.Name));
        return found;
    }

    // There is no call relative to a folder before Linux 6.13; the kernel's own name of the open folder serves, whatever its path.
    private static byte[] PathOf(int folder, ReadOnlySpan<byte> name) =>
        [.. Encoding.ASCII.GetBytes($"/proc/self/fd/{folder}/"), .. name, 0];

    private static byte[] WithZero(byte[] name) => [.. name, 0];

    private static PosixException Failed() => new(Marshal.GetLastPInvokeError(), "cannot set an extended attribute");
}
