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
