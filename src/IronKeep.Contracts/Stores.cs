namespace IronKeep.Contracts;

/// <summary>A store: where, how full, what it holds. Free is capacity less reserve less used, or what its file system has.</summary>
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
    string Bin,
    int Copies,
    int InBin,
    int Unsound,
    RunAnswer? LastCheck);
