using System.Buffers;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>
/// The listing of a folder in the previous copy, gone through once in the order of names. Only a few chunks of it are in memory.
/// </summary>
internal sealed class PreviousListing
{
    private readonly List<ChunkId> chunks;
    private readonly Action<string> unreadable;

    /// <summary>How many files the previous copy had under names that are not here any more.</summary>
    public long Gone { get; private set; }
    private Segment? segment;
    private int chunk,
        at,
        recordStart,
        recordLength;

    private PreviousListing(List<ChunkId> chunks, Action<string> unreadable) => (this.chunks, this.unreadable) = (chunks, unreadable);

    /// <summary>Null when the listing cannot be read; that is told, and everything is read anew.</summary>
    public static PreviousListing? Of(ContentRef content, IChunkSource reader, Action<string> unreadable)
    {
        try
        {
            return new PreviousListing([.. reader.Ids(content)], unreadable);
        }
        catch (StoreDamageException e)
        {
            unreadable(e.Message);
            return null;
        }
    }

    /// <summary>Gives each name of the window the record of that name. Windows come in the order of names.</summary>
    public void Match(Window window, IChunkSource reader)
    {
        for (var i = window.From; i < window.To; i++)
        {
            var name = window.NameAt(i);
            while (true)
            {
                if (recordLength == 0 && !Next(reader))
                    return;
                var from = segment!.Bytes.Slice(recordStart, recordLength);
                var record = EntryRecord.Take(ref from);
                var order = EntryRecord.NameOf(record).SequenceCompareTo(name);
                if (order > 0)
                    break;
                if (order == 0)
                    window.SetBefore(i, segment, recordStart, recordLength);
                else
                    Count(record);
                recordLength = 0;
                if (order == 0)
                    break;
            }
        }
    }

    /// <summary>Counts what follows the last name that is here.</summary>
    public void Finish(IChunkSource reader)
    {
        for (; recordLength > 0 || Next(reader); recordLength = 0)
        {
            var from = segment!.Bytes.Slice(recordStart, recordLength);
            Count(EntryRecord.Take(ref from));
        }
    }

    private void Count(ReadOnlySpan<byte> record) =>
        Gone += EntryRecord.KindOf(record) switch
        {
            EntryKind.Folder => EntryRecord.ItemsOf(record),
            EntryKind.File => 1,
            _ => 0,
        };

    private bool Next(IChunkSource reader)
    {
        try
        {
            while (segment is null || at >= segment.Bytes.Length)
            {
                segment?.Release();
                segment = null;
                if (chunk >= chunks.Count)
                    return false;
                segment = new Segment(reader.Read(chunks[chunk++]));
                at = segment.Bytes.Length - FolderListing.Records(segment.Bytes).Length;
            }
            var from = segment.Bytes[at..];
            var before = from.Length;
            EntryRecord.Take(ref from);
            recordStart = at;
            recordLength = before - from.Length;
            at += recordLength;
            return true;
        }
        catch (StoreDamageException e)
        {
            unreadable(e.Message);
            (chunk, segment) = (chunks.Count, null);
            return false;
        }
    }
}

/// <summary>
/// A chunk of a listing in lent memory, which goes back when the last window that refers to it is done. A million names would else leave as
/// much garbage as they have bytes.
/// </summary>
internal sealed class Segment
{
    private readonly byte[] lent;
    private readonly int length;
    private int users = 1;

    public Segment(ReadOnlySpan<byte> content)
    {
        lent = ArrayPool<byte>.Shared.Rent(content.Length);
        length = content.Length;
        content.CopyTo(lent);
    }

    public ReadOnlySpan<byte> Bytes => lent.AsSpan(0, length);

    public void Use() => Interlocked.Increment(ref users);

    public void Release()
    {
        if (Interlocked.Decrement(ref users) == 0)
            ArrayPool<byte>.Shared.Return(lent);
    }
}
