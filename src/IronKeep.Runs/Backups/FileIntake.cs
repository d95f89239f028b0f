using System.Buffers;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Backups;

/// <summary>Reads content into a lane, cut by what it holds. One per worker, with one buffer for its life.</summary>
internal sealed class FileIntake(WritingSession.Lane lane, RunFigures figures) : IDisposable
{
    private readonly byte[] buffer = ArrayPool<byte>.Shared.Rent(4 * ContentCutter.Most);

    public WritingSession.Lane Lane => lane;

    public void Dispose() => ArrayPool<byte>.Shared.Return(buffer);

    /// <summary>
    /// Stores the content from <paramref name="from"/> to <paramref name="to"/> and gives the chunks. Content that became shorter ends
    /// where it ends; <paramref name="read"/> tells how far it went.
    /// </summary>
    public List<ChunkId> Take(FileContent content, long from, long to, out long read, CancellationToken cancel)
    {
        var ids = new List<ChunkId>();
        var offset = from;
        int start = 0, filled = 0;
        var ended = false;
        while (true)
        {
            if (!ended && filled - start < ContentCutter.Most)
            {
                if (start > 0)
                {
                    buffer.AsSpan(start, filled - start).CopyTo(buffer);
                    (start, filled) = (0, filled - start);
                }
                cancel.ThrowIfCancellationRequested();
                var wanted = (int)Math.Min(buffer.Length - filled, to - offset);
                var got = wanted == 0 ? 0 : content.Read(buffer.AsSpan(filled, wanted), offset);
                ended = got < wanted || offset + got >= to;
                offset += got;
                filled += got;
                figures.Bytes(got);
            }
            if (start == filled)
            {
                read = offset - from;
                return ids;
            }
            var cut = ContentCutter.NextCut(buffer.AsSpan(start, filled - start));
            ids.Add(lane.Put(buffer.AsSpan(start, cut)));
            start += cut;
        }
    }
}
