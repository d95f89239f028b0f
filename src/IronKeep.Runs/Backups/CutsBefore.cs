using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Backups;

/// <summary>
/// Where a file was cut in the previous copy. A cut depends on nothing but the bytes between it and the one before, so where a chunk
/// begins as one began before, and the bytes up to its end have the same identity, the search for the cut can be left out: of a large
/// file with a small change only the hashing remains.
/// </summary>
internal sealed class CutsBefore
{
    /// <summary>Files under this size (bytes) are cut anew; it costs less than looking up their chunks.</summary>
    private const long WorthIt = 4 * ContentCutter.Most;

    /// <summary>Memory for so many chunks is spent on one file, about 40 bytes each: a file of 200 GB and more is cut anew.</summary>
    private const int Most = 1_000_000;

    private readonly List<(ChunkId Id, int Length)> chunks = [];
    private readonly List<int> firstOf = [0];

    /// <summary>The cuts of a content that was stored before; null when they are not worth knowing or cannot be read.</summary>
    public static CutsBefore? Of(ContentRef content, long length, ICopySession session, IChunkSource reader)
    {
        if (length < WorthIt || content.Ids.Length == 0)
            return null;
        var cuts = new CutsBefore();
        long at = 0;
        try
        {
            foreach (var id in reader.Ids(content))
            {
                var size = session.LengthOf(id);
                if (size == 0 || cuts.chunks.Count == Most)
                    return null;
                cuts.chunks.Add((id, size));
                at += size;
                if (at % ContentCutter.Stretch == 0)
                    cuts.firstOf.Add(cuts.chunks.Count);
            }
        }
        catch (StoreDamageException)
        {
            return null;
        }
        return cuts;
    }

    /// <summary>The cuts of one stretch, which begins at a multiple of <see cref="ContentCutter.Stretch"/>.</summary>
    public Walk Begin(long from)
    {
        var stretch = (int)(from / ContentCutter.Stretch);
        return stretch < firstOf.Count
            ? new Walk(this, firstOf[stretch], stretch + 1 < firstOf.Count ? firstOf[stretch + 1] : chunks.Count)
            : new Walk(this, 0, 0);
    }

    /// <summary>The way through one stretch.</summary>
    public sealed class Walk(CutsBefore cuts, int first, int end)
    {
        private readonly Dictionary<ChunkId, int> places = Places(cuts, first, end);
        private int next = first;

        /// <summary>
        /// How long the next chunk was, or 0 when that is not known or does not fit what is there, in bytes. The last chunk ended because
        /// the content did, so it is one again only where the content ends again.
        /// </summary>
        public int LengthIn(int there)
        {
            if (next < 0 || next >= end)
                return 0;
            var length = cuts.chunks[next].Length;
            return length == there || length < there && next < end - 1 ? length : 0;
        }

        /// <summary>
        /// Whether the next chunk is the one it was; if not, the way is lost until <see cref="Found"/> meets one that was there before.
        /// </summary>
        public bool Is(ChunkId id)
        {
            if (cuts.chunks[next].Id == id)
            {
                next++;
                return true;
            }
            next = -1;
            return false;
        }

        /// <summary>Tells of a chunk that was cut anew.</summary>
        public void Found(ChunkId id) => next = places.TryGetValue(id, out var at) ? at + 1 : -1;

        private static Dictionary<ChunkId, int> Places(CutsBefore cuts, int first, int end)
        {
            var places = new Dictionary<ChunkId, int>(end - first);
            for (var i = end - 1; i >= first; i--)
                places[cuts.chunks[i].Id] = i;
            return places;
        }
    }
}
