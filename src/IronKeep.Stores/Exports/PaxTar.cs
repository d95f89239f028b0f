using System.Globalization;
using System.Text;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Writes a copy as a tar archive in the pax format (POSIX.1-2017, pax, "pax Interchange Format"): every entry with a header of
/// extended records for what the old header cannot hold. Our own, because names are bytes here and the standard library's are text.
/// Extended attributes go under the names that several tar programs share (SCHILY.xattr); holes are written as zeros.
/// </summary>
public sealed class PaxTar(Stream output, Action<long, long>? progress = null)
{
    private const int Block = 512;
    private readonly Dictionary<(ulong, ulong), byte[]> linked = [];
    private long position;

    /// <summary>Entries written, and sockets left out.</summary>
    public (long Written, long LeftOut) Write(PooledStore store, CopyRecord record, IReadOnlyList<string> paths, CancellationToken cancel)
    {
        long written = 0,
            left = 0;
        using var reader = store.NewTreeReader();
        foreach (var (path, entry) in CopyWalk.Of(store, record, paths))
        {
            cancel.ThrowIfCancellationRequested();
            if (entry.Kind == EntryKind.Socket)
            {
                left++;
                continue;
            }
            Entry(path.Span, entry, reader, cancel);
            written++;
            progress?.Invoke(written, position);
        }
        Put(new byte[2 * Block]);
        // Archives are written in records of twenty blocks.
        if (position % (20 * Block) is > 0 and var over)
            Put(new byte[20 * Block - over]);
        return (written, left);
    }

    private void Entry(ReadOnlySpan<byte> path, TreeEntry entry, ChunkReader reader, CancellationToken cancel)
    {
        ReadOnlySpan<byte> name = entry.Kind == EntryKind.Folder ? [.. path, (byte)'/'] : path;
        var link = entry.LinkTarget;
        var type = entry.Kind switch
        {
            EntryKind.Folder => '5',
            EntryKind.Symlink => '2',
            EntryKind.Fifo => '6',
            EntryKind.BlockDevice => '4',
            EntryKind.CharacterDevice => '3',
            _ => '0',
        };
        if (entry is { Links: > 1, Kind: not EntryKind.Folder })
        {
            if (linked.TryGetValue((entry.Device, entry.Inode), out var first))
                (type, link) = ('1', first);
            else
                linked[(entry.Device, entry.Inode)] = path.ToArray();
        }
        var size = type == '0' ? entry.Size : 0;
        Records(name, link, size, entry);
        Header(name, link, type, size, entry);
        if (type != '0')
            return;
        CopyWalk.WriteContent(reader, entry, Put, cancel);
        Fill();
    }

    /// <summary>The extended records of an entry, as a small file of their own before it.</summary>
    private void Records(ReadOnlySpan<byte> name, ReadOnlySpan<byte> link, long size, TreeEntry entry)
    {
        using var records = new MemoryStream();
        if (!IsUtf8(name) || !IsUtf8(link))
            Add("hdrcharset", "BINARY"u8);
        if (name.Length > 100 || !Ascii.IsValid(name))
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

    private void Fill()
    {
        if (position % Block is > 0 and var over)
            Put(new byte[Block - over]);
    }

    private void Put(ReadOnlySpan<byte> bytes)
    {
        output.Write(bytes);
        position += bytes.Length;
    }
}
