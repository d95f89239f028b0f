using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>Goes through a copy in the order in which archives want it: a folder before what is in it, names sorted by their bytes.</summary>
public static class CopyWalk
{
    /// <summary>
    /// Every entry with the bytes of its path without a leading slash; below <paramref name="under"/> only, when given (names from "/").
    /// Damage is thrown.
    /// </summary>
    public static IEnumerable<(byte[] Path, TreeEntry Entry)> Of(PooledStore store, CopyRecord record, IReadOnlyList<byte[]>? under = null)
    {
        var from = under is { Count: > 0 } ? TreeWalk.Find(store, record, under) ?? throw new StoreDamageException("the copy holds no such file or folder") : TreeWalk.RootOf(record);
        var path = under is { Count: > 0 } ? Join(under) : [];
        if (path.Length > 0) yield return (path, from);
        if (from.Kind != EntryKind.Folder) yield break;
        var open = new Stack<(byte[] Path, IEnumerator<TreeEntry> Entries)>();
        open.Push((path, store.EnumerateFolder(from.Content).GetEnumerator()));
        while (open.TryPeek(out var at))
        {
            if (!at.Entries.MoveNext())
            {
                open.Pop().Entries.Dispose();
                continue;
            }
            var entry = at.Entries.Current;
            byte[] full = at.Path.Length == 0 ? entry.Name : [.. at.Path, (byte)'/', .. entry.Name];
            yield return (full, entry);
            if (entry.Kind == EntryKind.Folder) open.Push((full, store.EnumerateFolder(entry.Content).GetEnumerator()));
        }
    }

    /// <summary>Writes a file's bytes one after the other, holes as zeros.</summary>
    public static void WriteContent(ChunkReader reader, TreeEntry file, Action<ReadOnlySpan<byte>> write, CancellationToken cancel)
    {
        var zeros = new byte[64 * 1024];
        long at = 0;
        FileBytes.Each(reader, file, (content, offset) =>
        {
            Zeros(offset);
            write(content);
            at += content.Length;
        }, cancel);
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
            if (bytes.Count > 0) bytes.Add((byte)'/');
            bytes.AddRange(name);
        }
        return [.. bytes];
    }
}
