using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Catalogue;

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
public sealed class JobOnMachine
{
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public Instant Watermark { get; set; }
    public Instant? ResumeAt { get; set; }

    /// <summary>Since when the job is watched on the machine.</summary>
    public Instant Since { get; set; }
    public long BaseRunId { get; set; }

    /// <summary>Who asked that the next copy be a full one; null: nobody.</summary>
    public string? FullAskedBy { get; set; }
    public string? PausedBy { get; set; }
    public string? PausedReason { get; set; }
    public Instant? PausedAt { get; set; }
    public Instant? PausedUntil { get; set; }

    /// <summary>Until when a person holds all expiry of the job, by whom and why.</summary>
    public Instant? ExpiryHeldUntil { get; set; }
    public string? ExpiryHeldBy { get; set; }
    public string? ExpiryHeldReason { get; set; }
}

/// <summary>Up to where the due instants of a store's own work (check, reclaim) or of the duty mail (store "") have been served.</summary>
public sealed class TimedMark
{
    public required string Store { get; set; }
    public required string What { get; set; }
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
    public PlannedStand? Stand { get; set; }
    public string? Reason { get; set; }
    public long? RunId { get; set; }

    /// <summary>The run that made up for it, when it was missed.</summary>
    public long? MadeUpBy { get; set; }

    /// <summary>How many due instants it stands for: after a long absence what was missed is one row, from Due until Until.</summary>
    public int Times { get; set; } = 1;
    public Instant? Until { get; set; }
}

/// <summary>The secret address at which a watched job on a machine checks in, kept as a hash.</summary>
public sealed class CheckInAddress
{
    public long Id { get; set; }
    public required string Job { get; set; }
    public required string Machine { get; set; }
    public required byte[] Hash { get; set; }
    public required string MadeBy { get; set; }
    public Instant MadeAt { get; set; }
    public Instant? LastHeardAt { get; set; }
}

/// <summary>A report that was taken, so that one that is delivered twice counts once.</summary>
public sealed class TakenReport
{
    public required string Id { get; set; }
    public Instant At { get; set; }
    public long RunId { get; set; }
}
