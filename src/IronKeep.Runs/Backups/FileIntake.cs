using System.Buffers;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Backups;

/// <summary>Reads content into a lane, cut by what it holds. One per worker, with one buffer for its life.</summary>
internal sealed class FileIntake(IChunkLane lane, RunFigures figures) : IDisposable
{
    // Only when there is something to read: most runs find little that is new.
    private byte[] buffer = [];

    public IChunkLane Lane => lane;

    public void Dispose()
    {
        if (buffer.Length > 0)
            ArrayPool<byte>.Shared.Return(buffer);
        buffer = [];
    }

    /// <summary>
    /// Stores the content from <paramref name="from"/> to <paramref name="to"/> and gives the chunks. Content that became shorter ends
    /// where it ends; <paramref name="read"/> tells how far it went. <paramref name="before"/> is how the content was cut before.
    /// </summary>
    public List<ChunkId> Take(IContentBytes content, long from, long to, CutsBefore? before, out long read, CancellationToken cancel)
    {
        if (buffer.Length == 0)
            buffer = ArrayPool<byte>.Shared.Rent(4 * ContentCutter.Most);
        var way = before?.Begin(from);
        var ids = new List<ChunkId>();
        var offset = from;
        int start = 0,
            filled = 0;
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
                figures.Move(got);
            }
            if (start == filled)
            {
                read = offset - from;
                return ids;
            }
            start += Chunk(buffer.AsSpan(start, filled - start), ids, way);
        }
    }

    /// <summary>Takes the chunk at the beginning of the data and gives its length.</summary>
    private int Chunk(ReadOnlySpan<byte> data, List<ChunkId> ids, CutsBefore.Walk? way)
    {
        if (way?.LengthIn(data.Length) is > 0 and var length && lane.IdOf(data[..length]) is var same && way.Is(same))
        {
            ids.Add(lane.Put(data[..length], same));
            return length;
        }
        var cut = ContentCutter.NextCut(data);
        var id = lane.Put(data[..cut], lane.IdOf(data[..cut]));
        ids.Add(id);
        way?.Found(id);
        return cut;
    }
}
