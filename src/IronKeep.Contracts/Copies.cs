using IronKeep.Core.Dated;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// A copy: one point in time of one job on one machine in one store. Origin is the id under which it was first made. State as in
/// docs/words.md; bytes are those of the files. Kind tells a partial copy from a full one, where its store tells them apart.
/// </summary>
public sealed record CopyAnswer(
    string Id,
    string Origin,
    string Job,
    string Machine,
    string Store,
    DateTimeOffset Taken,
    DateTimeOffset Ended,
    CopyState State,
    DateTimeOffset? CheckedAt,
    DateTimeOffset? BinnedAt,
    long Items,
    long Bytes,
    long Skipped,
    long NewBytes,
    long StoredBytes,
    IReadOnlyList<string> Damage,
    long DamageCount,
    long? RunId,
    string? Doubt,
    HoldAnswer? Hold,
    CopyKind? Kind = null
);

/// <summary>How many copies in force there are of a job on a machine in a store, and from when to when they were taken (UTC).</summary>
public sealed record CopyCountAnswer(string Job, string Machine, string Store, int Count, DateTimeOffset Newest, DateTimeOffset Oldest);

/// <summary>A copy's hold; over when its until has passed.</summary>
public sealed record HoldAnswer(string By, string Reason, DateTimeOffset Until, bool Over);

/// <summary>Why a copy is to be held, and until when (the date on which somebody looks at it again).</summary>
public sealed record HoldRequest(string Reason, DateTimeOffset Until);

/// <summary>
/// Why a copy is still there: the verdict of its policy now with reasons, when a rule lets it go, and where the policy is set. A
/// copy in the bin has the verdict expire and the instant at which its bytes may go.
/// </summary>
public sealed record CopyWhyAnswer(
    CopyAnswer Copy,
    Verdict Verdict,
    IReadOnlyList<string> Reasons,
    DateTimeOffset? LeavesAt,
    string? Policy,
    string? Keep,
    string? SetBy,
    DateTimeOffset? BinUntil
);

/// <summary>
/// A path that was found, and the copies that hold it: how many different versions, the newest and the oldest copy with it.
/// </summary>
public sealed record FoundPath(
    string Job,
    string Store,
    string Path,
    string Kind,
    int Versions,
    int Copies,
    string NewestCopy,
    DateTimeOffset NewestTaken,
    DateTimeOffset OldestTaken,
    long Size,
    DateTimeOffset Modified
);

/// <summary>What a search found; complete is false when it stopped at its limit of hits or time.</summary>
public sealed record FindAnswer(IReadOnlyList<FoundPath> Found, int CopiesSearched, bool Complete);

/// <summary>One version of a path, and the copies in a row that hold it, newest first. Kind null: these copies do not hold it.</summary>
public sealed record VersionAnswer(
    string? Kind,
    long Size,
    DateTimeOffset? Modified,
    IReadOnlyList<string> Copies,
    DateTimeOffset NewestTaken,
    DateTimeOffset OldestTaken
);

/// <summary>One entry of a folder in a copy. Names show odd bytes as \xNN and a backslash doubled; mode is octal text ("0644").</summary>
public sealed record EntryAnswer(
    string Name,
    string Kind,
    string Mode,
    string Owner,
    string Group,
    long Size,
    long Items,
    DateTimeOffset Modified,
    string? LinkTarget
);

/// <summary>The entries of a folder of a copy.</summary>
public sealed record FolderAnswer(string CopyId, string Path, IReadOnlyList<EntryAnswer> Entries);

/// <summary>
/// What to restore (all when no paths are given) and to which folder. Existing says what happens where a file or link exists already:
/// "keep" (the default: it stays and is reported), "overwrite", or "beside" (the restored one gets a name beside it). Machine is where, by
/// its agent; null: the service's own. A copy of another machine is given to an agent only with a reason.
/// </summary>
public sealed record RestoreRequest(
    IReadOnlyList<string> Paths,
    string To,
    string? Existing = null,
    string? Machine = null,
    string? Reason = null
);

/// <summary>
/// What to write of a copy (all when no paths are given) in an open format, on the service's machine: as "tar" into a new file, compressed
/// when its name ends in .zst, or as "bag" (RFC 8493) into a new folder.
/// </summary>
public sealed record ExportRequest(IReadOnlyList<string> Paths, string Format, string To);

/// <summary>A verdict on one copy in a prune plan.</summary>
public sealed record VerdictAnswer(
    string CopyId,
    DateTimeOffset Taken,
    CopyState State,
    Verdict Verdict,
    IReadOnlyList<string> Reasons,
    DateTimeOffset? LeavesAt,
    long Bytes,
    long StoredBytes
);

/// <summary>
/// A frozen plan of what goes to the bin and what stays, and the fingerprint that applying asks for (null: as of another instant,
/// only to look at). Brake: why the plan needs a person's confirmation; empty when it does not.
/// </summary>
public sealed record PrunePlanAnswer(
    string? Fingerprint,
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
    IReadOnlyList<string> Brake,
    DateTimeOffset? AppliedAt
);

/// <summary>
/// How much differs: entries that came, went, changed, or changed in owner, mode, time or named attributes alone; folders count by what is
/// in them, and by themselves where they came or went. Bytes are those that came, that went, and of changed files as they are afterwards.
/// Unreadable: folders whose listing is damaged in one of the copies.
/// </summary>
public sealed record DifferenceAnswer(
    long Added,
    long Removed,
    long Changed,
    long Attributes,
    long AddedBytes,
    long RemovedBytes,
    long ChangedBytes,
    long Unreadable
);

/// <summary>
/// An entry that differs: "added", "removed", "changed" or "attributes"; its kind and size (bytes) before and after, null where it is not
/// there. Sums are those of the entry and all below it.
/// </summary>
public sealed record EntryDifferenceAnswer(
    string Name,
    string Change,
    string? KindBefore,
    string? KindAfter,
    long? SizeBefore,
    long? SizeAfter,
    DateTimeOffset? ModifiedBefore,
    DateTimeOffset? ModifiedAfter,
    DifferenceAnswer Sums
);

/// <summary>
/// What differs in one folder between two copies of one store, the earlier taken first. Complete is false when it stopped at its limit of
/// entries or time.
/// </summary>
public sealed record CopyDifferencesAnswer(
    CopyAnswer Before,
    CopyAnswer After,
    string Path,
    IReadOnlyList<EntryDifferenceAnswer> Entries,
    DifferenceAnswer Sums,
    bool Complete
);

/// <summary>A file of a copy as text; null, with the reason, where it is not text or too large to be looked at (size in bytes).</summary>
public sealed record FileTextAnswer(string CopyId, string Path, long Size, string? Text, string? Reason);
