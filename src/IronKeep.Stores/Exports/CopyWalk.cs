using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Goes through a copy in the order in which archives want it: a folder before what is in it, names sorted by their bytes.
/// </summary>
public static class CopyWalk
{
    /// <summary>
    /// Every entry with the bytes of its path without a leading slash, valid until the next; only the named ones with what is below them,
    /// when some are named (as shown, from "/"). Damage is thrown; a path that the copy does not hold is an <see cref="IOException"/>.
    /// </summary>
    public static IEnumerable<(ReadOnlyMemory<byte> Path, TreeEntry Entry)> Of(
        ITreeSource store,
        CopyRecord record,
        IReadOnlyList<string> paths
    ) =>
        Parts(paths)
            .Select(p =>
                (
                    Path: Join(p),
                    Entry: TreeWalk.Find(store, record, p)
                        ?? throw new IOException($"copy {record.Id} holds no '/{NameText.Show(Join(p))}'; look at the folder above it")
                )
            )
            .ToList()
            .SelectMany(part => Below(store, part.Path, part.Entry));

    /// <summary>The named paths as names, none within another; "/" alone when none is named.</summary>
    private static List<List<byte[]>> Parts(IReadOnlyList<string> paths)
    {
        var all = paths
            .Select(p =>
                NameText.ReadPath(p) ?? throw new IOException($"the path '{p}' cannot be read: a backslash must be doubled or begin \\xNN")
            )
            .ToList();
        if (all.Count == 0)
            return
            [
                [],
            ];
        return
        [
            .. all.Where(
                (p, i) =>
                    !all.Where(
                            (o, j) =>
                                (o.Count < p.Count || o.Count == p.Count && j < i)
                                && o.Zip(p).All(n => n.First.AsSpan().SequenceEqual(n.Second))
                        )
                        .Any()
            ),
        ];
    }

    // One path that grows and shrinks: a tree may be so deep that its paths, each kept whole, would take all memory.
    private static IEnumerable<(ReadOnlyMemory<byte> Path, TreeEntry Entry)> Below(ITreeSource store, byte[] start, TreeEntry from)
    {
        if (start.Length > 0)
            yield return (start, from);
        if (from.Kind != EntryKind.Folder)
            yield break;
        var path = new byte[Math.Max(256, 2 * start.Length)];
        start.CopyTo(path, 0);
        var open = new Stack<(int Length, IEnumerator<TreeEntry> Entries)>();
        open.Push((start.Length, store.EnumerateFolder(from.Content).GetEnumerator()));
        while (open.TryPeek(out var at))
        {
            if (!at.Entries.MoveNext())
            {
                open.Pop().Entries.Dispose();
                continue;
            }
            var entry = at.Entries.Current;
            var length = at.Length;
            if (length + 1 + entry.Name.Length > path.Length)
                Array.Resize(ref path, 2 * (length + 1 + entry.Name.Length));
            if (length > 0)
                path[length++] = (byte)'/';
            entry.Name.CopyTo(path, length);
            length += entry.Name.Length;
            yield return (path.AsMemory(0, length), entry);
            if (entry.Kind == EntryKind.Folder)
                open.Push((length, store.EnumerateFolder(entry.Content).GetEnumerator()));
        }
    }

    /// <summary>Writes a file's bytes one after the other, holes as zeros.</summary>
    public static void WriteContent(IChunkSource reader, TreeEntry file, Action<ReadOnlySpan<byte>> write, CancellationToken cancel)
    {
        var zeros = new byte[64 * 1024];
        long at = 0;
        FileBytes.Each(
            reader,
            file,
            (content, offset) =>
            {
                Zeros(offset);
                write(content);
                at += content.Length;
            },
            cancel
        );
        Zeros(file.Size);

        void Zeros(long until)
        {
            while (at < until)
            {
                var length = (int)Math.Min(zeros.Length, until - at);
                write(zeros.AsSpan(0, length));
                at += length;
            }
        }
    }

    private static byte[] Join(IReadOnlyList<byte[]> names)
    {
        var bytes = new List<byte>();
        foreach (var name in names)
        {
            if (bytes.Count > 0)
                bytes.Add((byte)'/');
            bytes.AddRange(name);
        }
        return [.. bytes];
    }
}
