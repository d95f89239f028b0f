using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Core.Dated;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>
/// The writing of one plain copy: the content of files goes into the archive as it comes, folders, links and devices follow at the end,
/// with a list of what is gone since the copy that this one stands on. Everything is durable before the record.
/// </summary>
internal sealed class PlainSession : ICopySession
{
    private readonly PlainStore store;
    private readonly CopyPlan plan;
    private readonly Lease lease;
    private readonly string folder;
    private readonly PieceWriter archive,
        listing;
    private readonly PaxWriter pax;
    private readonly SumsFile manifest;
    private readonly Lane content;
    private readonly Dictionary<ChunkId, Spot> spots = [];
    private readonly Dictionary<(ulong Device, ulong Inode), (byte[] Path, TreeEntry Entry)> linked = [];
    private readonly IReadOnlyList<CopyRecord> below;
    private readonly PlainTrees earlier;
    private readonly List<byte[]> broken = [];
    private Coming? coming;
    private (byte[]? Path, byte[]? Sum) last;
    private long newBytes;
    private bool committed;

    /// <summary>The file that comes now, with what of its content came so far, and its sum as it will be unpacked.</summary>
    private sealed class Coming(byte[] path, TreeEntry entry, ImmutableArray<Extent>? extents) : IDisposable
    {
        private static readonly byte[] Zeros = new byte[64 * 1024];
        private readonly ImmutableArray<Extent> stretches = extents ?? [new Extent(0, entry.Size)];
        private int stretch;
        private long inside,
            hashed;

        public byte[] Path => path;
        public IncrementalHash Hash { get; } = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);

        /// <summary>Bytes of data that are still to come.</summary>
        public long Left { get; private set; } = extents is { } found ? found.Sum(e => e.Length) : entry.Size;

        public void Take(ReadOnlySpan<byte> bytes)
        {
            Left -= bytes.Length;
            while (bytes.Length > 0)
            {
                HolesUntil(stretches[stretch].Offset + inside);
                var part = bytes[..(int)Math.Min(bytes.Length, stretches[stretch].Length - inside)];
                Hash.AppendData(part);
                hashed += part.Length;
                inside += part.Length;
                bytes = bytes[part.Length..];
                if (inside == stretches[stretch].Length)
                    (stretch, inside) = (stretch + 1, 0);
            }
        }

        public byte[] Sum()
        {
            HolesUntil(entry.Size);
            return Hash.GetHashAndReset();
        }

        private void HolesUntil(long until)
        {
            while (hashed < until)
            {
                var part = (int)Math.Min(Zeros.Length, until - hashed);
                Hash.AppendData(Zeros, 0, part);
                hashed += part;
            }
        }

        public void Dispose() => Hash.Dispose();
    }

    public PlainSession(PlainStore store, CopyPlan plan, int level, Lease lease)
    {
        (this.store, this.plan, this.lease) = (store, plan, lease);
        folder = PlainStore.FolderOf(plan.CopyId);
        below = plan.Base is null ? [] : store.ChainOf(plan.Base);
        // Whoever reclaims leaves copies alone while somebody writes: from here on these stay, if none of them was leaving before.
        if (plan.Base is { } on && store.Records.ReadOne(on.Id) is not { Binned: null })
            throw new StoreDamageException($"copy {on.Id}, on which this one was to stand, is not in force any more; run again");
        earlier = new PlainTrees(store, below);
        var compressed = store.Shape.Compresses;
        archive = new PieceWriter(
            store.Place,
            PieceWriter.Named(folder, compressed ? PlainFiles.CompressedArchive : PlainFiles.Archive),
            store.Shape.PieceBytes,
            compressed ? level : 0
        );
        listing = new PieceWriter(store.Place, PieceWriter.Named(folder, PlainFiles.Listing), store.Shape.PieceBytes, Math.Max(1, level));
        pax = new PaxWriter(archive);
        manifest = new SumsFile(store.Place);
        (content, Listings) = (new Lane(this, ofContent: true), new Lane(this, ofContent: false));
    }

    public long NewBytes => Interlocked.Read(ref newBytes);
    public long StoredBytes => archive.Stored + listing.Stored;
    public IChunkLane Listings { get; }
    public bool TakesWholeFiles => true;
    public bool TakesEverything => plan.Kind == CopyKind.Full;

    public IChunkLane OpenLane() => content;

    public IChunkSource OpenSource() => earlier.OpenTree();

    public bool CountsOn(ChunkId id, int depth) => earlier.Has(id);

    // A file that changed goes into the archive whole: how it was cut before helps nothing.
    public int LengthOf(ChunkId id) => 0;

    public TreeEntry? BeginFile(ReadOnlySpan<byte> path, TreeEntry entry, ImmutableArray<Extent>? extents)
    {
        BreakOff();
        if (entry.Links > 1 && linked.TryGetValue((entry.Device, entry.Inode), out var first))
        {
            pax.Link(path, entry, first.Path);
            return first.Entry;
        }
        // Whoever unpacks has the last of several tries.
        if (!path.SequenceEqual(last.Path))
            SayLast();
        pax.Begin(path, entry, extents);
        coming = new Coming(path.ToArray(), entry, extents);
        return null;
    }

    public void EndFile(TreeEntry? entry)
    {
        if (coming is not { } file)
            throw new InvalidOperationException("no file was announced");
        // One that became shorter while it was read has the length that its header says; the run's log tells of it.
        Pad(file);
        last = (file.Path, file.Sum());
        if (entry?.Links > 1)
            linked[(entry.Device, entry.Inode)] = (file.Path, entry);
        file.Dispose();
        coming = null;
    }

    private void Pad(Coming file)
    {
        var zeros = new byte[64 * 1024];
        while (file.Left > 0)
        {
            var part = zeros.AsSpan(0, (int)Math.Min(zeros.Length, file.Left));
            file.Take(part);
            pax.Content(part);
        }
        pax.Fill();
    }

    /// <summary>A file that could not be read to its end is in no listing, but the archive has its begin: the README names it.</summary>
    private void BreakOff()
    {
        if (coming is not { } file)
            return;
        Pad(file);
        if (broken.Count <= PlainFiles.MostBroken)
            broken.Add(file.Path);
        file.Dispose();
        coming = null;
    }

    private void SayLast()
    {
        if (last.Sum is not null)
            manifest.Say(last.Sum, last.Path!);
        last = default;
    }

    private void Take(ReadOnlySpan<byte> bytes, ChunkId id)
    {
        if (coming is not { } file)
            throw new InvalidOperationException("content comes without a file");
        spots.TryAdd(id, new Spot(false, archive.Position, bytes.Length));
        file.Take(bytes);
        pax.Content(bytes);
        Interlocked.Add(ref newBytes, bytes.Length);
    }

    private void TakeListing(ReadOnlySpan<byte> bytes, ChunkId id)
    {
        if (spots.TryGetValue(id, out var there) && there.IsListing)
            return;
        spots[id] = new Spot(true, listing.Position, bytes.Length);
        listing.Write(bytes);
    }

    public CopyRecord Commit(CopyRecord record)
    {
        record = record with { Kind = plan.Kind, Base = plan.Base?.Id };
        BreakOff();
        SayLast();
        var lists = listing.Finish();
        var deletions = WriteRest(record, lists);
        pax.End();
        var pieces = archive.Finish();
        var files = new List<CopyFile>([.. pieces.Files, .. lists.Files, manifest.Finish($"{folder}/{PlainFiles.Manifest}")]);
        if (deletions is not null)
            files.Add(deletions);
        var sums = new StringBuilder();
        foreach (var file in pieces.Files)
            sums.Append(Encoding.UTF8.GetString(SumLine.Of(Convert.FromHexString(file.Sha256), Encoding.UTF8.GetBytes(file.Name))));
        files.Add(Small(PlainFiles.Sums, sums.ToString()));
        files.Add(new PlainIndex(pieces, lists, spots).Write(store.Place, folder));
        record = record with { NewBytes = NewBytes, StoredBytes = StoredBytes, OwnFiles = [.. files] };
        // The README says what the archive is called, which stands among the files.
        files.Add(Small(PlainFiles.Readme, PlainFiles.ReadmeOf([.. below.Reverse(), record], broken)));
        record = record with { OwnFiles = [.. files] };
        // Whoever took this one for dead has removed what it wrote.
        lease.Prove();
        store.Add(record);
        try
        {
            lease.Prove();
        }
        catch
        {
            store.Records.Delete(record.Id);
            throw;
        }
        committed = true;
        return record;
    }

    private CopyFile Small(string name, string text)
    {
        var bytes = Encoding.UTF8.GetBytes(text);
        store.Place.Write($"{folder}/{name}", bytes);
        return new CopyFile(name, bytes.Length, Convert.ToHexStringLower(SHA256.HashData(bytes)));
    }

    /// <summary>
    /// Writes what is no file, as far as it is other than before, and names what is gone. Folders that did not change in anything are not
    /// gone into.
    /// </summary>
    private CopyFile? WriteRest(CopyRecord record, Pieces lists)
    {
        using var now = new OwnListings(this, lists);
        using var gone = plan.Base is null ? null : new SumsFile(store.Place);
        var walk = new TwoTrees(now, plan.Base is null ? null : earlier);
        foreach (var (path, entry, was) in walk.Of(TreeWalk.RootOf(record), plan.Base is null ? null : TreeWalk.RootOf(plan.Base)))
        {
            if (was is not null && (entry is null || entry.Kind != was.Kind))
                gone!.Say([.. path.Span, 0]);
            if (entry is null or { Kind: EntryKind.File or EntryKind.Socket } || (was is not null && TwoTrees.Same(entry, was)))
                continue;
            if (entry is { Links: > 1, Kind: not EntryKind.Folder })
            {
                if (linked.TryGetValue((entry.Device, entry.Inode), out var first))
                {
                    pax.Link(path.Span, entry, first.Path);
                    continue;
                }
                linked[(entry.Device, entry.Inode)] = (path.ToArray(), entry);
            }
            pax.Begin(path.Span, entry);
        }
        return gone?.Finish($"{folder}/{PlainFiles.Deletions}");
    }

    public void Dispose()
    {
        archive.Dispose();
        listing.Dispose();
        manifest.Dispose();
        coming?.Dispose();
        if (!committed)
            GiveBack();
        lease.Dispose();
    }

    /// <summary>What was written without a record is of no use; where it cannot be removed now, reclaiming does.</summary>
    private void GiveBack()
    {
        try
        {
            store.RemoveFiles(plan.CopyId);
        }
        catch (PlaceException)
        {
            // The place is away, or hangs.
        }
    }

    /// <summary>The listings of the copy that is being written, which are whole already.</summary>
    private sealed class OwnListings(PlainSession session, Pieces lists) : ITreeSource, IChunkSource
    {
        private readonly PieceReader reader = new(session.store.Place, session.folder, lists);
        private readonly byte[] chunk = new byte[ContentCutter.Most];

        public int Readers => 1;

        public IChunkSource OpenTree() => this;

        public ReadOnlySpan<byte> Read(ChunkId id)
        {
            if (!session.spots.TryGetValue(id, out var spot) || !spot.IsListing)
                throw new StoreDamageException($"the listing {id} was not written");
            var bytes = chunk.AsSpan(0, spot.Length);
            reader.Read(spot.Offset, bytes);
            return bytes;
        }

        public IEnumerable<ChunkId> Ids(ContentRef content) => IdLists.Resolve(content, this);

        public IEnumerable<TreeEntry> EnumerateFolder(ContentRef content)
        {
            foreach (var id in this.ListingIds(content))
            foreach (var entry in FolderListing.Read(Read(id)))
                yield return entry;
        }

        public void Dispose() => reader.Dispose();
    }

    private sealed class Lane(PlainSession session, bool ofContent) : IChunkLane
    {
        public ChunkId IdOf(ReadOnlySpan<byte> content) => session.store.Keys.IdOf(content);

        public ChunkId Put(ReadOnlySpan<byte> content, ChunkId id)
        {
            if (ofContent)
                session.Take(content, id);
            else
                session.TakeListing(content, id);
            return id;
        }

        /// <summary>Lists of identities go with the listings: no part of any file.</summary>
        public ContentRef Refer(IReadOnlyList<ChunkId> ids)
        {
            lock (session.Listings)
                return IdLists.Refer(ids, list =>
                {
                    var id = IdOf(list);
                    session.TakeListing(list, id);
                    return id;
                });
        }

        public void Dispose()
        {
            // The session's own.
        }
    }
}

/// <summary>A file of the copy that grows line by line, with its sum.</summary>
internal sealed class SumsFile(IPlace place) : IDisposable
{
    private readonly IPlaceWriter file = place.Create(0);
    private readonly IncrementalHash hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private readonly MemoryStream waiting = new();
    private long length;

    /// <summary>A line with the sum of a file.</summary>
    public void Say(byte[] sum, byte[] path) => Say(SumLine.Of(sum, path));

    public void Say(ReadOnlySpan<byte> bytes)
    {
        waiting.Write(bytes);
        if (waiting.Length > 256 * 1024)
            Append();
    }

    public CopyFile Finish(string name)
    {
        Append();
        file.Finish(name);
        return new CopyFile(name[(name.LastIndexOf('/') + 1)..], length, Convert.ToHexStringLower(hash.GetHashAndReset()));
    }

    private void Append()
    {
        var bytes = waiting.GetBuffer().AsSpan(0, (int)waiting.Length);
        file.Append(bytes);
        hash.AppendData(bytes);
        length += bytes.Length;
        waiting.SetLength(0);
    }

    public void Dispose()
    {
        file.Dispose();
        hash.Dispose();
        waiting.Dispose();
    }
}
