using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>How a new store is made: its hash function, and the secret that opens it; without one the store does not encrypt.</summary>
public sealed record StoreMaking(HashKind Hash, Secret? Secret, string Label = "first key", Hardness? Hardness = null)
{
    public static StoreMaking Open { get; } = new(HashKind.Blake3, null);
}

/// <summary>
/// A store in the pooled layout: deduplicated, compressed, sealed chunks in packs, and a record per copy. Several processes may have
/// it open and write at once; readers never wait. All members are safe for several threads. The format is documented in
/// docs/store-format.md. Errors: <see cref="PlaceException"/> when the place fails, <see cref="StoreDamageException"/> when bytes are
/// not what was written, <see cref="StoreKeyException"/> when the secret does not open it.
/// </summary>
public sealed partial class PooledStore
{
    private readonly ReaderPool readers;
    private readonly Lock refreshing = new();
    private readonly SemaphoreSlim tending = new(1);

    private PooledStore(IPlace place, StoreHead head, StoreKeys keys, LeaseTerms terms)
    {
        (Place, Head, Keys, Terms) = (place, head, keys, terms);
        Index = new ChunkIndex(place, keys);
        Records = new RecordShelf(place, keys);
        readers = new ReaderPool(NewReader);
    }

    public StoreHead Head { get; }
    public IPlace Place { get; }

    /// <summary>Bytes of memory that the chunk index takes.</summary>
    public long IndexMemory => Index.Memory;

    internal StoreKeys Keys { get; }
    internal LeaseTerms Terms { get; }
    internal ChunkIndex Index { get; }
    internal RecordShelf Records { get; }

    /// <summary>
    /// What copies need that were written or found whole while the store is open: while that is there, they need not be walked.
    /// </summary>
    internal CopyNeeds Needs { get; } = new();

    /// <summary>Whether a store's head lies at the place.</summary>
    public static bool IsAt(IPlace place) => place.Exists(StoreHead.FileName);

    /// <summary>What the store at the place says of itself; no secret is needed.</summary>
    public static StoreHead ReadHead(IPlace place)
    {
        if (!IsAt(place))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"there is no store at {place.Name} (no {StoreHead.FileName}); mount it or restore its path"
            );
        return StoreHead.FromBytes(place.Read(StoreHead.FileName), place.Name);
    }

    /// <summary>Makes a new, empty store at an empty place.</summary>
    public static void Create(IPlace place, StoreMaking making, DateTimeOffset now)
    {
        if (!place.Can.Renames || !place.Can.PutsIfAbsent)
            throw new PlaceException(
                PlaceFault.Other,
                $"{place.Name} cannot rename files, or cannot refuse a name that is taken, and a pooled store needs both; choose another "
                    + $"place"
            );
        // What making one left behind when it was killed is in nobody's way, but for keys, which nobody can tell from those of a store that
        // lost its head.
        var there = place.List("").Where(f => f.Name != Ballast.FileName).ToList();
        if (there.Count > 0)
            throw new PlaceException(
                PlaceFault.Other,
                there.TrueForAll(f => KeyRing.Holds(f.Name))
                    ? $"{place.Name} holds keys and no store: making one was cut short, or the file '{StoreHead.FileName}' was lost. If "
                        + $"there never was a store, empty the folder and try again"
                    : $"{place.Name} is not empty and holds no store; give the store an empty folder"
            );
        var root = Secret.Random(StoreKeys.Size);
        var keys = new StoreKeys(making.Hash, making.Secret is not null, root);
        Ballast.Take(place);
        // The head comes last: a store that can be seen can be opened.
        var wrap = making.Secret is { } secret ? KeyWrap.Of(keys, making.Label, secret, now, making.Hardness) : null;
        if (wrap is not null)
            KeyRing.Add(place, wrap);
        if (place.WriteNew(StoreHead.FileName, StoreHead.New(keys, making.Secret is null ? root : null, now).ToBytes()))
            return;
        // Another made its store here meanwhile; its keys are not these.
        if (wrap is not null)
            KeyRing.Remove(place, wrap.Id);
        throw new PlaceException(
            PlaceFault.InUse,
            $"another store was made at {place.Name} at this very moment; try again to use that one, or choose another folder"
        );
    }

    /// <summary>Opens the store for reading and writing. A store that does not encrypt needs no secret.</summary>
    public static PooledStore Open(IPlace place, Secret? secret = null, LeaseTerms? terms = null)
    {
        var store = OpenToRead(place, secret, terms);
        // Another may be writing at this moment: only what nobody has touched for long is a remnant.
        place.RemoveRemnants(2 * store.Terms.Length);
        return store;
    }

    /// <summary>Opens the store and changes nothing at its place, which may be read-only.</summary>
    public static PooledStore OpenToRead(IPlace place, Secret? secret = null, LeaseTerms? terms = null)
    {
        var head = ReadHead(place);
        // Whoever can write to the place could say in the head that nothing is encrypted, and the next run would write in the clear.
        if (secret is not null && !head.Encrypts)
            throw new StoreKeyException(
                $"a {secret.Kind.Replace('-', ' ')} was given for the store at {place.Name}, but its head says that it does not encrypt. "
                    + $"Either somebody changed {StoreHead.FileName}: then bring it back from another copy of the store; or the store "
                    + $"never was encrypted: then open it without a secret"
            );
        var keys = new StoreKeys(head.HashKind, head.Encrypts, head.Key ?? KeyRing.Open(place, secret));
        head.Prove(keys, place.Name);
        var store = new PooledStore(place, head, keys, terms ?? LeaseTerms.Usual);
        store.Refresh();
        return store;
    }

    /// <summary>The size of all files of the store that hold something, in bytes.</summary>
    public long UsedBytes() => Place.List("").Where(f => f.Name != Ballast.FileName).Sum(f => f.Size);

    /// <summary>The length of a chunk in bytes, or 0 when the store has none of this identity.</summary>
    internal int LengthOf(ChunkId id) => Index.TryGet(id, out var at) ? at.Spot.Length : 0;

    /// <summary>A reader for one thread that looks for single chunks.</summary>
    public ChunkReader NewReader() => new(Place, Keys, Index);

    /// <summary>
    /// A reader for one thread that goes through trees: it has the last blocks at hand, because small files and listings that lie near each
    /// other share them.
    /// </summary>
    public ChunkReader NewTreeReader() => new(Place, Keys, Index, 16);

    /// <summary>The entries of a folder whose listing is stored as the given content.</summary>
    public List<TreeEntry> ReadFolder(ContentRef content) => [.. EnumerateFolder(content)];

    /// <summary>The same, chunk by chunk: a folder may hold millions.</summary>
    public IEnumerable<TreeEntry> EnumerateFolder(ContentRef content)
    {
        var order = new ListingOrder();
        foreach (var id in readers.Use(r => r.ListingIds(content)))
        {
            foreach (var entry in readers.Use(r => FolderListing.Read(r.Read(id))))
            {
                order.Next(entry.Name);
                yield return entry;
            }
        }
    }

    /// <summary>
    /// Begins to write a copy, compressing at a level of Zstandard (1 to 19). Also brings the index in line with the packs that are really
    /// there.
    /// </summary>
    public WritingSession BeginWriting(int level = 1)
    {
        CheckStillThere();
        // The lease first, the list of leaving packs after it: whoever removes packs does it the other way round.
        var lease = Lease.Take(Place, LeaseKind.Writing, Terms);
        try
        {
            Refresh();
            return new WritingSession(this, lease, level);
        }
        catch
        {
            lease.Dispose();
            throw;
        }
    }

    /// <summary>Brings the index in line with the packs that are really there, and with those that are leaving.</summary>
    internal void Refresh()
    {
        lock (refreshing)
        {
            // The lists before the packs and after them: a pack that was listed and then removed had its list before, and one whose list
            // came later waits for whoever holds a lease now.
            var leaving = LeavingPacks();
            Index.Refresh();
            leaving.UnionWith(LeavingPacks());
            Index.MarkLeaving(leaving);
        }
    }

    private HashSet<string> LeavingPacks() => LeavingList.Read(Place).SelectMany(l => l.Packs).ToHashSet();

    /// <summary>
    /// Takes the lease of whoever removes packs, one at a time: who shares this open store waits for his turn, another process is waited
    /// for a few seconds and then named (<see cref="PlaceFault.InUse"/>). With <paramref name="atOnce"/> nobody is waited for.
    /// </summary>
    internal Tending Tend(bool atOnce = false, CancellationToken cancel = default)
    {
        if (atOnce ? !tending.Wait(0, cancel) : !WaitForTurn(cancel))
            throw new PlaceException(
                PlaceFault.InUse,
                $"the store at {Place.Name} is being tended by another run of this service; wait until that is done"
            );
        try
        {
            var since = System.Diagnostics.Stopwatch.StartNew();
            while (true)
            {
                try
                {
                    return new Tending(Ballast.With(Place, () => Lease.Take(Place, LeaseKind.Tending, Terms)), tending);
                }
                catch (PlaceException e) when (e.Fault == PlaceFault.InUse && !atOnce && since.Elapsed < WaitsForOthers)
                {
                    cancel.WaitHandle.WaitOne(TimeSpan.FromMilliseconds(200));
                    cancel.ThrowIfCancellationRequested();
                }
            }
        }
        catch
        {
            tending.Release();
            throw;
        }
    }

    private static readonly TimeSpan WaitsForOthers = TimeSpan.FromSeconds(5);

    private bool WaitForTurn(CancellationToken cancel)
    {
        tending.Wait(cancel);
        return true;
    }

    /// <summary>Proves that the place still holds this very store: a lost mount leaves an empty folder behind.</summary>
    public void CheckStillThere()
    {
        if (!IsAt(Place))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"the store at {Place.Name} is not there (no {StoreHead.FileName}); mount it or restore its path"
            );
        var head = ReadHead(Place);
        if (head.Id != Head.Id)
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"another store ({head.Id}) lies at {Place.Name}; bring back the store {Head.Id}"
            );
    }

    /// <summary>
    /// All copies that have a record, those in the bin with the instant (UTC) at which they went there; unreadable records by file name.
    /// </summary>
    public StoreContents ReadContents()
    {
        CheckStillThere();
        return Records.ReadAll();
    }

    /// <summary>The record of a copy, in the bin or not; null when there is none.</summary>
    public CopyRecord? ReadRecord(string id) => Records.Read(id);

    /// <summary>One copy with what is noted of it; null when it has no record.</summary>
    public StoredCopy? ReadCopy(string id) => Records.ReadOne(id);

    /// <summary>The ids of the copies in force and in the bin, by the names of their files alone: a cheap look.</summary>
    public (IReadOnlySet<string> InForce, IReadOnlySet<string> InBin) CopyNames()
    {
        CheckStillThere();
        return Records.Names();
    }

    /// <summary>
    /// Changes what is noted of a copy beside its record; <paramref name="now"/> (UTC) tells which saying is the younger. Binned is the
    /// bin's own.
    /// </summary>
    public CopyNote Note(string id, DateTimeOffset now, Func<CopyNote, CopyNote> change)
    {
        CheckStillThere();
        return Ballast.With(Place, () => Records.Note(id, now, n => change(n) with { Binned = n.Binned }));
    }

    /// <summary>Sends a copy to the bin. One that is there already stays as it is; false when the copy does not exist.</summary>
    public bool MoveToBin(string id, DateTimeOffset now)
    {
        CheckStillThere();
        return Ballast.With(Place, () => Records.MoveToBin(id, now));
    }

    /// <summary>Takes a copy back out of the bin. One that is not there stays as it is; false when the copy does not exist.</summary>
    public bool TakeBack(string id, DateTimeOffset now)
    {
        CheckStillThere();
        return Records.TakeBack(id, now);
    }

    /// <summary>The sizes (bytes) of all packs by name.</summary>
    public IReadOnlyDictionary<string, long> PackSizes() =>
        Place.List(PackNames.Folder).Where(f => PackNames.IsPack(f.Name)).ToDictionary(f => PackNames.PackOf(f.Name), f => f.Size);

    /// <summary>The secrets that open the store, without their content.</summary>
    public IReadOnlyList<KeyWrap> KeyWraps() => KeyRing.Read(Place);

    /// <summary>Lets another secret open the store; no data is written anew.</summary>
    public KeyWrap AddKey(string label, Secret secret, DateTimeOffset now, Hardness? hardness = null)
    {
        if (!Head.Encrypts)
            throw new StoreKeyException(
                $"the store at {Place.Name} does not encrypt, so there is no key to wrap; make an encrypted store and carry the copies over"
            );
        var wrap = KeyWrap.Of(Keys, label, secret, now, hardness);
        KeyRing.Add(Place, wrap);
        return wrap;
    }

    /// <summary>Withdraws a secret. The last one is refused: nobody could open the store any more.</summary>
    public void WithdrawKey(string id) => KeyRing.Withdraw(Place, id);

    /// <summary>Closes the store and the connections of its place.</summary>
    public void Dispose()
    {
        readers.Dispose();
        (Place as IDisposable)?.Dispose();
    }
}

/// <summary>The turn of one who removes packs.</summary>
internal sealed class Tending(Lease lease, SemaphoreSlim turn) : IDisposable
{
    public void Prove() => lease.Prove();

    public void Dispose()
    {
        lease.Dispose();
        turn.Release();
    }
}

/// <summary>A copy in a store; <paramref name="Binned"/> is the instant (UTC) at which it went to the bin, or null.</summary>
public sealed record StoredCopy(CopyRecord Record, DateTimeOffset? Binned)
{
    /// <summary>What is noted of it beside its record, or null.</summary>
    public CopyNote? Note { get; init; }

    /// <summary>
    /// Whether its record lies in the bin although nobody with the store's key sent it there: it is in force, and to be put back.
    /// </summary>
    public bool Displaced { get; init; }

    /// <summary>The record's file in the store.</summary>
    internal string File { get; init; } = "";
}

/// <summary>A copy whose record, or whose note, cannot be read.</summary>
public sealed record DamagedRecord(string CopyId, string Problem)
{
    public string File { get; init; } = "";
    public bool IsNote { get; init; }
}

/// <summary>What a store holds, oldest copy first.</summary>
public sealed record StoreContents(ImmutableArray<StoredCopy> Copies, ImmutableArray<DamagedRecord> Unreadable)
{
    /// <summary>Records that cannot be read; notes that cannot be read are in <see cref="Unreadable"/> alone.</summary>
    public ImmutableArray<DamagedRecord> Damaged => [.. Unreadable.Where(d => !d.IsNote)];
}
