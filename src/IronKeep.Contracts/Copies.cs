namespace IronKeep.Contracts;

/// <summary>A copy: one point in time of one job on one machine in one store. State as in docs/words.md; bytes are those of the files.</summary>
public sealed record CopyAnswer(
    string Id,
    string Job,
    string Machine,
    string Store,
    DateTimeOffset Taken,
    DateTimeOffset Ended,
    string State,
    DateTimeOffset? CheckedAt,
    DateTimeOffset? BinnedAt,
    long Items,
    long Bytes,
    long Skipped,
    long NewBytes,
    long StoredBytes,
    IReadOnlyList<string> Damage,
    long DamageCount);

/// <summary>One entry of a folder in a copy. Names show odd bytes as \xNN and a backslash doubled; mode is octal text ("0644").</summary>
public sealed record EntryAnswer(
    string Name, string Kind, string Mode, string Owner, string Group, long Size, long Items, DateTimeOffset Modified, string? LinkTarget);

/// <summary>The entries of a folder of a copy.</summary>
public sealed record FolderAnswer(string CopyId, string Path, IReadOnlyList<EntryAnswer> Entries);

/// <summary>What to restore (all when no paths are given) and to which folder on the service's machine.</summary>
public sealed record RestoreRequest(IReadOnlyList<string> Paths, string To);

/// <summary>A verdict on one copy in a prune plan.</summary>
public sealed record VerdictAnswer(
    string CopyId, DateTimeOffset Taken, string State, string Verdict, IReadOnlyList<string> Reasons, DateTimeOffset? LeavesAt, long Bytes, long StoredBytes);

/// <summary>A frozen plan of what goes to the bin and what stays, and the fingerprint that applying asks for.</summary>
public sealed record PrunePlanAnswer(
    string Fingerprint,
    string Job,
    string Machine,
    string Store,
    string Policy,
    int AtLeast,
    DateTimeOffset AsOf,
    bool Frozen,
    string Bin,
    IReadOnlyList<VerdictAnswer> Copies,
    IReadOnlyDictionary<string, int> Counts,
    DateTimeOffset? AppliedAt);
