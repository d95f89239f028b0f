using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Stores.Healing;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;
using NodaTime;

namespace IronKeep.Stores.Layouts;

/// <summary>What a layout can do beside listing, checking and removing copies; what it cannot is refused by its callers in words.</summary>
public sealed record LayoutAbilities
{
    /// <summary>Whether backup runs write into it, and what was settled about a copy is noted beside it.</summary>
    public bool TakesBackups { get; init; }

    /// <summary>Whether expired copies wait in it before their bytes are reclaimed.</summary>
    public bool HasBin { get; init; }

    /// <summary>Whether folders of a copy can be looked at, searched and restored one by one.</summary>
    public bool Browses { get; init; }

    /// <summary>Whether what it lost can be brought back from another store.</summary>
    public bool Heals { get; init; }

    /// <summary>Whether secrets open it.</summary>
    public bool HasKeys { get; init; }

    /// <summary>What the parts are called that verification reads.</summary>
    public string PartWord { get; init; } = "pack";
}

/// <summary>
/// An open store as its users see it, whatever it is made of. Safe for several threads. Errors are <see cref="PlaceException"/> and
/// <see cref="StoreDamageException"/>; asking for what <see cref="Can"/> says that it cannot is <see cref="NotSupportedException"/>.
/// </summary>
public interface IStoreLayout : IDisposable
{
    LayoutAbilities Can { get; }

    /// <summary>What tells this store from every other, wherever it lies.</summary>
    string Id { get; }

    /// <summary>How it encrypts, in words; "none" where it does not.</summary>
    string Encryption { get; }

    IPlace Place { get; }

    /// <summary>Throws when what is at the place now is not this store.</summary>
    void CheckStillThere();

    /// <summary>Bytes that it uses at its place.</summary>
    long UsedBytes();

    /// <summary>The ids of its copies, by their names alone.</summary>
    (IReadOnlySet<string> InForce, IReadOnlySet<string> InBin) CopyNames();

    /// <summary>Every record and note, read.</summary>
    StoreContents ReadContents();

    /// <summary>One copy with its note; null when it is not there.</summary>
    StoredCopy? ReadCopy(string id);

    CopyRecord? ReadRecord(string id);

    /// <summary>Says beside a copy what was settled about it.</summary>
    CopyNote Note(string id, DateTimeOffset now, Func<CopyNote, CopyNote> change);

    /// <summary>False when the store has no such copy.</summary>
    bool MoveToBin(string id, DateTimeOffset now);

    bool TakeBack(string id, DateTimeOffset now);

    /// <summary>Frees the bytes of copies that were in the bin by then, as far as they may go.</summary>
    ReclaimReport Reclaim(DateTimeOffset binnedUntil, Func<string, bool> mayGo, CancellationToken cancel);

    /// <summary>The parts that verification reads, with their sizes in bytes.</summary>
    IReadOnlyDictionary<string, long> Parts();

    CheckReport Check(CheckScope scope, Action<long, long>? progress, CancellationToken cancel);

    /// <summary>Brings back from others what it lost; only from those of its own kind.</summary>
    HealReport Heal(IReadOnlyList<IStoreLayout> others, CancellationToken cancel);

    /// <summary>The entry at a path of a copy, or null.</summary>
    TreeEntry? Find(CopyRecord record, IReadOnlyList<byte[]> path);

    /// <summary>The entries of a folder of a copy.</summary>
    List<TreeEntry> ReadFolder(TreeEntry folder);

    /// <summary>
    /// What differs in a folder between two of its copies; an entry is null where the folder is in one of them only. Gives at most so many
    /// entries, and stops when its patience is over.
    /// </summary>
    FolderDifferences Compare(TreeEntry? before, TreeEntry? after, int most, TimeSpan patience, CancellationToken cancel);

    /// <summary>All bytes of a file of a copy, which the caller knows to be few.</summary>
    byte[] ReadFile(TreeEntry file, CancellationToken cancel);

    /// <summary>A search by name over many copies; see <see cref="TreeSearch"/>.</summary>
    TreeSearch Search(string pattern, int most, TimeSpan patience);

    RestoreReport Restore(CopyRecord record, IReadOnlyList<string> paths, string target, RestoreManner manner, CancellationToken cancel);

    (long Written, long LeftOut) WriteArchive(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string file,
        RestoreManner manner,
        CancellationToken cancel
    );

    void WriteArchive(CopyRecord record, IReadOnlyList<string> paths, Stream output, bool compress, CancellationToken cancel);

    (long Files, RestoreReport Report) WriteBag(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        RestoreManner manner,
        CancellationToken cancel
    );
}

/// <summary>
/// How a restore goes about what exists, where it may not write, and who is told of its progress (bytes done and in all).
/// </summary>
public sealed record RestoreManner(
    ForbiddenFolders Forbidden,
    ExistingRule Existing = ExistingRule.Keep,
    Action<long, long>? Progress = null
);

/// <summary>
/// How the next copy is to be made: its id, its kind, and the copy on which a partial one stands (null: it is full, or its layout knows no
/// partial ones).
/// </summary>
public sealed record CopyPlan(string CopyId, CopyKind Kind, CopyRecord? Base);

/// <summary>A layout into which backup runs write.</summary>
public interface IBackupLayout : IStoreLayout
{
    /// <summary>Where the next copy is written.</summary>
    ICopyTarget Target(CopyPlan plan);

    /// <summary>A copy on which another can stand: it and all that it needs are there and can be read. Null: it is no such copy.</summary>
    CopyRecord? Base(string id);
}

/// <summary>A layout whose stores are opened by secrets.</summary>
public interface IKeyedLayout : IStoreLayout
{
    IReadOnlyList<KeyWrap> KeyWraps();

    KeyWrap AddKey(string label, Secret secret, DateTimeOffset now, Hardness? hardness = null);

    void WithdrawKey(string id);
}

/// <summary>A kind of layout: how its stores are made and opened. A new one is one class that implements this and is registered.</summary>
public interface ILayoutKind
{
    /// <summary>Its word in charters: "pooled".</summary>
    string Name { get; }

    /// <summary>Whether the service makes the folder of a new store of this kind, or somebody else has it already.</summary>
    bool MakesFolders { get; }

    bool IsAt(IPlace place);

    /// <summary>Makes an empty store; a secret makes it encrypt.</summary>
    void Create(IPlace place, StoreMaking making, DateTimeOffset now);

    /// <summary>Whether a store that is there encrypts.</summary>
    bool Encrypts(IPlace place);

    IStoreLayout Open(StoreOpening opening);

    /// <summary>The same to look at only: nothing is changed.</summary>
    IStoreLayout OpenToRead(StoreOpening opening);
}

/// <summary>What is opened: the place, what opens it, and what is declared of it; the zone is the charter's.</summary>
public sealed record StoreOpening(StoreDefinition Declared, IPlace Place, Secret? Secret, DateTimeZone Zone);
