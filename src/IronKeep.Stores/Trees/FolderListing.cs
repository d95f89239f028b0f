using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Trees;

/// <summary>
/// A folder's entries as chunks: sorted by name, cut between entries at names that the bytes of the name choose, so that the same
/// entries give the same chunks and one changed entry changes one chunk.
/// </summary>
public static class FolderListing
{
    /// <summary>The first byte of every chunk of a listing.</summary>
    public const byte Version = 2;

    private const int Least = 32 * 1024;
    private const int Most = 512 * 1024;
    private const uint OneIn = 128;

    /// <summary>Whether a chunk of so many bytes ends behind an entry of this name.</summary>
    public static bool EndsBehind(ReadOnlySpan<byte> name, int length)
    {
        if (length < Least)
            return false;
        if (length >= Most)
            return true;
        // FNV-1a, 32 bits.
        var hash = 2166136261u;
        foreach (var b in name)
            hash = (hash ^ b) * 16777619u;
        return hash % OneIn == 0;
    }

    /// <summary>The records of one chunk of a listing.</summary>
    public static ReadOnlySpan<byte> Records(ReadOnlySpan<byte> chunk) =>
        chunk.Length > 0 && chunk[0] == Version
            ? chunk[1..]
            : throw new StoreDamageException("a folder's listing begins with an unknown version");

    /// <summary>
    /// Puts another identity in the place of each that one chunk of a listing names; <paramref name="to"/> is given each with the depth of
    /// the content. Anything that is no listing is a <see cref="StoreDamageException"/>.
    /// </summary>
    public static void Translate(Span<byte> chunk, Func<ChunkId, int, ChunkId> to)
    {
        var rest = Records(chunk);
        while (rest.Length > 0)
        {
            var from = chunk.Length - rest.Length;
            EntryRecord.Take(ref rest);
            // Its length stands in front.
            EntryRecord.Translate(chunk[(from + EntryRecord.LengthSize)..(chunk.Length - rest.Length)], to);
        }
    }

    /// <summary>
    /// The entries of one chunk of a listing; anything out of order is a <see cref="StoreDamageException"/>, never a wild read.
    /// </summary>
    public static List<TreeEntry> Read(ReadOnlySpan<byte> chunk)
    {
        var from = Records(chunk);
        var entries = new List<TreeEntry>();
        while (from.Length > 0)
            entries.Add(EntryRecord.Read(EntryRecord.Take(ref from)));
        return entries;
    }
}

/// <summary>
/// Holds that the names of a listing ascend, chunk after chunk. A listing that repeats itself, which a stranger can make a few bytes name
/// millions of times, is so found out at its second entry.
/// </summary>
internal sealed class ListingOrder
{
    private byte[]? last;

    public void Next(byte[] name)
    {
        if (last is not null && last.AsSpan().SequenceCompareTo(name) >= 0)
            throw new StoreDamageException("a folder's listing is not in the order of its names");
        last = name;
    }
}

/// <summary>Orders names as unsigned bytes, the order of memcmp.</summary>
public sealed class ByteOrder : IComparer<byte[]>, IEqualityComparer<byte[]>
{
    public static ByteOrder Instance { get; } = new();

    public int Compare(byte[]? x, byte[]? y) => x.AsSpan().SequenceCompareTo(y);

    public bool Equals(byte[]? x, byte[]? y) => x.AsSpan().SequenceEqual(y);

    public int GetHashCode(byte[] obj)
    {
        var hash = new HashCode();
        hash.AddBytes(obj);
        return hash.ToHashCode();
    }
}
