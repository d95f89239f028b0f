using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Catalogue;

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

    /// <summary>Who or what asked for it.</summary>
    public ActorKind ByKind { get; set; }
    public string? ByName { get; set; }
    public long? ByRunId { get; set; }
    public Actor By
    {
        get => new(ByKind) { Name = ByName, RunId = ByRunId };
        init => (ByKind, ByName, ByRunId) = (value.Kind, value.Name, value.RunId);
    }

    /// <summary>The worker that has it, or had it last. Only who it names may end it.</summary>
    public string? Worker { get; set; }

    /// <summary>That somebody asked for its end, as an order to its worker: who, or "limit".</summary>
    public string? StopAsked { get; set; }
    public RunState State { get; set; }
    public Outcome? Outcome { get; set; }
    public FailureClass? Failure { get; set; }
    public string? Sentence { get; set; }
    public Instant Queued { get; set; }
    public Instant? Began { get; set; }
    public Instant? Ended { get; set; }

    /// <summary>The revision of the charter in force when it began; null for runs of before that was kept.</summary>
    public long? Revision { get; set; }
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

    /// <summary>
    /// Of a watched run: the exit code that was heard, and the evidence as JSON: what decided, and where each part came from.
    /// </summary>
    public int? ExitCode { get; set; }
    public string? Evidence { get; set; }

    /// <summary>The store whose fault a failure was, and what an alert says where the whole sentence would be too much.</summary>
    public string? FailedStore { get; set; }
    public string? Brief { get; set; }

    /// <summary>What became of the files of the copy before; all zero where there was none, or nothing is known of it.</summary>
    public long Known { get; set; }
    public long Altered { get; set; }
    public long Gone { get; set; }
    public long Added { get; set; }

    /// <summary>Why it changed more at once than its job does; nothing of the job expires until a person has looked.</summary>
    public string? Surge { get; set; }
    public string? SurgeSeenBy { get; set; }

    /// <summary>What is expected of it, and how fast it moved last; kept where others than its worker are asked for it.</summary>
    public long? ExpectedItems { get; set; }
    public long? ExpectedBytes { get; set; }
    public double? Rate { get; set; }

    /// <summary>How long it worked; unknown is zero.</summary>
    public Duration Took =>
        TookSeconds is { } took ? Duration.FromSeconds(took)
        : this is { Began: { } began, Ended: { } ended } ? Duration.Max(Duration.Zero, ended - began)
        : Duration.Zero;
}

/// <summary>
/// A run that was given up and whose work hangs on in its worker: while that is heard of, nothing else of its job begins.
/// </summary>
public sealed class HangingRun
{
    public long RunId { get; set; }
    public required string Worker { get; set; }
    public string? Job { get; set; }
    public required string Machine { get; set; }
}
