using IronKeep.Core.Dated;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Healing;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>Archives that standard tools read.</summary>
public sealed class PlainLayout : ILayoutKind
{
    public string Name => "plain";

    public bool MakesFolders => true;

    public bool IsAt(IPlace place) => PlainStore.IsAt(place);

    public void Create(IPlace place, StoreMaking making, DateTimeOffset now) => PlainStore.Create(place, now);

    public bool Encrypts(IPlace place) => false;

    public IStoreLayout Open(StoreOpening opening) => PlainStore.Open(opening.Place, ShapeOf(opening));

    public IStoreLayout OpenToRead(StoreOpening opening) => PlainStore.OpenToRead(opening.Place, ShapeOf(opening));

    private static PlainShape ShapeOf(StoreOpening opening) =>
        opening.Declared.Plain is { } plain ? new PlainShape(plain.Compresses, plain.PieceSize?.Bytes ?? long.MaxValue) : PlainShape.Usual;
}

public sealed partial class PlainStore : IBackupLayout
{
    private static readonly LayoutAbilities Abilities = new()
    {
        TakesBackups = true,
        HasBin = true,
        Browses = true,
        PartWord = "file",
    };

    LayoutAbilities IStoreLayout.Can => Abilities;
    string IStoreLayout.Id => Head.Id;
    string IStoreLayout.Encryption => "none";

    public ICopyTarget Target(CopyPlan plan) => new PlainTarget(this, plan);

    public CopyRecord? Base(string id)
    {
        try
        {
            if (Records.Read(id) is not { } record)
                return null;
            return ChainOf(record).TrueForAll(IsWhole) ? record : null;
        }
        catch (StoreDamageException)
        {
            return null;
        }
    }

    /// <summary>Whether the files of a copy are there with their lengths, and its index is what was written.</summary>
    private bool IsWhole(CopyRecord copy)
    {
        var there = Place.List(FolderOf(copy.Id)).ToDictionary(f => f.Name, f => f.Size);
        IndexOf(copy);
        return copy.Files.All(f => there.TryGetValue($"{FolderOf(copy.Id)}/{f.Name}", out var size) && size == f.Bytes);
    }

    public long UsedBytes() => Place.List("").Where(f => f.Name != Ballast.FileName).Sum(f => f.Size);

    public (IReadOnlySet<string> InForce, IReadOnlySet<string> InBin) CopyNames()
    {
        CheckStillThere();
        return Records.Names();
    }

    public StoreContents ReadContents()
    {
        CheckStillThere();
        return Records.ReadAll();
    }

    public StoredCopy? ReadCopy(string id) => Records.ReadOne(id);

    public CopyRecord? ReadRecord(string id) => Records.Read(id);

    public CopyNote Note(string id, DateTimeOffset now, Func<CopyNote, CopyNote> change)
    {
        CheckStillThere();
        return Ballast.With(Place, () => Records.Note(id, now, n => change(n) with { Binned = n.Binned }));
    }

    public bool MoveToBin(string id, DateTimeOffset now)
    {
        CheckStillThere();
        return Ballast.With(Place, () => Records.MoveToBin(id, now));
    }

    public bool TakeBack(string id, DateTimeOffset now)
    {
        CheckStillThere();
        return Records.TakeBack(id, now);
    }

    public IReadOnlyDictionary<string, long> Parts() =>
        Records
            .ReadAll()
            .Copies.Where(c => c.Binned is null)
            .SelectMany(c => c.Record.Files.Select(f => (Name: $"{c.Record.Id}/{f.Name}", f.Bytes)))
            .ToDictionary(f => f.Name, f => f.Bytes);

    public CheckReport Check(CheckScope scope, Action<long, long>? progress, CancellationToken cancel) =>
        PlainCheck.Run(this, scope, progress, cancel);

    public HealReport Heal(IReadOnlyList<IStoreLayout> others, CancellationToken cancel) =>
        throw new NotSupportedException("plain archives cannot be healed");

    public TreeEntry? Find(CopyRecord record, IReadOnlyList<byte[]> path) => TreeWalk.Find(TreesOf(record), record, path);

    public List<TreeEntry> ReadFolder(TreeEntry folder) => [.. All.EnumerateFolder(folder.Content)];

    public FolderDifferences Compare(TreeEntry? before, TreeEntry? after, int most, TimeSpan patience, CancellationToken cancel) =>
        new TreeCompare(All, most, patience, cancel).Folder(before, after);

    public byte[] ReadFile(TreeEntry file, CancellationToken cancel)
    {
        var bytes = new byte[file.Size];
        using var source = All.OpenTree();
        FileBytes.Each(source, file, (piece, offset) => piece.CopyTo(bytes.AsSpan((int)offset)), cancel);
        return bytes;
    }

    public TreeSearch Search(string pattern, int most, TimeSpan patience) => new(All, pattern, most, patience);

    public RestoreReport Restore(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string target,
        RestoreManner manner,
        CancellationToken cancel
    )
    {
        using var restorer = new TreeRestorer(TreesOf(record), manner.Progress, manner.Existing, manner.Forbidden);
        return restorer.Restore(record, paths, target, cancel);
    }

    public (long Written, long LeftOut) WriteArchive(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string file,
        RestoreManner manner,
        CancellationToken cancel
    ) => Archive.ToFile(TreesOf(record), record, paths, file, manner.Progress, cancel, manner.Forbidden);

    public void WriteArchive(CopyRecord record, IReadOnlyList<string> paths, Stream output, bool compress, CancellationToken cancel) =>
        Archive.ToStream(TreesOf(record), record, paths, output, compress, null, cancel);

    public (long Files, RestoreReport Report) WriteBag(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        RestoreManner manner,
        CancellationToken cancel
    ) => Bag.Write(TreesOf(record), record, paths, folder, cancel, manner.Forbidden);

    public void Dispose() => (Place as IDisposable)?.Dispose();

    /// <summary>Whatever lies in any copy.</summary>
    private PlainTrees All => new(this, []);
}

/// <summary>A plain store as a place where one copy of a kind is written.</summary>
internal sealed class PlainTarget(PlainStore store, CopyPlan plan) : ICopyTarget
{
    public ICopySession BeginCopy(int level) => store.Begin(plan, level);

    public void Tidy(CancellationToken cancel)
    {
        // There is nothing to put in order.
    }

    // A session without a record has removed its files when it ended.
    public string? GiveBack(ICopySession session) => null;
}
