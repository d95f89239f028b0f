using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Service.Catalogue;

public sealed class Person
{
    public int Id { get; set; }
    public required string Name { get; set; }
    public required string PasswordHash { get; set; }
    public Instant MadeAt { get; set; }
}

/// <summary>A personal token: only the SHA-256 of its secret is kept.</summary>
public sealed class PersonalToken
{
    public long Id { get; set; }
    public int PersonId { get; set; }
    public Person Person { get; set; } = null!;
    public required string Label { get; set; }
    public required byte[] Hash { get; set; }
    public Instant MadeAt { get; set; }
    public Instant? LastUsedAt { get; set; }
}

/// <summary>A charter as it was applied; the newest is in force.</summary>
public sealed class CharterRevision
{
    public long Id { get; set; }
    public Instant AppliedAt { get; set; }
    public required string By { get; set; }
    public required string Yaml { get; set; }
}

/// <summary>Up to where the due instants of a job on a machine have been turned into planned runs.</summary>
public sealed class JobWatch
{
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public Instant Watermark { get; set; }
}

/// <summary>One due instant of a job on a machine. (Job, Machine, Due) is its identity; Outcome null means not ended yet.</summary>
public sealed class PlannedRun
{
    public long Id { get; set; }
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public Instant Due { get; set; }
    public Outcome? Outcome { get; set; }
    public string? Reason { get; set; }
    public long? RunId { get; set; }
}

public enum RunKind { Backup, Check, Prune, Reclaim, Restore }

public enum RunState { Queued, Running, Ended }

/// <summary>One attempt. Order holds what the kind needs to know, as JSON.</summary>
public sealed class Run
{
    public long Id { get; set; }
    public RunKind Kind { get; set; }
    public string? Job { get; set; }
    public required string Machine { get; set; }
    public string? Store { get; set; }
    public long? PlannedRunId { get; set; }
    public Instant? Due { get; set; }
    public required string Cause { get; set; }
    public RunState State { get; set; }
    public Outcome? Outcome { get; set; }
    public FailureClass? Failure { get; set; }
    public string? Sentence { get; set; }
    public Instant Queued { get; set; }
    public Instant? Began { get; set; }
    public Instant? Ended { get; set; }
    public string? Order { get; set; }
    public string? CopyId { get; set; }
    public long Items { get; set; }
    public long SelectedBytes { get; set; }
    public long ReadBytes { get; set; }
    public long NewBytes { get; set; }
    public long StoredBytes { get; set; }
    public long Skipped { get; set; }
}

/// <summary>What the catalogue knows of a copy; the store's record is the truth. GoneAt is set when its bytes were reclaimed.</summary>
public sealed class Copy
{
    public required string Id { get; set; }
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public required string Store { get; set; }
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
}

public enum AlertState { Open, Acknowledged, Closed }

public enum AlertClass { Failed, Missed, Unsound }

/// <summary>One open matter about one subject.</summary>
public sealed class Alert
{
    public long Id { get; set; }
    public required string Subject { get; set; }
    public AlertClass Class { get; set; }
    public AlertState State { get; set; }
    public required string Message { get; set; }
    public required string Remedy { get; set; }
    public int Count { get; set; }
    public Instant OpenedAt { get; set; }
    public Instant LastAt { get; set; }
    public string? AcknowledgedBy { get; set; }
    public Instant? AcknowledgedAt { get; set; }
    public Instant? ClosedAt { get; set; }
    public long? RunId { get; set; }
}
