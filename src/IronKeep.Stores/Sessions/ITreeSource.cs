using IronKeep.Stores.Chunks;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// Where the trees of copies are read: a pooled store that is at hand, or one that somebody else has at hand. Absence and damage are
/// <see cref="StoreDamageException"/>.
/// </summary>
public interface ITreeSource
{
    /// <summary>How many threads should read at once.</summary>
    int Readers { get; }

    /// <summary>A source for one thread that goes through trees.</summary>
    IChunkSource OpenTree();

    /// <summary>The entries of a folder whose listing is stored as the given content, chunk by chunk: it may hold millions.</summary>
    IEnumerable<TreeEntry> EnumerateFolder(ContentRef content);
}

/// <summary>Reads what a folder's listing consists of.</summary>
public static class Listings
{
    /// <summary>At least 32 KiB each: 16 GiB of names.</summary>
    private const int Most = 512 * 1024;

    /// <summary>The identities of a folder's listing; more than any folder needs is a <see cref="StoreDamageException"/>.</summary>
    public static List<ChunkId> ListingIds(this IChunkSource source, ContentRef content)
    {
        var ids = new List<ChunkId>();
        foreach (var id in source.Ids(content))
        {
            if (ids.Count == Most)
                throw new StoreDamageException("a folder's listing is longer than any folder needs");
            ids.Add(id);
        }
        return ids;
    }
}
