using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Healing;

/// <summary>
/// Carries content from one store into another, where its chunks have other identities: it is cut and listed anew, exactly as a run that
/// meets the same files would do it.
/// </summary>
internal sealed class Transplant(PooledStore from, WritingSession into, CancellationToken cancel) : IDisposable
{
    private readonly ChunkReader reader = from.NewTreeReader();
    private readonly WritingSession.Lane lane = into.OpenLane();

    /// <summary>Stores the content of a file whole, and says where it lies.</summary>
    public ContentRef File(TreeEntry file)
    {
        var ids = new List<ChunkId>();
        Cut(file, content => ids.Add(lane.Put(content)));
        return lane.Refer(ids);
    }

    /// <summary>Stores of a file only the wanted chunks, which leave the set as they are met.</summary>
    public void Only(TreeEntry file, ISet<ChunkId> wanted, Func<ReadOnlySpan<byte>, ChunkId> identity) => Cut(file, content =>
        {
            if (wanted.Remove(identity(content)))
                lane.Put(content);
        });

    /// <summary>
    /// Stores a folder's listing with everything below it; goes down without calling itself, for a tree may be tens of thousands of folders
    /// deep.
    /// </summary>
    public ContentRef Folder(ContentRef listing)
    {
        var open = new Stack<(IEnumerator<TreeEntry> Entries, ListingWriter Writer)>([
            (from.EnumerateFolder(listing).GetEnumerator(), new ListingWriter()),
        ]);
        while (true)
        {
            cancel.ThrowIfCancellationRequested();
            var (entries, writer) = open.Peek();
            if (entries.MoveNext())
            {
                var entry = entries.Current;
                if (entry.Kind == EntryKind.Folder)
                    open.Push((from.EnumerateFolder(entry.Content).GetEnumerator(), new ListingWriter()));
                else
                    writer.Add(entry.Kind == EntryKind.File ? entry with { Content = File(entry) } : entry, into);
                continue;
            }
            open.Pop();
            var content = writer.Finish(into);
            if (open.Count == 0)
                return content;
            var (above, aboveWriter) = open.Peek();
            aboveWriter.Add(above.Current with { Content = content }, into);
        }
    }

    public void Dispose() => reader.Dispose();

    private void Cut(TreeEntry file, CutStream.Chunk take)
    {
        var stream = new CutStream(file.Extents is { } stretches ? stretches.Sum(e => e.Length) : file.Size, take);
        FileBytes.Each(reader, file, (content, _) => stream.Add(content), cancel);
        stream.End();
    }
}
