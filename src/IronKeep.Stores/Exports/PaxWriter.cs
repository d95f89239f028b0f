using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Writes the entries of a tar archive in the pax format (POSIX.1-2017, pax, "pax Interchange Format"), each with a header of extended
/// records for what the old header cannot hold. Our own, because names are bytes here and the standard library's are text. Extended
/// attributes go under the names that several tar programs share (SCHILY.xattr), files with holes as these programs write them, with a map
/// of what holds data before it (GNU.sparse, format 1.0).
/// </summary>
public sealed class PaxWriter(Stream output)
{
    private const int Block = 512;
    private static readonly byte[] Zeros = new byte[20 * Block];

    /// <summary>Bytes written.</summary>
    public long Position { get; private set; }

    /// <summary>
    /// Begins an entry; of a file its <see cref="Content"/> follows, and <see cref="Fill"/>. With <paramref name="extents"/> only these
    /// bytes of it follow.
    /// </summary>
    public void Begin(ReadOnlySpan<byte> path, TreeEntry entry, ImmutableArray<Extent>? extents = null)
    {
        ReadOnlySpan<byte> name = entry.Kind == EntryKind.Folder ? [.. path, (byte)'/'] : path;
        var type = entry.Kind switch
        {
            EntryKind.Folder => '5',
            EntryKind.Symlink => '2',
            EntryKind.Fifo => '6',
            EntryKind.BlockDevice => '4',
            EntryKind.CharacterDevice => '3',
            _ => '0',
        };
        if (extents is { } found)
        {
            var map = MapOf(found, entry.Size);
            // Whoever does not know of holes sees a file of another name, and not one that lacks its holes.
            ReadOnlySpan<byte> apart = [.. "GNUSparseFile.0/"u8, .. path[Math.Max(0, path.Length - 80)..]];
            Records(apart, [], 0, entry, (path.ToArray(), entry.Size));
            Header(apart, [], type, map.Length + found.Sum(e => e.Length), entry);
            Put(map);
            return;
        }
        var size = type == '0' ? entry.Size : 0;
        Records(name, entry.LinkTarget, size, entry);
        Header(name, entry.LinkTarget, type, size, entry);
    }

    /// <summary>Another name of a file that the archive has already.</summary>
    public void Link(ReadOnlySpan<byte> path, TreeEntry entry, ReadOnlySpan<byte> first)
    {
        Records(path, first, 0, entry);
        Header(path, first, '1', 0, entry);
    }

    /// <summary>Bytes of the file that was begun.</summary>
    public void Content(ReadOnlySpan<byte> bytes) => Put(bytes);

    /// <summary>Ends a file's content.</summary>
    public void Fill()
    {
        if (Position % Block is > 0 and var over)
            Put(Zeros.AsSpan(0, (int)(Block - over)));
    }

    /// <summary>Ends the archive. Archives are written in records of twenty blocks.</summary>
    public void End()
    {
        Put(Zeros.AsSpan(0, 2 * Block));
        if (Position % (20 * Block) is > 0 and var over)
            Put(Zeros.AsSpan(0, (int)(20 * Block - over)));
    }

    /// <summary>How many stretches, then begin and length of each, a number a line; a hole at the end is a stretch of nothing.</summary>
    private static byte[] MapOf(ImmutableArray<Extent> extents, long size)
    {
        var last = extents.Length > 0 ? extents[^1].Offset + extents[^1].Length : 0;
        var all = last < size ? extents.Add(new Extent(size, 0)) : extents;
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture, $"{all.Length}\n");
        foreach (var extent in all)
            text.Append(CultureInfo.InvariantCulture, $"{extent.Offset}\n{extent.Length}\n");
        var map = new byte[(text.Length + Block - 1) / Block * Block];
        Encoding.ASCII.GetBytes(text.ToString()).CopyTo(map, 0);
        return map;
    }

    /// <summary>The extended records of an entry, as a small file of their own before it.</summary>
    private void Records(
        ReadOnlySpan<byte> name,
        ReadOnlySpan<byte> link,
        long size,
        TreeEntry entry,
        (byte[] Name, long Size)? sparse = null
    )
    {
        using var records = new MemoryStream();
        if (!IsUtf8(sparse?.Name ?? name) || !IsUtf8(link))
            Add("hdrcharset", "BINARY"u8);
        if (sparse is { } holes)
        {
            Add("GNU.sparse.major", "1"u8);
            Add("GNU.sparse.minor", "0"u8);
            Add("GNU.sparse.name", holes.Name);
            Add("GNU.sparse.realsize", Text(holes.Size));
        }
        else if (name.Length > 100 || !Ascii.IsValid(name))
            Add("path", name);
        if (link.Length > 100 || !Ascii.IsValid(link))
            Add("linkpath", link);
        if (size > 0x1_FFFF_FFFF)
            Add("size", Text(size));
        if (entry.User > 0x1F_FFFF)
            Add("uid", Text(entry.User));
        if (entry.Group > 0x1F_FFFF)
            Add("gid", Text(entry.Group));
        if (entry.Owner.Length > 31 || !Ascii.IsValid(entry.Owner))
            Add("uname", Encoding.UTF8.GetBytes(entry.Owner));
        if (entry.OwningGroup.Length > 31 || !Ascii.IsValid(entry.OwningGroup))
            Add("gname", Encoding.UTF8.GetBytes(entry.OwningGroup));
        if (entry.Modified.Nanoseconds > 0 || entry.Modified.Seconds is < 0 or > 0x1_FFFF_FFFF)
            Add("mtime", Encoding.ASCII.GetBytes(TimeText(entry.Modified)));
        foreach (var attribute in entry.Attributes)
            Add("SCHILY.xattr." + Encoding.Latin1.GetString(attribute.Name), attribute.Value);
        if (records.Length == 0)
            return;
        Header("pax-records"u8, [], 'x', records.Length, entry);
        Put(records.GetBuffer().AsSpan(0, (int)records.Length));
        Fill();

        void Add(string key, ReadOnlySpan<byte> value)
        {
            // "LENGTH KEY=VALUE\n", and the length counts its own digits.
            var rest = 3 + Encoding.Latin1.GetByteCount(key) + value.Length;
            var length = rest + 1;
            while (rest + length.ToString(CultureInfo.InvariantCulture).Length != length)
                length = rest + length.ToString(CultureInfo.InvariantCulture).Length;
            records.Write(Encoding.Latin1.GetBytes(string.Create(CultureInfo.InvariantCulture, $"{length} {key}=")));
            records.Write(value);
            records.WriteByte((byte)'\n');
        }
    }

    private void Header(ReadOnlySpan<byte> name, ReadOnlySpan<byte> link, char type, long size, TreeEntry entry)
    {
        var header = new byte[Block];
        name[..Math.Min(name.Length, 100)].CopyTo(header);
        Octal(100, 8, entry.Mode);
        Octal(108, 8, Math.Min(entry.User, 0x1F_FFFF));
        Octal(116, 8, Math.Min(entry.Group, 0x1F_FFFF));
        Octal(124, 12, Math.Min(size, 0x1_FFFF_FFFF));
        Octal(136, 12, Math.Clamp(entry.Modified.Seconds, 0, 0x1_FFFF_FFFF));
        "        "u8.CopyTo(header.AsSpan(148));
        header[156] = (byte)type;
        link[..Math.Min(link.Length, 100)].CopyTo(header.AsSpan(157));
        "ustar\000"u8.CopyTo(header.AsSpan(257));
        Name(265, entry.Owner);
        Name(297, entry.OwningGroup);
        Octal(329, 8, (long)(entry.Node >> 32));
        Octal(337, 8, (long)(entry.Node & 0x1F_FFFF));
        var sum = header.Sum(b => (long)b);
        Encoding.ASCII.GetBytes(Convert.ToString(sum, 8).PadLeft(6, '0') + "\0 ").CopyTo(header, 148);
        Put(header);

        void Octal(int at, int width, long value) =>
            Encoding.ASCII.GetBytes(Convert.ToString(value, 8).PadLeft(width - 1, '0') + "\0").CopyTo(header, at);

        void Name(int at, string text)
        {
            if (text.Length <= 31 && Ascii.IsValid(text))
                Encoding.ASCII.GetBytes(text).CopyTo(header, at);
        }
    }

    private static bool IsUtf8(ReadOnlySpan<byte> bytes) => System.Text.Unicode.Utf8.IsValid(bytes);

    private static byte[] Text(long number) => Encoding.ASCII.GetBytes(number.ToString(CultureInfo.InvariantCulture));

    /// <summary>Seconds as a decimal number; nanoseconds count forward, also before 1970.</summary>
    private static string TimeText(FileTime time)
    {
        if (time.Seconds >= 0 || time.Nanoseconds == 0)
            return string.Create(CultureInfo.InvariantCulture, $"{time.Seconds}.{time.Nanoseconds:000000000}");
        var whole = -(time.Seconds + 1);
        return string.Create(CultureInfo.InvariantCulture, $"-{whole}.{1_000_000_000 - time.Nanoseconds:000000000}");
    }

    private void Put(ReadOnlySpan<byte> bytes)
    {
        output.Write(bytes);
        Position += bytes.Length;
    }
}
