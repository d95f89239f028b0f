using IronKeep.Stores.Exports;
using IronKeep.Stores.Healing;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>Deduplicated, compressed, encrypted chunks in packs.</summary>
public sealed class PooledLayout : ILayoutKind
{
    public string Name => "pooled";

    public bool MakesFolders => true;

    public bool IsAt(IPlace place) => PooledStore.IsAt(place);

    public void Create(IPlace place, StoreMaking making, DateTimeOffset now) => PooledStore.Create(place, making, now);

    public bool Encrypts(IPlace place) => PooledStore.ReadHead(place).Encrypts;

    public IStoreLayout Open(StoreOpening opening) => PooledStore.Open(opening.Place, opening.Secret);

    public IStoreLayout OpenToRead(StoreOpening opening) => PooledStore.OpenToRead(opening.Place, opening.Secret);
}

public sealed partial class PooledStore : IKeyedLayout, IBackupLayout, ITreeSource
{
    /// <summary>Every copy is whole by itself, whatever its kind.</summary>
    ICopyTarget IBackupLayout.Target(CopyPlan plan) => this;

    CopyRecord? IBackupLayout.Base(string id) => ReadRecord(id);

    int ITreeSource.Readers => Environment.ProcessorCount;

    IChunkSource ITreeSource.OpenTree() => NewTreeReader();

    private static readonly LayoutAbilities Abilities = new()
    {
        TakesBackups = true,
        HasBin = true,
        Browses = true,
        Heals = true,
        HasKeys = true,
    };

    LayoutAbilities IStoreLayout.Can => Abilities;
    string IStoreLayout.Id => Head.Id;
    string IStoreLayout.Encryption => Head.Encryption;

    IReadOnlyDictionary<string, long> IStoreLayout.Parts() => PackSizes();

    CheckReport IStoreLayout.Check(CheckScope scope, Action<long, long>? progress, CancellationToken cancel) =>
        StoreCheck.Run(this, scope, progress, cancel);

    ReclaimReport IStoreLayout.Reclaim(DateTimeOffset binnedUntil, Func<string, bool> mayGo, CancellationToken cancel) =>
        Pooled.Reclaim.Run(this, binnedUntil, mayGo: mayGo, cancel: cancel);

    HealReport IStoreLayout.Heal(IReadOnlyList<IStoreLayout> others, CancellationToken cancel) =>
        Healer.Run(this, [.. others.OfType<PooledStore>()], cancel);

    TreeEntry? IStoreLayout.Find(CopyRecord record, IReadOnlyList<byte[]> path) => TreeWalk.Find(this, record, path);

    List<TreeEntry> IStoreLayout.ReadFolder(TreeEntry folder) => ReadFolder(folder.Content);

    FolderDifferences IStoreLayout.Compare(TreeEntry? before, TreeEntry? after, int most, TimeSpan patience, CancellationToken cancel) =>
        new TreeCompare(this, most, patience, cancel).Folder(before, after);

    byte[] IStoreLayout.ReadFile(TreeEntry file, CancellationToken cancel)
    {
        var bytes = new byte[file.Size];
        readers.Use(reader =>
        {
            FileBytes.Each(reader, file, (piece, offset) => piece.CopyTo(bytes.AsSpan((int)offset)), cancel);
            return true;
        });
        return bytes;
    }

    TreeSearch IStoreLayout.Search(string pattern, int most, TimeSpan patience) => new(this, pattern, most, patience);

    RestoreReport IStoreLayout.Restore(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string target,
        RestoreManner manner,
        CancellationToken cancel
    )
    {
        using var restorer = new TreeRestorer(this, manner.Progress, manner.Existing, manner.Forbidden);
        return restorer.Restore(record, paths, target, cancel);
    }

    (long Written, long LeftOut) IStoreLayout.WriteArchive(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string file,
        RestoreManner manner,
        CancellationToken cancel
    ) => Archive.ToFile(this, record, paths, file, manner.Progress, cancel, manner.Forbidden);

    void IStoreLayout.WriteArchive(
        CopyRecord record,
        IReadOnlyList<string> paths,
        Stream output,
        bool compress,
        CancellationToken cancel
    ) => Archive.ToStream(this, record, paths, output, compress, null, cancel);

    (long Files, RestoreReport Report) IStoreLayout.WriteBag(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        RestoreManner manner,
        CancellationToken cancel
    ) => Bag.Write(this, record, paths, folder, cancel, manner.Forbidden);
}
