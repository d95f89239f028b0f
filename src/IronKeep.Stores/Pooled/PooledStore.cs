using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// A store in the pooled layout: deduplicated, compressed chunks in packs, and a record per copy. Open it once per process; all
/// members are safe for several threads. The format is documented in docs/store-format.md. Errors: <see cref="PlaceException"/>
/// when the place fails, <see cref="StoreDamageException"/> when bytes are not what was written.
/// </summary>
public sealed class PooledStore : IDisposable
{
    private const string CopiesFolder = "copies";
    private const string BinFolder = "bin";
    private const string RecordEnding = ".copy";
    private const string BinTimeFormat = "yyyyMMdd'T'HHmmss'Z'";

    private readonly IDisposable claim;
    private readonly Lock gate = new();
    private int inside;
    private bool reclaiming;

    private PooledStore(IPlace place, StoreHead head, IDisposable claim)
    {
        Place = place;
        Head = head;
        this.claim = claim;
        Index = new ChunkIndex(place);
        Reader = new ChunkReader(place, Index);
    }

    public StoreHead Head { get; }
    public IPlace Place { get; }
    internal ChunkIndex Index { get; }
    internal ChunkReader Reader { get; }

    /// <summary>Whether a store's head lies at the place.</summary>
    public static bool IsAt(IPlace place) => place.Exists(StoreHead.FileName);

    /// <summary>Makes a new, empty store at an empty place.</summary>
    public static void Create(IPlace place, DateTimeOffset now)
    {
        if (place.List("").Any())
            throw new PlaceException(PlaceFault.Other, $"{place.Name} is not empty and holds no store; give the store an empty folder");
        place.Write(StoreHead.FileName, StoreHead.New(now).ToBytes());
    }

    /// <summary>Opens the store for reading and writing, and keeps other writers out until disposed.</summary>
    public static PooledStore Open(IPlace place)
    {
        var claim = place.Claim();
        try
        {
            var store = new PooledStore(place, ReadHead(place), claim);
            place.RemoveRemnants();
            store.Index.Refresh();
            return store;
        }
        catch
        {
            claim.Dispose();
            throw;
        }
    }

    /// <summary>The size of all files of the store, in bytes.</summary>
    public long UsedBytes() => Place.List("").Sum(f => f.Size);

    /// <summary>Whether the store holds every chunk of the content.</summary>
    public bool HasAll(ImmutableArray<ChunkId> content)
    {
        foreach (var id in content)
            if (!Index.Contains(id)) return false;
        return true;
    }

    /// <summary>The proven bytes of one chunk.</summary>
    public byte[] ReadChunk(ChunkId id) => Reader.Read(id);

    /// <summary>The entries of a folder whose listing is stored in the given chunks.</summary>
    public List<TreeEntry> ReadFolder(ImmutableArray<ChunkId> content)
    {
        if (content.Length == 1) return FolderListing.Read(Reader.Read(content[0]));
        using var bytes = new MemoryStream();
        foreach (var id in content) bytes.Write(Reader.Read(id));
        return FolderListing.Read(bytes.GetBuffer().AsSpan(0, (int)bytes.Length));
    }

    /// <summary>Begins to write a copy. Also brings the index in line with the packs that are really there.</summary>
    public WritingSession BeginWriting()
    {
        var stay = Enter();
        try
        {
            CheckStillThere();
            Index.Refresh();
            return new WritingSession(this, stay);
        }
        catch
        {
            stay.Dispose();
            throw;
        }
    }

    /// <summary>Keeps reclaiming out until disposed; many may be in at once.</summary>
    internal IDisposable Enter()
    {
        lock (gate)
        {
            if (reclaiming) throw new PlaceException(PlaceFault.InUse, $"the store at {Place.Name} is being reclaimed; wait until that is done");
            inside++;
        }
        return new Release(() =>
        {
            lock (gate) inside--;
        });
    }

    /// <summary>Keeps writers out while packs are removed; refused while somebody writes, because his chunks have no record yet.</summary>
    internal IDisposable BeginReclaiming()
    {
        lock (gate)
        {
            if (inside > 0 || reclaiming) throw new PlaceException(PlaceFault.InUse, $"the store at {Place.Name} is being written or checked; reclaim when that is done");
            reclaiming = true;
        }
        return new Release(() =>
        {
            lock (gate) reclaiming = false;
        });
    }

    /// <summary>Proves that the place still holds this very store: a lost mount leaves an empty folder behind.</summary>
    public void CheckStillThere()
    {
        if (!IsAt(Place))
            throw new PlaceException(PlaceFault.Unreachable, $"the store at {Place.Name} is not there (no {StoreHead.FileName}); mount it or restore its path");
        var head = ReadHead(Place);
        if (head.Id != Head.Id) throw new PlaceException(PlaceFault.Unreachable, $"another store ({head.Id}) lies at {Place.Name}; bring back the store {Head.Id}");
    }

    /// <summary>All copies that have a record, those in the bin with the instant (UTC) at which they went there; unreadable records by file name.</summary>
    public StoreContents ReadContents()
    {
        CheckStillThere();
        var copies = new List<StoredCopy>();
        var damaged = new List<DamagedRecord>();
        foreach (var file in Place.List(CopiesFolder).Concat(Place.List(BinFolder)).Where(f => f.Name.EndsWith(RecordEnding, StringComparison.Ordinal)))
        {
            var (id, binned) = ReadFileName(file.Name);
            try
            {
                copies.Add(new StoredCopy(CopyRecord.FromBytes(Place.Read(file.Name), file.Name), binned));
            }
            catch (StoreDamageException e)
            {
                damaged.Add(new DamagedRecord(id, e.Message));
            }
        }
        return new StoreContents([.. copies.OrderBy(c => c.Record.Taken)], [.. damaged]);
    }

    /// <summary>The record of a copy, in the bin or not; null when there is none.</summary>
    public CopyRecord? ReadRecord(string id) =>
        FindRecordFile(id) is { } file ? CopyRecord.FromBytes(Place.Read(file), file) : null;

    /// <summary>Sends a copy to the bin. One that is there already stays as it is; false when the copy does not exist.</summary>
    public bool MoveToBin(string id, DateTimeOffset now)
    {
        CheckStillThere();
        if (FindRecordFile(id) is not { } file) return false;
        if (file.StartsWith(BinFolder, StringComparison.Ordinal)) return true;
        Place.Move(file, $"{BinFolder}/{now.UtcDateTime.ToString(BinTimeFormat, CultureInfo.InvariantCulture)}-{id}{RecordEnding}");
        return true;
    }

    /// <summary>Takes a copy back out of the bin. One that is not there stays as it is; false when the copy does not exist.</summary>
    public bool TakeBack(string id)
    {
        CheckStillThere();
        if (FindRecordFile(id) is not { } file) return false;
        if (file.StartsWith(BinFolder, StringComparison.Ordinal)) Place.Move(file, $"{CopiesFolder}/{id}{RecordEnding}");
        return true;
    }

    /// <summary>The sizes (bytes) of all packs by name.</summary>
    public IReadOnlyDictionary<string, long> PackSizes() =>
        Place.List(ChunkIndex.Folder).Where(f => ChunkIndex.IsPack(f.Name)).ToDictionary(f => ChunkIndex.PackOf(f.Name), f => f.Size);

    internal void WriteRecord(CopyRecord record)
    {
        CheckStillThere();
        if (FindRecordFile(record.Id) is not null) throw new PlaceException(PlaceFault.Other, $"a copy {record.Id} exists already");
        Place.Write($"{CopiesFolder}/{record.Id}{RecordEnding}", record.ToBytes());
    }

    internal void DeleteRecord(string id)
    {
        if (FindRecordFile(id) is { } file) Place.Delete(file);
    }

    private string? FindRecordFile(string id)
    {
        var plain = $"{CopiesFolder}/{id}{RecordEnding}";
        if (Place.Exists(plain)) return plain;
        foreach (var file in Place.List(BinFolder))
            if (file.Name.EndsWith($"-{id}{RecordEnding}", StringComparison.Ordinal) && ReadFileName(file.Name).Id == id) return file.Name;
        return null;
    }

    private static (string Id, DateTimeOffset? Binned) ReadFileName(string file)
    {
        var name = Path.GetFileNameWithoutExtension(file);
        if (!file.StartsWith(BinFolder + "/", StringComparison.Ordinal)) return (name, null);
        var dash = name.IndexOf('-', StringComparison.Ordinal);
        return dash > 0 && DateTimeOffset.TryParseExact(name[..dash], BinTimeFormat, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var binned)
            ? (name[(dash + 1)..], binned)
            : (name, DateTimeOffset.MaxValue);
    }

    private static StoreHead ReadHead(IPlace place)
    {
        if (!IsAt(place))
            throw new PlaceException(PlaceFault.Unreachable, $"there is no store at {place.Name} (no {StoreHead.FileName}); mount it or restore its path");
        return StoreHead.FromBytes(place.Read(StoreHead.FileName), place.Name);
    }

    public void Dispose() => claim.Dispose();

    private sealed class Release(Action action) : IDisposable
    {
        public void Dispose() => action();
    }
}

/// <summary>A copy in a store; <paramref name="Binned"/> is the instant (UTC) at which it went to the bin, or null.</summary>
public sealed record StoredCopy(CopyRecord Record, DateTimeOffset? Binned);

/// <summary>A copy whose record cannot be read.</summary>
public sealed record DamagedRecord(string CopyId, string Problem);

/// <summary>What a store holds, oldest copy first.</summary>
public sealed record StoreContents(ImmutableArray<StoredCopy> Copies, ImmutableArray<DamagedRecord> Damaged);
