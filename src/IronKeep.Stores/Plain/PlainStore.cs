using System.Security.Cryptography;
using IronKeep.Core.Chains;
using IronKeep.Core.Dated;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Plain;

/// <summary>How archives are made: whether they are compressed, and of how many bytes a file is at most.</summary>
public sealed record PlainShape(bool Compresses, long PieceBytes)
{
    public static PlainShape Usual { get; } = new(true, long.MaxValue);
}

/// <summary>
/// A store of plain archives: each copy is a folder of files that tar, zstd and sha256sum read, and a signed record beside it, which is its
/// commit point. Several processes may have it open and write at once. All members are safe for several threads. docs/store-format.md
/// describes it. Errors: <see cref="PlaceException"/> and <see cref="StoreDamageException"/>.
/// </summary>
public sealed partial class PlainStore
{
    private const string Archives = "archives";
    private const int IndexesAtHand = 64;
    private static readonly LeaseTerms Terms = LeaseTerms.Usual;
    private readonly Lock gate = new();
    private readonly Dictionary<string, PlainIndex> indexes = [];

    private PlainStore(IPlace place, PlainHead head, PlainShape shape)
    {
        (Place, Head, Shape) = (place, head, shape);
        Keys = new StoreKeys(HashKind.Blake3, false, head.Key);
        Records = new RecordShelf(place, Keys);
    }

    public IPlace Place { get; }
    public PlainHead Head { get; }
    internal PlainShape Shape { get; }
    internal StoreKeys Keys { get; }
    internal RecordShelf Records { get; }

    internal static string FolderOf(string copy) => $"{Archives}/{copy}";

    public static bool IsAt(IPlace place) => place.Exists(PlainHead.FileName);

    /// <summary>Makes a new, empty store at an empty place.</summary>
    public static void Create(IPlace place, DateTimeOffset now)
    {
        if (!place.Can.Renames || !place.Can.PutsIfAbsent)
            throw new PlaceException(
                PlaceFault.Other,
                $"{place.Name} cannot rename files, or cannot refuse a name that is taken, and a store needs both; choose another place"
            );
        if (place.List("").Any(f => f.Name != Ballast.FileName))
            throw new PlaceException(
                PlaceFault.Other,
                $"{place.Name} is not empty and holds no store of plain archives; give the store an empty folder"
            );
        Ballast.Take(place);
        if (!place.WriteNew(PlainHead.FileName, PlainHead.New(RandomNumberGenerator.GetBytes(StoreKeys.Size), now).ToBytes()))
            throw new PlaceException(PlaceFault.InUse, $"another store was made at {place.Name} at this very moment; try again");
    }

    public static PlainStore Open(IPlace place, PlainShape? shape = null)
    {
        var store = OpenToRead(place, shape);
        place.RemoveRemnants(2 * Terms.Length);
        return store;
    }

    /// <summary>Opens it and changes nothing at its place.</summary>
    public static PlainStore OpenToRead(IPlace place, PlainShape? shape = null) =>
        new(place, PlainHead.Read(place), shape ?? PlainShape.Usual);

    /// <summary>Proves that the place still holds this very store.</summary>
    public void CheckStillThere()
    {
        if (PlainHead.Read(Place) is { } head && head.Id != Head.Id)
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"another store ({head.Id}) lies at {Place.Name}; bring back the store {Head.Id}"
            );
    }

    /// <summary>A copy and all that it stands on, the copy itself first; a hole in it is a <see cref="StoreDamageException"/>.</summary>
    internal List<CopyRecord> ChainOf(CopyRecord record)
    {
        var chain = new List<CopyRecord> { record };
        while (chain[^1].Base is { } below)
        {
            if (chain.Count > PartialCopies.MostInChain)
                throw new StoreDamageException($"copy {record.Id} stands on more copies than any chain has, or on itself");
            chain.Add(Records.Read(below) ?? throw new StoreDamageException($"copy {chain[^1].Id} stands on {below}, which is not there"));
        }
        return chain;
    }

    internal ITreeSource TreesOf(CopyRecord record) => new PlainTrees(this, ChainOf(record));

    internal PlainIndex IndexOf(CopyRecord record)
    {
        lock (gate)
        {
            if (indexes.TryGetValue(record.Id, out var known))
                return known;
            if (indexes.Count >= IndexesAtHand)
                indexes.Remove(indexes.Keys.First());
            return indexes[record.Id] = PlainIndex.Read(Place, FolderOf(record.Id), record);
        }
    }

    /// <summary>What all copies in force hold, those at hand first; copies that cannot be read are passed over.</summary>
    internal IEnumerable<(string Copy, PlainIndex Index)> Indexes()
    {
        List<(string, PlainIndex)> known;
        lock (gate)
            known = [.. indexes.Select(i => (i.Key, i.Value))];
        foreach (var one in known)
            yield return one;
        foreach (var name in Records.Names().InForce.Except(known.Select(k => k.Item1)).OrderDescending())
        {
            PlainIndex? index = null;
            try
            {
                if (Records.Read(name) is { } record)
                    index = IndexOf(record);
            }
            catch (StoreDamageException)
            {
                // Its own readers are told.
            }
            if (index is not null)
                yield return (name, index);
        }
    }

    /// <summary>Begins to write a copy of a kind.</summary>
    internal PlainSession Begin(CopyPlan plan, int level)
    {
        CheckStillThere();
        if (plan.Base is null != (plan.Kind == CopyKind.Full))
            throw new ArgumentException("a full copy stands on no other, and a partial one does");
        var lease = Lease.Take(Place, LeaseKind.Writing, Terms);
        try
        {
            return new PlainSession(this, plan, level, lease);
        }
        catch
        {
            lease.Dispose();
            throw;
        }
    }

    internal void Add(CopyRecord record)
    {
        CheckStillThere();
        Records.Write(record);
    }

    /// <summary>Takes away what a copy without a record left behind.</summary>
    internal int RemoveFiles(string copy)
    {
        var files = Place.List(FolderOf(copy));
        foreach (var file in files)
            Place.Delete(file.Name);
        lock (gate)
            indexes.Remove(copy);
        return files.Count;
    }

    /// <summary>
    /// Frees the bytes of copies that were in the bin by then and on which no other stands, and of writing that was broken off. The files
    /// go before the record: what was begun the next reclaiming ends. While somebody writes all stays, for the new copy may stand on any.
    /// </summary>
    public ReclaimReport Reclaim(DateTimeOffset binnedUntil, Func<string, bool> mayGo, CancellationToken cancel)
    {
        CheckStillThere();
        using var tending = Ballast.With(Place, () => Lease.Take(Place, LeaseKind.Tending, Terms));
        var contents = Records.ReadAll();
        var sizes = Place.List(Archives).GroupBy(f => CopyOf(f.Name)).ToDictionary(g => g.Key, g => g.Sum(f => f.Size));
        var (gone, freed) = (new List<string>(), 0L);
        // A record that cannot be read may stand on any of them: nothing that another could need goes then.
        var leaving = contents.Damaged.IsEmpty
            ? contents
                .Copies.Where(c => c is { Binned: { } binned, Displaced: false } && binned <= binnedUntil && mayGo(c.Record.Id))
                .ToDictionary(c => c.Record.Id)
            : [];
        var needed = new Queue<string>(
            contents.Copies.Where(c => !leaving.ContainsKey(c.Record.Id)).Select(c => c.Record.Base).OfType<string>()
        );
        while (needed.TryDequeue(out var below))
            if (leaving.Remove(below, out var stays) && stays.Record.Base is { } next)
                needed.Enqueue(next);
        if (Lease.Living(Place).Exists(l => l.Kind == LeaseKind.Writing))
            return new ReclaimReport([], 0, 0, 0, leaving.Count);
        // From the top of chains down: one that is cut short never stands on what is gone.
        foreach (
            var copy in leaving.Values.OrderByDescending(c => c.Record.Taken).ThenByDescending(c => c.Record.Id, StringComparer.Ordinal)
        )
        {
            cancel.ThrowIfCancellationRequested();
            tending.Prove();
            if (Records.ReadOne(copy.Record.Id) is not { Binned: not null, Displaced: false })
                continue;
            RemoveFiles(copy.Record.Id);
            Records.Delete(copy.Record.Id);
            freed += sizes.GetValueOrDefault(copy.Record.Id);
            gone.Add(copy.Record.Id);
        }
        var (inForce, inBin) = Records.Names();
        foreach (var left in sizes.Keys.Where(k => !inForce.Contains(k) && !inBin.Contains(k) && !gone.Contains(k)))
        {
            tending.Prove();
            RemoveFiles(left);
            freed += sizes[left];
        }
        Ballast.Take(Place);
        return new ReclaimReport(gone, gone.Count, 0, freed, 0);
    }

    private static string CopyOf(string file) => file.Split('/') is [_, var copy, ..] ? copy : "";
}
