using System.Buffers;
using System.Buffers.Binary;
using System.Collections.Immutable;
using System.Text;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Trees;

/// <summary>
/// A folder's entries as bytes: sorted by name, so that the same folder always gives the same chunks. Each record begins with
/// its length, so that a reader can skip what it does not know. Documented in docs/store-format.md.
/// </summary>
public static class FolderListing
{
    private const byte Version = 1;

    public static ReadOnlyMemory<byte> Write(IEnumerable<TreeEntry> entries)
    {
        var output = new ArrayBufferWriter<byte>(4096);
        var record = new ArrayBufferWriter<byte>(256);
        output.Write([Version]);
        foreach (var entry in entries.OrderBy(e => e.Name, ByteOrder.Instance))
        {
            record.ResetWrittenCount();
            WriteRecord(record, entry);
            Number(output, (ulong)record.WrittenCount);
            output.Write(record.WrittenSpan);
        }
        return output.WrittenMemory;
    }

    /// <summary>Reads a listing; anything out of order is a <see cref="StoreDamageException"/>, never a wild read.</summary>
    public static List<TreeEntry> Read(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length == 0 || bytes[0] != Version) throw new StoreDamageException("a folder's listing begins with an unknown version");
        bytes = bytes[1..];
        var entries = new List<TreeEntry>();
        while (bytes.Length > 0)
        {
            var length = TakeLength(ref bytes);
            entries.Add(ReadRecord(bytes[..length]));
            bytes = bytes[length..];
        }
        return entries;
    }

    private static void WriteRecord(ArrayBufferWriter<byte> to, TreeEntry e)
    {
        to.Write([(byte)e.Kind]);
        Bytes(to, e.Name);
        Number(to, e.Mode);
        Number(to, e.User);
        Number(to, e.Group);
        Bytes(to, Encoding.UTF8.GetBytes(e.Owner));
        Bytes(to, Encoding.UTF8.GetBytes(e.OwningGroup));
        Time(to, e.Modified);
        Time(to, e.Changed);
        Number(to, e.Inode);
        Number(to, (ulong)e.Size);
        Number(to, (ulong)e.Items);
        Bytes(to, e.LinkTarget);
        Number(to, (ulong)e.Content.Length);
        foreach (var id in e.Content)
        {
            id.Write(to.GetSpan(ChunkId.Size));
            to.Advance(ChunkId.Size);
        }
    }

    private static TreeEntry ReadRecord(ReadOnlySpan<byte> from)
    {
        if (from.Length == 0) throw Damaged();
        var kind = (EntryKind)from[0];
        from = from[1..];
        if (kind is < EntryKind.File or > EntryKind.CharacterDevice) throw Damaged();
        var name = TakeBytes(ref from).ToArray();
        if (!IsSafeName(name)) throw new StoreDamageException("a folder's listing holds a name that no folder can hold");
        var mode = (uint)TakeNumber(ref from);
        var user = (uint)TakeNumber(ref from);
        var group = (uint)TakeNumber(ref from);
        var owner = Encoding.UTF8.GetString(TakeBytes(ref from));
        var owningGroup = Encoding.UTF8.GetString(TakeBytes(ref from));
        var modified = TakeTime(ref from);
        var changed = TakeTime(ref from);
        var inode = TakeNumber(ref from);
        var size = (long)TakeNumber(ref from);
        var items = (long)TakeNumber(ref from);
        var target = TakeBytes(ref from).ToArray();
        var count = TakeNumber(ref from);
        if (count > (ulong)(from.Length / ChunkId.Size)) throw Damaged();
        var content = ImmutableArray.CreateBuilder<ChunkId>((int)count);
        for (var i = 0; i < (int)count; i++) content.Add(ChunkId.Read(from[(i * ChunkId.Size)..]));
        return new TreeEntry(kind, name, mode & 0xFFF, user, group, owner, owningGroup, modified, changed, inode, size, items, target, content.MoveToImmutable());
    }

    /// <summary>A name that can stand in one folder: not empty, not "." or "..", without '/' and null.</summary>
    public static bool IsSafeName(ReadOnlySpan<byte> name) =>
        name.Length is > 0 and <= 255 && !name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8) && name.IndexOfAny((byte)'/', (byte)0) < 0;

    private static void Time(ArrayBufferWriter<byte> to, FileTime time)
    {
        var span = to.GetSpan(12);
        BinaryPrimitives.WriteInt64LittleEndian(span, time.Seconds);
        BinaryPrimitives.WriteUInt32LittleEndian(span[8..], time.Nanoseconds);
        to.Advance(12);
    }

    private static FileTime TakeTime(ref ReadOnlySpan<byte> from)
    {
        if (from.Length < 12) throw Damaged();
        var time = new FileTime(BinaryPrimitives.ReadInt64LittleEndian(from), BinaryPrimitives.ReadUInt32LittleEndian(from[8..]));
        from = from[12..];
        return time;
    }

    private static void Bytes(ArrayBufferWriter<byte> to, ReadOnlySpan<byte> bytes)
    {
        Number(to, (ulong)bytes.Length);
        to.Write(bytes);
    }

    private static ReadOnlySpan<byte> TakeBytes(ref ReadOnlySpan<byte> from)
    {
        var length = TakeLength(ref from);
        var bytes = from[..length];
        from = from[length..];
        return bytes;
    }

    private static int TakeLength(ref ReadOnlySpan<byte> from)
    {
        var length = TakeNumber(ref from);
        return length <= (ulong)from.Length ? (int)length : throw Damaged();
    }

    /// <summary>Seven bits a byte, low bits first, the top bit set on all but the last (LEB128).</summary>
    private static void Number(ArrayBufferWriter<byte> to, ulong value)
    {
        var span = to.GetSpan(10);
        var n = 0;
        for (; value >= 0x80; value >>= 7) span[n++] = (byte)(value | 0x80);
        span[n++] = (byte)value;
        to.Advance(n);
    }

    private static ulong TakeNumber(ref ReadOnlySpan<byte> from)
    {
        ulong value = 0;
        for (var i = 0; i < 10 && i < from.Length; i++)
        {
            value |= (ulong)(from[i] & 0x7F) << (7 * i);
            if (from[i] >= 0x80) continue;
            from = from[(i + 1)..];
            return value;
        }
        throw Damaged();
    }

    private static StoreDamageException Damaged() => new("a folder's listing ends in the middle of a record");
}

/// <summary>Orders names as unsigned bytes, the order of memcmp.</summary>
public sealed class ByteOrder : IComparer<byte[]>, IEqualityComparer<byte[]>
{
    public static ByteOrder Instance { get; } = new();
    public int Compare(byte[]? x, byte[]? y) => x.AsSpan().SequenceCompareTo(y);
    public bool Equals(byte[]? x, byte[]? y) => x.AsSpan().SequenceEqual(y);

    public int GetHashCode(byte[] obj)
    {
        var hash = new HashCode();
        hash.AddBytes(obj);
        return hash.ToHashCode();
    }
}
