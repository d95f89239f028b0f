using System.Buffers.Binary;
using System.Collections.Immutable;
using System.Security.Cryptography;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Plain;

/// <summary>Where a chunk begins, in raw bytes of the archive or of the listing beside it, and its length.</summary>
internal readonly record struct Spot(bool IsListing, long Offset, int Length);

/// <summary>
/// What of a copy lies where: the file "index" beside its archive, by which single files are read without all before them. The archive can
/// be read without it. Numbers are little-endian; docs/store-format.md describes it.
/// </summary>
internal sealed class PlainIndex(Pieces archive, Pieces listing, IReadOnlyDictionary<ChunkId, Spot> spots)
{
    private const int Entry = ChunkId.Size + 12;
    private const long Listing = 1L << 62;
    private const int MostStarts = 64 * 1024 * 1024;

    private static ReadOnlySpan<byte> Magic => "IKPLAIN1"u8;

    public Pieces Archive => archive;
    public Pieces InListing => listing;

    public bool TryGet(ChunkId id, out Spot spot) => spots.TryGetValue(id, out spot);

    /// <summary>Writes it and says which file it is.</summary>
    public CopyFile Write(IPlace place, string folder)
    {
        using var file = place.Create(spots.Count * (long)Entry);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        long length = 0;
        Put(Magic);
        foreach (var pieces in (Pieces[])[archive, listing])
        {
            Number(pieces.Raw);
            Number(pieces.Files.Length);
            foreach (var piece in pieces.Files)
                Number(piece.Bytes);
            Number(pieces.Starts.Length);
            foreach (var start in pieces.Starts)
                Number(start);
        }
        Number(spots.Count);
        Span<byte> entry = stackalloc byte[Entry];
        foreach (var (id, spot) in spots)
        {
            id.Write(entry);
            BinaryPrimitives.WriteInt64LittleEndian(entry[ChunkId.Size..], spot.Offset | (spot.IsListing ? Listing : 0));
            BinaryPrimitives.WriteInt32LittleEndian(entry[(ChunkId.Size + 8)..], spot.Length);
            Put(entry);
        }
        file.Finish($"{folder}/{PlainFiles.Index}");
        return new CopyFile(PlainFiles.Index, length, Convert.ToHexStringLower(hash.GetHashAndReset()));

        void Number(long number)
        {
            Span<byte> bytes = stackalloc byte[8];
            BinaryPrimitives.WriteInt64LittleEndian(bytes, number);
            Put(bytes);
        }

        void Put(ReadOnlySpan<byte> bytes)
        {
            file.Append(bytes);
            hash.AppendData(bytes);
            length += bytes.Length;
        }
    }

    /// <summary>Reads that of a copy; anything else than what its record names is a <see cref="StoreDamageException"/>.</summary>
    public static PlainIndex Read(IPlace place, string folder, CopyRecord record)
    {
        var name = $"{folder}/{PlainFiles.Index}";
        var file = record.Files.FirstOrDefault(f => f.Name == PlainFiles.Index);
        if (file is null || file.Bytes is < 8 or > int.MaxValue)
            throw new StoreDamageException($"the record of copy {record.Id} names no index that can be read");
        // What the record says is believed once the file is there with that length.
        var there = place.List(folder).FirstOrDefault(f => f.Name == name);
        if (there.Name is not null && there.Size != file.Bytes)
            throw new StoreDamageException(
                $"{name} has {there.Size} bytes instead of {file.Bytes}; the archive beside it can be unpacked without it"
            );
        var bytes = new byte[there.Name is null ? 0 : file.Bytes];
        try
        {
            if (there.Name is null)
                throw new PlaceException(PlaceFault.NotFound, $"{name} is not there");
            if (place.ReadAt(name, 0, bytes) != bytes.Length)
                throw new StoreDamageException($"{name} is shorter than it was written");
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
        {
            throw new StoreDamageException($"{name} is not there; the archive beside it can be unpacked without it", e);
        }
        if (Convert.ToHexStringLower(SHA256.HashData(bytes)) != file.Sha256)
            throw new StoreDamageException($"{name} is not what was written; the archive beside it can be unpacked without it");
        var at = Magic.Length;
        if (!bytes.AsSpan(0, at).SequenceEqual(Magic))
            throw new StoreDamageException($"{name} is no index that this program knows");
        var archive = PiecesOf(PlainFiles.Archive + ".");
        var listing = PiecesOf(PlainFiles.Listing + ".");
        var count = Number(int.MaxValue / Entry);
        Need(Entry * count);
        var spots = new Dictionary<ChunkId, Spot>((int)count);
        for (var i = 0; i < count; i++, at += Entry)
        {
            var offset = BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(at + ChunkId.Size));
            var length = BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(at + ChunkId.Size + 8));
            if (length is < 0 or > ContentCutter.Most)
                throw new StoreDamageException($"{name} names a chunk that is longer than any");
            spots[ChunkId.Read(bytes.AsSpan(at))] = new Spot((offset & Listing) != 0, offset & ~Listing, length);
        }
        return new PlainIndex(archive, listing, spots);

        Pieces PiecesOf(string start)
        {
            var raw = Number(long.MaxValue);
            var files = record.Files.Where(f => f.Name.StartsWith(start, StringComparison.Ordinal)).ToImmutableArray();
            if (Number(int.MaxValue) != files.Length)
                throw new StoreDamageException($"{name} does not fit the record of copy {record.Id}");
            foreach (var piece in files)
                if (Number(long.MaxValue) != piece.Bytes)
                    throw new StoreDamageException($"{name} does not fit the record of copy {record.Id}");
            var frames = Number(MostStarts);
            Need(8 * frames);
            var starts = new long[frames];
            for (var i = 0; i < starts.Length; i++)
                starts[i] = Number(long.MaxValue);
            return new Pieces(files, [.. starts], raw);
        }

        long Number(long most)
        {
            Need(8);
            var number = BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(at));
            at += 8;
            return number >= 0 && number <= most ? number : throw new StoreDamageException($"{name} holds a number that cannot be");
        }

        void Need(long length)
        {
            if (bytes.Length - at < length)
                throw new StoreDamageException($"{name} ends too early");
        }
    }
}
