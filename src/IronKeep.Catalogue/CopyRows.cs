using IronKeep.Core.Dated;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>
/// What the catalogue knows of a copy in one store, (Id, Store) being its identity; the store's record is the truth. GoneAt is set when its
/// bytes were reclaimed.
/// </summary>
public sealed class Copy
{
    public required string Id { get; set; }
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public required string Store { get; set; }

    /// <summary>The id under which it was first made, wherever it was carried since.</summary>
    public required string Origin { get; set; }

    /// <summary>Full or partial, where its layout tells; null: it needs no other.</summary>
    public CopyKind? Kind { get; set; }

    /// <summary>The copy on which a partial one stands, where its record says so; null: the chain follows from kinds and times.</summary>
    public string? Base { get; set; }
    public Instant Taken { get; set; }
    public Instant Ended { get; set; }
    public CopyState State { get; set; }
    public Instant? CheckedAt { get; set; }
    public Instant? BinnedAt { get; set; }
    public Instant? GoneAt { get; set; }
    public long Items { get; set; }
    public long Bytes { get; set; }
    public long Skipped { get; set; }
    public long NewBytes { get; set; }
    public long StoredBytes { get; set; }
    public string Damage { get; set; } = "";
    public long DamageCount { get; set; }
    public long? RunId { get; set; }

    /// <summary>Why its run was suspect, until a person confirms it.</summary>
    public string? Doubt { get; set; }
    public string? HeldBy { get; set; }
    public string? HeldReason { get; set; }
    public Instant? HeldUntil { get; set; }

    /// <summary>When the note beside its record in the store was last known to say the same as this row; null: there is none.</summary>
    public Instant? NotedAt { get; set; }

    /// <summary>Whether this row says something that the note has still to be told, because the store could not be reached.</summary>
    public bool NoteDue { get; set; }
}

/// <summary>
/// What is remembered of a file of a store of dated files; see FileMark. Size in bytes, Modified in nanoseconds since 1970.
/// </summary>
public sealed class SeenFile
{
    public required string Store { get; set; }
    public required string Path { get; set; }
    public long Size { get; set; }
    public long Modified { get; set; }
    public Instant Since { get; set; }
    public bool IsCopy { get; set; }
    public bool Changed { get; set; }
    public string? Sum { get; set; }
    public Instant? SumAt { get; set; }
    public string? Problem { get; set; }
    public Instant? Binned { get; set; }
}

/// <summary>When a pack of a store was last read and found as written.</summary>
public sealed class PackRead
{
    public required string Store { get; set; }
    public required string Pack { get; set; }
    public Instant At { get; set; }
}

/// <summary>A prune plan as it was shown; Body is the list of copies with verdicts, as JSON.</summary>
public sealed class PrunePlanRow
{
    public required string Fingerprint { get; set; }
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public required string Store { get; set; }
    public Instant AsOf { get; set; }
    public required string Body { get; set; }
    public Instant? AppliedAt { get; set; }

    /// <summary>Who let the brake go, and why; null while nobody did.</summary>
    public string? ConfirmedBy { get; set; }
    public string? ConfirmedReason { get; set; }
}
