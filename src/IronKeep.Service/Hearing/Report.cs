using IronKeep.Contracts;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Something heard of a watched job on a machine: that it started, or that it ended and how. Received is when it came here; At when its
/// machine says that it was. Where a source names no planned run, the instant decides which one it is about.
/// </summary>
public sealed record Report(string Job, string Machine, EvidenceSource Source, CheckInState State, Instant Received)
{
    /// <summary>Of a report that can come twice: what it is known by.</summary>
    public string? Id { get; init; }
    public Instant? At { get; init; }

    /// <summary>The number of the check-in address at which it came.</summary>
    public long? Address { get; init; }

    /// <summary>When the run began, where it is said with the end.</summary>
    public Instant? Began { get; init; }
    public int? ExitCode { get; init; }
    public string? Note { get; init; }
    public CheckInFigures? Figures { get; init; }

    /// <summary>The end of what it wrote, and whether there was more before.</summary>
    public string? Log { get; init; }
    public bool LogCut { get; init; }
    public ReadLog? Read { get; init; }

    /// <summary>The due instant that it is about, where its source knows.</summary>
    public Instant? Due { get; init; }

    /// <summary>How far its begin may be from what was said of it before, where the clock of its machine is off.</summary>
    public Duration Slack { get; init; }

    /// <summary>Whether the run's copy is where it leaves one, and why that copy is in doubt; null: it says nothing of that.</summary>
    public bool? LeftCopy { get; init; }
    public string? Doubt { get; init; }

    public Instant When => At ?? Received;
}

/// <summary>What became of a report: the run that it is of, and its planned run where it has one.</summary>
public sealed record Taken(long? RunId, Instant? Due, Outcome? Outcome, string? Sentence);
