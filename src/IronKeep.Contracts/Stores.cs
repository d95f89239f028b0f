namespace IronKeep.Contracts;

/// <summary>
/// A store: where, how full, what it holds, when it is verified and reclaimed. Free is capacity less reserve less used, or what its
/// file system has. Names is the pattern of the files of a store of dated files, others how many entries of its folder are no copies.
/// In-bin bytes are what was stored for the copies in the bin; kept bytes what the copies in force would give back.
/// </summary>
public sealed record StoreAnswer(
    string Name,
    string Folder,
    string Layout,
    string? Names,
    long? Others,
    bool Reachable,
    string? Problem,
    string? Encryption,
    long? CapacityBytes,
    long? ReserveBytes,
    long? UsedBytes,
    long? FreeBytes,
    bool NearlyFull,
    string Bin,
    int Copies,
    int InBin,
    long InBinBytes,
    int Unsound,
    int Missing,
    ReductionAnswer? Reduction,
    long KeptBytes,
    string? VerifyWhen,
    long? VerifyBudgetBytes,
    string? ReclaimWhen,
    ReadingAnswer? Reading,
    RunAnswer? LastCheck
);

/// <summary>What the backup runs of the last 30 days into the store alone took, read, found new and stored, in bytes.</summary>
public sealed record ReductionAnswer(long SelectedBytes, long ReadBytes, long NewBytes, long StoredBytes);

/// <summary>
/// How much of a store's packs has ever been read back, how much within 30 days, and when the part that waits longest was.
/// </summary>
public sealed record ReadingAnswer(long TotalBytes, long ReadBytes, long ReadWithin30DaysBytes, DateTimeOffset? Oldest);

/// <summary>
/// A store that lies already in a folder of the service's machine, to be taken into the charter under a name. What opens it is named by
/// its file on that machine, as in a charter; neither for a store that does not encrypt.
/// </summary>
public sealed record AttachRequest(string Name, string Folder, string? KeyFile = null, string? PassphraseFile = null);

/// <summary>The attached store, how many of its copies the catalogue did not know, and what could not be read.</summary>
public sealed record AttachAnswer(StoreAnswer Store, int Learned, IReadOnlyList<string> Problems);

/// <summary>A secret that opens a store, without its content; the service uses the one that opens it for the service.</summary>
public sealed record StoreKeyAnswer(string Id, string Label, string Kind, DateTimeOffset Made, bool UsedByService);

/// <summary>What people call a new recovery sheet, 1 to 100 characters.</summary>
public sealed record RecoverySheetRequest(string Label);

/// <summary>A new recovery sheet: its key's id and the text to print. The code is given this once and kept nowhere.</summary>
public sealed record RecoverySheetAnswer(string Id, string Sheet);
