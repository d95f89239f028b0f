using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Fetching;

/// <summary>
/// The way to whoever has the store at hand, for the reading of one copy. Several threads may ask at once. A line that breaks for good is
/// an <see cref="IOException"/>.
/// </summary>
public interface IFetchLink
{
    /// <summary>Asks for chunks and gives the answer (both <see cref="WireAsk"/>).</summary>
    byte[] Fetch(ReadOnlyMemory<byte> asked);
}

/// <summary>The trees of a copy that somebody else has at hand. An answer that is none is an <see cref="InvalidDataException"/>.</summary>
public sealed class FetchedTrees(IFetchLink link) : ITreeSource
{
    /// <summary>More than there are cores: a line has its delays, and others can use them.</summary>
    public int Readers => 4;

    public IChunkSource OpenTree() => new FetchingSource(link);

    public IEnumerable<TreeEntry> EnumerateFolder(ContentRef content)
    {
        using var source = new FetchingSource(link);
        var order = new ListingOrder();
        foreach (var id in source.ListingIds(content))
        foreach (var entry in FolderListing.Read(source.ReadListing(id)))
        {
            order.Next(entry.Name);
            yield return entry;
        }
    }
}
