using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>Long lists of identities as chunks, and lists of those, until few enough are left.</summary>
public static class IdLists
{
    private const int Least = 256,
        Most = 4096;

    /// <summary>Puts away one list and gives its identity.</summary>
    public delegate ChunkId PutList(ReadOnlySpan<byte> list);

    /// <summary>The reference to content of these chunks.</summary>
    public static ContentRef Refer(IReadOnlyList<ChunkId> ids, PutList put)
    {
        var depth = 0;
        for (; ids.Count > ContentRef.MostDirect; depth++)
            ids = Lists(ids, put);
        return new ContentRef(depth, [.. ids]);
    }

    /// <summary>The identities of the content's chunks in their order, lists resolved as they are come to.</summary>
    public static IEnumerable<ChunkId> Resolve(ContentRef content, IChunkSource source)
    {
        if (content.Depth == 0)
        {
            foreach (var id in content.Ids)
                yield return id;
            yield break;
        }
        if (content.Depth is < 0 or > ContentRef.MostDepth)
            throw new StoreDamageException("a reference to content is nested deeper than any content needs");
        foreach (var list in content.Ids)
        foreach (var id in Resolve(new ContentRef(content.Depth - 1, IdsIn(list, source)), source))
            yield return id;
    }

    private static ImmutableArray<ChunkId> IdsIn(ChunkId list, IChunkSource source)
    {
        var bytes = source.Read(list);
        if (bytes.Length % ChunkId.Size != 0)
            throw new StoreDamageException($"chunk {list} should be a list of identities and is not");
        var ids = ImmutableArray.CreateBuilder<ChunkId>(bytes.Length / ChunkId.Size);
        for (var at = 0; at < bytes.Length; at += ChunkId.Size)
            ids.Add(ChunkId.Read(bytes[at..]));
        return ids.MoveToImmutable();
    }

    // Cut where an identity chooses, so that a change in the middle of a large file changes one list.
    private static List<ChunkId> Lists(IReadOnlyList<ChunkId> ids, PutList put)
    {
        var lists = new List<ChunkId>();
        var bytes = new RecordBuffer();
        for (var i = 0; i < ids.Count; i++)
        {
            ids[i].Write(bytes.Take(ChunkId.Size));
            var count = bytes.Length / ChunkId.Size;
            if (i + 1 < ids.Count && count < Most && (count < Least || (ids[i].D & 0x3FF) != 0))
                continue;
            lists.Add(put(bytes.Written));
            bytes.Clear();
        }
        return lists;
    }
}
