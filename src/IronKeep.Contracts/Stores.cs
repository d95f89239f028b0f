namespace IronKeep.Contracts;

/// <summary>
/// A store: where, how full, what it holds, when it is verified and reclaimed. Free is capacity less reserve less used, or what its
/// file system has; in-bin bytes are what was stored for the copies in the bin; kept bytes what the copies in force would give back.
/// </summary>
public sealed record StoreAnswer(
    string Name,
    string Folder,
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
    RunAnswer? LastCheck);

/// <summary>What the backup runs of the last 30 days into the store alone took, read, found new and stored, in bytes.</summary>
public sealed record ReductionAnswer(long SelectedBytes, long ReadBytes, long NewBytes, long StoredBytes);

/// <summary>How much of a store's packs has ever been read back, how much within 30 days, and when the part that waits longest was.</summary>
public sealed record ReadingAnswer(long TotalBytes, long ReadBytes, long ReadWithin30DaysBytes, DateTimeOffset? Oldest);
