using System.Buffers.Binary;
using System.Collections.Immutable;
using System.Text;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Trees;

/// <summary>
/// An entry as bytes. It begins with what a look at a file tells (<see cref="HeaderSize"/> bytes, the same layout for record and
/// look), so that an unchanged file is known by one comparison and its record is used again as it is. Documented in
/// docs/store-format.md.
/// </summary>
public static class EntryRecord
{
    /// <summary>The fixed part that is compared: kind, mode, owners, links, both times, inode, size.</summary>
    public const int HeaderSize = 56;

    /// <summary>Extended attributes of one entry may take so many bytes.</summary>
    public const int MostAttributeBytes = 512 * 1024;

    internal const int LengthSize = 4;
    private const uint MostNanoseconds = 999_999_999;
    private const int NameAt = HeaderSize + 8 + 2;

    /// <summary>The header that a record of such a file would have.</summary>
    public static void WriteHeader(Span<byte> to, in FileFacts facts) =>
        WriteHeader(
            to,
            facts.Kind,
            facts.Mode,
            facts.User,
            facts.Group,
            facts.Links,
            facts.Modified,
            facts.Changed,
            facts.Inode,
            facts.Size
        );

    /// <summary>
    /// The record that begins here: its bytes without the length in front. Anything out of order is a <see cref="StoreDamageException"/>.
    /// </summary>
    public static ReadOnlySpan<byte> Take(scoped ref ReadOnlySpan<byte> from)
    {
        if (from.Length < LengthSize)
            throw Damaged();
        var length = BinaryPrimitives.ReadUInt32LittleEndian(from);
        if (length < NameAt || length > from.Length - LengthSize)
            throw Damaged();
        var record = from.Slice(LengthSize, (int)length);
        from = from[(LengthSize + (int)length)..];
        return record;
    }

    public static ReadOnlySpan<byte> HeaderOf(ReadOnlySpan<byte> record) => record[..HeaderSize];

    public static ReadOnlySpan<byte> NameOf(ReadOnlySpan<byte> record)
    {
        var length = BinaryPrimitives.ReadUInt16LittleEndian(record[(HeaderSize + 8)..]);
        return length <= record.Length - NameAt ? record.Slice(NameAt, length) : throw Damaged();
    }

    public static long SizeOf(ReadOnlySpan<byte> record) => BinaryPrimitives.ReadInt64LittleEndian(record[48..]);

    public static EntryKind KindOf(ReadOnlySpan<byte> record) => (EntryKind)record[0];

    /// <summary>The reference to the content, without making anything else of the record.</summary>
    public static ContentRef ContentOf(ReadOnlySpan<byte> record)
    {
        var from = record[(NameAt + NameOf(record).Length)..];
        return TakeContent(ref from);
    }

    /// <summary>How many entries lie below a folder at all depths, without making anything else of the record.</summary>
    public static long ItemsOf(ReadOnlySpan<byte> record)
    {
        var from = record[(NameAt + NameOf(record).Length)..];
        _ = TakeNumber(ref from);
        var count = TakeNumber(ref from);
        if (count > (ulong)(from.Length / ChunkId.Size))
            throw Damaged();
        from = from[((int)count * ChunkId.Size)..];
        return (long)TakeNumber(ref from);
    }

    /// <summary>
    /// Whether every identity that the record names is one that <paramref name="holds"/> accepts, given with the depth of the content.
    /// </summary>
    public static bool ContentHeld(ReadOnlySpan<byte> record, Func<ChunkId, int, bool> holds)
    {
        var from = record[(NameAt + NameOf(record).Length)..];
        var depth = TakeNumber(ref from);
        var count = TakeNumber(ref from);
        if (depth > ContentRef.MostDepth || count > (ulong)(from.Length / ChunkId.Size))
            throw Damaged();
        for (; count > 0; count--)
        {
            if (!holds(ChunkId.Read(from), (int)depth))
                return false;
            from = from[ChunkId.Size..];
        }
        return true;
    }

    /// <summary>
    /// Puts another identity in the place of each that the record names; <paramref name="to"/> is given each with the depth of the content.
    /// </summary>
    public static void Translate(Span<byte> record, Func<ChunkId, int, ChunkId> to)
    {
        ReadOnlySpan<byte> from = record[(NameAt + NameOf(record).Length)..];
        var depth = TakeNumber(ref from);
        var count = TakeNumber(ref from);
        if (depth > ContentRef.MostDepth || count > (ulong)(from.Length / ChunkId.Size))
            throw Damaged();
        for (var at = record.Length - from.Length; count > 0; count--, at += ChunkId.Size)
            to(ChunkId.Read(record[at..]), (int)depth).Write(record[at..]);
    }

    /// <summary>Appends an entry, its length in front.</summary>
    public static void Write(RecordBuffer to, TreeEntry e)
    {
        var start = to.Length;
        var fixedPart = to.Take(LengthSize + NameAt);
        WriteHeader(fixedPart[LengthSize..], e.Kind, e.Mode, e.User, e.Group, e.Links, e.Modified, e.Changed, e.Inode, e.Size);
        BinaryPrimitives.WriteUInt64LittleEndian(fixedPart[(LengthSize + HeaderSize)..], e.Device);
        BinaryPrimitives.WriteUInt16LittleEndian(fixedPart[(LengthSize + HeaderSize + 8)..], (ushort)e.Name.Length);
        to.Append(e.Name);
        to.Number((ulong)e.Content.Depth);
        to.Number((ulong)e.Content.Ids.Length);
        foreach (var id in e.Content.Ids)
            id.Write(to.Take(ChunkId.Size));
        to.Number((ulong)e.Items);
        to.Bytes(Encoding.UTF8.GetBytes(e.Owner));
        to.Bytes(Encoding.UTF8.GetBytes(e.OwningGroup));
        to.Number(e.Node);
        to.Bytes(e.LinkTarget);
        to.Number((ulong)e.Attributes.Length);
        foreach (var attribute in e.Attributes)
        {
            to.Bytes(attribute.Name);
            to.Bytes(attribute.Value);
        }
        // 0: no holes; else one more than the number of stretches.
        to.Number(e.Extents is { } stretches ? (ulong)stretches.Length + 1 : 0);
        foreach (var extent in e.Extents ?? [])
        {
            to.Number((ulong)extent.Offset);
            to.Number((ulong)extent.Length);
        }
        BinaryPrimitives.WriteUInt32LittleEndian(to.At(start), (uint)(to.Length - start - LengthSize));
    }

    /// <summary>Reads a record wholly. What follows the known fields is passed over.</summary>
    public static TreeEntry Read(ReadOnlySpan<byte> record)
    {
        var kind = KindOf(record);
        if (kind is < EntryKind.File or > EntryKind.CharacterDevice)
            throw Damaged();
        var name = NameOf(record);
        if (!IsSafeName(name))
            throw new StoreDamageException("a folder's listing holds a name that no folder can hold");
        var from = record[(NameAt + name.Length)..];
        var content = TakeContent(ref from);
        var items = (long)TakeNumber(ref from);
        var owner = Encoding.UTF8.GetString(TakeBytes(ref from));
        var group = Encoding.UTF8.GetString(TakeBytes(ref from));
        var node = TakeNumber(ref from);
        var target = TakeBytes(ref from).ToArray();
        var attributes = TakeAttributes(ref from);
        var size = SizeOf(record);
        if (size < 0 || items < 0)
            throw Damaged();
        var extents = TakeExtents(ref from, size);
        if (
            BinaryPrimitives.ReadUInt32LittleEndian(record[24..]) > MostNanoseconds
            || BinaryPrimitives.ReadUInt32LittleEndian(record[28..]) > MostNanoseconds
        )
            throw Damaged();
        return new TreeEntry(
            kind,
            name.ToArray(),
            BinaryPrimitives.ReadUInt16LittleEndian(record[2..]) & 0xFFFu,
            BinaryPrimitives.ReadUInt32LittleEndian(record[4..]),
            BinaryPrimitives.ReadUInt32LittleEndian(record[8..]),
            BinaryPrimitives.ReadUInt32LittleEndian(record[12..]),
            new FileTime(BinaryPrimitives.ReadInt64LittleEndian(record[16..]), BinaryPrimitives.ReadUInt32LittleEndian(record[24..])),
            new FileTime(BinaryPrimitives.ReadInt64LittleEndian(record[32..]), BinaryPrimitives.ReadUInt32LittleEndian(record[28..])),
            BinaryPrimitives.ReadUInt64LittleEndian(record[40..]),
            BinaryPrimitives.ReadUInt64LittleEndian(record[HeaderSize..]),
            size,
            content,
            items,
            owner,
            group,
            node,
            target,
            attributes,
            extents
        );
    }

    /// <summary>Throws a <see cref="StoreDamageException"/> for a record that a restore would refuse.</summary>
    public static void Check(ReadOnlySpan<byte> record) => _ = Read(record);

    /// <summary>A name that can stand in one folder: not empty, not "." or "..", without '/' and null.</summary>
    public static bool IsSafeName(ReadOnlySpan<byte> name) =>
        name.Length is > 0 and <= 255
        && !name.SequenceEqual("."u8)
        && !name.SequenceEqual(".."u8)
        && name.IndexOfAny((byte)'/', (byte)0) < 0;

    private static void WriteHeader(
        Span<byte> to,
        EntryKind kind,
        uint mode,
        uint user,
        uint group,
        uint links,
        FileTime modified,
        FileTime changed,
        ulong inode,
        long size
    )
    {
        to[0] = (byte)kind;
        to[1] = 0;
        BinaryPrimitives.WriteUInt16LittleEndian(to[2..], (ushort)mode);
        BinaryPrimitives.WriteUInt32LittleEndian(to[4..], user);
        BinaryPrimitives.WriteUInt32LittleEndian(to[8..], group);
        BinaryPrimitives.WriteUInt32LittleEndian(to[12..], links);
        BinaryPrimitives.WriteInt64LittleEndian(to[16..], modified.Seconds);
        BinaryPrimitives.WriteUInt32LittleEndian(to[24..], modified.Nanoseconds);
        BinaryPrimitives.WriteUInt32LittleEndian(to[28..], changed.Nanoseconds);
        BinaryPrimitives.WriteInt64LittleEndian(to[32..], changed.Seconds);
        BinaryPrimitives.WriteUInt64LittleEndian(to[40..], inode);
        BinaryPrimitives.WriteInt64LittleEndian(to[48..], size);
    }

    private static ContentRef TakeContent(ref ReadOnlySpan<byte> from)
    {
        var depth = TakeNumber(ref from);
        var count = TakeNumber(ref from);
        if (depth > ContentRef.MostDepth || count > (ulong)(from.Length / ChunkId.Size))
            throw Damaged();
        var ids = ImmutableArray.CreateBuilder<ChunkId>((int)count);
        for (var i = 0; i < (int)count; i++)
            ids.Add(ChunkId.Read(from[(i * ChunkId.Size)..]));
        from = from[((int)count * ChunkId.Size)..];
        return new ContentRef((int)depth, ids.MoveToImmutable());
    }

    private static ImmutableArray<NamedAttribute> TakeAttributes(ref ReadOnlySpan<byte> from)
    {
        var count = TakeNumber(ref from);
        if (count > (ulong)from.Length)
            throw Damaged();
        var attributes = ImmutableArray.CreateBuilder<NamedAttribute>();
        for (; count > 0; count--)
            attributes.Add(new NamedAttribute(TakeBytes(ref from).ToArray(), TakeBytes(ref from).ToArray()));
        return attributes.ToImmutable();
    }

    private static ImmutableArray<Extent>? TakeExtents(ref ReadOnlySpan<byte> from, long size)
    {
        var count = TakeNumber(ref from);
        if (count == 0)
            return null;
        if (count > (ulong)from.Length + 1)
            throw Damaged();
        var extents = ImmutableArray.CreateBuilder<Extent>();
        long end = 0;
        for (; count > 1; count--)
        {
            long offset = (long)TakeNumber(ref from),
                length = (long)TakeNumber(ref from);
            if (offset < end || length < 0 || length > size - offset)
                throw Damaged();
            extents.Add(new Extent(offset, length));
            end = offset + length;
        }
        return extents.ToImmutable();
    }

    private static ReadOnlySpan<byte> TakeBytes(ref ReadOnlySpan<byte> from)
    {
        var length = TakeNumber(ref from);
        if (length > (ulong)from.Length)
            throw Damaged();
        var bytes = from[..(int)length];
        from = from[(int)length..];
        return bytes;
    }

    private static ulong TakeNumber(ref ReadOnlySpan<byte> from)
    {
        ulong value = 0;
        for (var i = 0; i < 10 && i < from.Length; i++)
        {
            value |= (ulong)(from[i] & 0x7F) << (7 * i);
            if (from[i] >= 0x80)
                continue;
            from = from[(i + 1)..];
            return value;
        }
        throw Damaged();
    }

    private static StoreDamageException Damaged() => new("a folder's listing is not what a listing is");
}
