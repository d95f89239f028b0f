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

/// <summary>A sign-in of a browser; it holds until it is ended, by whoever, or its time is over.</summary>
public sealed class Session
{
    public required string Id { get; set; }
    public int PersonId { get; set; }
    public Person Person { get; set; } = null!;
    public required string Address { get; set; }
    public required string Program { get; set; }
    public Instant MadeAt { get; set; }
    public Instant SeenAt { get; set; }
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

/// <summary>An address from which a calendar program reads the timetable; whoever has it can read that and nothing else.</summary>
public sealed class CalendarFeed
{
    public long Id { get; set; }
    public required string Label { get; set; }
    public required byte[] Hash { get; set; }
    public required string MadeBy { get; set; }
    public Instant MadeAt { get; set; }
    public Instant? LastReadAt { get; set; }
}

/// <summary>A charter as it was applied; the newest is in force.</summary>
public sealed class CharterRevision
{
    public long Id { get; set; }
    public Instant AppliedAt { get; set; }
    public required string By { get; set; }
    public required string Yaml { get; set; }
}

/// <summary>
/// Up to where the due instants of a job on a machine have been turned into planned runs, and what holds for the job as a whole.
/// ResumeAt is the watermark from before a clock that is in doubt jumped forward; BaseRunId the first run that bands look at.
/// </summary>
public sealed class JobWatch
{
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public Instant Watermark { get; set; }
    public Instant? ResumeAt { get; set; }

    /// <summary>Since when the job is watched on the machine.</summary>
    public Instant Since { get; set; }
    public long BaseRunId { get; set; }
    public string? PausedBy { get; set; }
    public string? PausedReason { get; set; }
    public Instant? PausedAt { get; set; }
    public Instant? PausedUntil { get; set; }
}

/// <summary>Up to where the due instants of a store's own work (check, reclaim) or of the duty mail (store "") have been served.</summary>
public sealed class StoreWatch
{
    public required string Store { get; set; }
    public required string What { get; set; }
    public Instant Watermark { get; set; }
}

/// <summary>When a pack of a store was last read and found as written.</summary>
public sealed class PackRead
{
    public required string Store { get; set; }
    public required string Pack { get; set; }
    public Instant At { get; set; }
}

/// <summary>A fact that the service keeps about itself, as text under a key.</summary>
public sealed class Note
{
    public required string Key { get; set; }
    public required string Value { get; set; }
}

/// <summary>Something to be told through a channel, kept until it is sent or given up. Data is the event of a webhook, as JSON.</summary>
public sealed class Message
{
    public long Id { get; set; }
    public required string Channel { get; set; }
    public required string Subject { get; set; }
    public required string Body { get; set; }
    public required string Type { get; set; }
    public required string Data { get; set; }
    public Instant MadeAt { get; set; }
    public Instant NextAt { get; set; }
    public int Attempts { get; set; }
    public Instant? EndedAt { get; set; }
    public bool Sent { get; set; }
    public string? Problem { get; set; }
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

    /// <summary>The run that made up for it, when it was missed.</summary>
    public long? MadeUpBy { get; set; }

    /// <summary>How many due instants it stands for: after a long absence what was missed is one row, from Due until Until.</summary>
    public int Times { get; set; } = 1;
    public Instant? Until { get; set; }

    /// <summary>Whether what follows from its outcome has been done: false from when it is missed or given up until its alert and what makes up for it are written.</summary>
    public bool Told { get; set; } = true;
}

public enum RunKind { Backup, Check, Prune, Reclaim, Restore, Export, Heal }

public enum RunState { Queued, Running, Ended }

/// <summary>
/// One attempt. Order holds what the kind needs to know, as JSON; NotBefore is how long it waits at least; CopyIds the copies it
/// left, one a line.
/// </summary>
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
    public Instant? NotBefore { get; set; }
    public int Attempt { get; set; }
    public string? Order { get; set; }
    public string CopyIds { get; set; } = "";
    public string? ConfirmedBy { get; set; }
    public Instant? ConfirmedAt { get; set; }
    public long Items { get; set; }
    public long SelectedBytes { get; set; }
    public long ReadBytes { get; set; }
    public long NewBytes { get; set; }
    public long StoredBytes { get; set; }
    public long Skipped { get; set; }

    /// <summary>How long it worked, in seconds by the steady clock; null while it works, and for runs of before.</summary>
    public double? TookSeconds { get; set; }

    /// <summary>The store whose fault a failure was, and what an alert says where the whole sentence would be too much.</summary>
    public string? FailedStore { get; set; }
    public string? Brief { get; set; }

    /// <summary>Whether what follows from its end has been done: alerts, prunes, news. False from the moment it ends until then, so that a crash between leaves nothing undone.</summary>
    public bool Followed { get; set; } = true;

    /// <summary>How long it worked; unknown is zero.</summary>
    public Duration Took => TookSeconds is { } took ? Duration.FromSeconds(took) : this is { Began: { } began, Ended: { } ended } ? Duration.Max(Duration.Zero, ended - began) : Duration.Zero;
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

public enum AlertState { Open, Acknowledged, Closed }

/// <summary>What an alert is about, the gravest last: what threatens the copies that are kept outweighs a run that did not come off.</summary>
public enum AlertClass { Silent, SignIns, Missed, Suspect, Overdue, NearlyFull, BrakedPrune, Failed, Untold, Stale, Service, Clock, Unsound }

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

    /// <summary>When it was last told; it is told again while nobody has seen it.</summary>
    public Instant? ToldAt { get; set; }

    /// <summary>The jobs that one cause affects, one a line; empty where the subject says it all.</summary>
    public string Affected { get; set; } = "";

    /// <summary>The person who closed it, and why; null where it closed by itself.</summary>
    public string? ClosedBy { get; set; }
    public string? ClosedReason { get; set; }
}
