using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Fetching;

/// <summary>
/// Fetches chunks over a link, together with those that are expected next, so that small files do not wait for the line one by one. For one
/// thread.
/// </summary>
internal sealed class FetchingSource(IFetchLink link) : IChunkSource
{
    /// <summary>What is at hand at most (bytes); an answer fits into it.</summary>
    private const long MostHeld = 3L * WireAsk.AnswerUntil;
    private readonly Dictionary<(WireKind Kind, ChunkId Id), (bool There, byte[] Content)> held = [];
    private readonly Queue<(WireKind, ChunkId)> oldest = new();
    private readonly Stack<ChunkId> expected = new();
    private readonly HashSet<ChunkId> expecting = [];
    private readonly Zstd zstd = new();
    private long bytes;

    public ReadOnlySpan<byte> Read(ChunkId id) => Read(WireKind.Content, id);

    public ReadOnlySpan<byte> ReadListing(ChunkId id) => Read(WireKind.Listing, id);

    public IEnumerable<ChunkId> Ids(ContentRef content)
    {
        if (content.Depth is < 0 or > ContentRef.MostDepth)
            throw new StoreDamageException("a reference to content is nested deeper than any content needs");
        return content.Depth == 0
            ? content.Ids
            : content.Ids.SelectMany(list => Ids(new ContentRef(content.Depth - 1, List(list, content.Depth))));
    }

    public void Expect(IEnumerable<ChunkId> ids)
    {
        expected.Clear();
        expecting.Clear();
        Next(ids.ToList());
    }

    public void Dispose() => zstd.Dispose();

    private void Next(IReadOnlyList<ChunkId> ids)
    {
        for (var i = ids.Count - 1; i >= 0; i--)
            if (expecting.Add(ids[i]))
                expected.Push(ids[i]);
    }

    private System.Collections.Immutable.ImmutableArray<ChunkId> List(ChunkId list, int depth)
    {
        var content = Read(WireKind.List, list);
        if (content.Length % ChunkId.Size != 0)
            throw new StoreDamageException($"chunk {list} should be a list of identities and is not");
        var ids = System.Collections.Immutable.ImmutableArray.CreateBuilder<ChunkId>(content.Length / ChunkId.Size);
        for (var at = 0; at < content.Length; at += ChunkId.Size)
            ids.Add(ChunkId.Read(content[at..]));
        if (depth == 1)
            Next(ids);
        return ids.MoveToImmutable();
    }

    private ReadOnlySpan<byte> Read(WireKind kind, ChunkId id)
    {
        if (!held.TryGetValue((kind, id), out var found))
        {
            Fetch(kind, id);
            found = held[(kind, id)];
        }
        return found.There ? found.Content : throw new StoreDamageException(System.Text.Encoding.UTF8.GetString(found.Content));
    }

    private void Fetch(WireKind kind, ChunkId id)
    {
        // What was expected before it is not wanted after all: it is there already, for example.
        if (kind == WireKind.Content && expecting.Contains(id))
            while (expected.Peek() != id)
                expecting.Remove(expected.Pop());
        var ids = new List<ChunkId> { id };
        if (kind == WireKind.Content)
            while (ids.Count < WireAsk.Most && expected.TryPop(out var next))
            {
                expecting.Remove(next);
                if (next != id && !held.ContainsKey((kind, next)))
                    ids.Add(next);
            }
        var asked = new byte[ids.Count * WireAsk.Size];
        for (var i = 0; i < ids.Count; i++)
            WireAsk.Write(asked.AsSpan(i * WireAsk.Size), kind, ids[i]);
        var given = WireAsk.Read(link.Fetch(asked), ids.Count, zstd);
        if (given.Count == 0)
            throw new InvalidDataException("what was answered holds none of the chunks that were asked for");
        for (var i = 0; i < given.Count; i++)
            Hold((kind, ids[i]), given[i]);
        Next(ids[given.Count..]);
    }

    private void Hold((WireKind, ChunkId) id, (bool There, byte[] Content) given)
    {
        if (held.TryAdd(id, given))
        {
            oldest.Enqueue(id);
            bytes += given.Content.Length;
        }
        while (bytes > MostHeld && held.Remove(oldest.Dequeue(), out var gone))
            bytes -= gone.Content.Length;
    }
}
