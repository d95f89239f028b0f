using IronKeep.Stores.Chunks;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Writes a folder's listing: records in the order of their names, cut into chunks where the names say. Not for two threads at once.
/// </summary>
public sealed class ListingWriter
{
    private readonly RecordBuffer chunk = RecordBuffer.Rent();
    private readonly List<ChunkId> chunks = [];

    /// <summary>Adds a record with its length in front.</summary>
    public void Add(ReadOnlySpan<byte> record, ReadOnlySpan<byte> name, ICopySession session)
    {
        Begin();
        chunk.Append(record);
        if (FolderListing.EndsBehind(name, chunk.Length))
            Cut(session);
    }

    public void Add(TreeEntry entry, ICopySession session)
    {
        Begin();
        EntryRecord.Write(chunk, entry);
        if (FolderListing.EndsBehind(entry.Name, chunk.Length))
            Cut(session);
    }

    /// <summary>Ends the listing; nothing may be added any more.</summary>
    public ContentRef Finish(ICopySession session)
    {
        Cut(session);
        chunk.Return();
        var listings = session.Listings;
        lock (listings)
            return listings.Refer(chunks);
    }

    private void Begin()
    {
        if (chunk.Length == 0)
            chunk.Append([FolderListing.Version]);
    }

    private void Cut(ICopySession session)
    {
        if (chunk.Length == 0)
            return;
        var listings = session.Listings;
        lock (listings)
            chunks.Add(listings.Put(chunk.Written, listings.IdOf(chunk.Written)));
        chunk.Clear();
    }
}
