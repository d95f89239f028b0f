using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// What an alert is about: the parts that its kind has, and the whole in words. Name is that of a channel, an account or a part of the
/// service.
/// </summary>
public sealed record SubjectAnswer(SubjectKind Kind, string? Job, string? Machine, string? Store, string? Name, string Words);

/// <summary>
/// One open matter about one subject. Class is silent, missed, suspect, overdue, nearly-full, braked-prune, failed, untold, stale,
/// clock or unsound; state open, acknowledged or closed. Affected: the jobs that one cause stops, where there are several.
/// </summary>
public sealed record AlertAnswer(
    long Id,
    SubjectAnswer Subject,
    AlertClass Class,
    AlertState State,
    string Message,
    string Remedy,
    int Count,
    DateTimeOffset OpenedAt,
    DateTimeOffset LastAt,
    string? AcknowledgedBy,
    DateTimeOffset? AcknowledgedAt,
    DateTimeOffset? ClosedAt,
    long? RunId,
    IReadOnlyList<string> Affected,
    string? ClosedBy,
    string? ClosedReason
);

/// <summary>
/// What needs a person, and the sums of the last night. From and to (UTC) are the cuts: noon to noon in the charter's zone.
/// Planned is the sum of all outcomes and still running.
/// </summary>
public sealed record DutyAnswer(
    DateTimeOffset AsOf,
    string Zone,
    DateTimeOffset From,
    DateTimeOffset To,
    int Planned,
    IReadOnlyDictionary<string, int> Outcomes,
    int StillRunning,
    int Unplanned,
    IReadOnlyList<AlertAnswer> Alerts,
    IReadOnlyList<DutyJobRow> Board
);

/// <summary>One job's row of the night board, oldest night first.</summary>
public sealed record DutyJobRow(
    string Job,
    string Machine,
    bool Watched,
    IReadOnlyList<NightCell> Nights,
    DateTimeOffset? NewestGoodCopy,
    bool Stale,
    PauseAnswer? Pause
);

/// <summary>Why an alert that nothing else will close can be closed.</summary>
public sealed record AlertCloseRequest(string Reason);

/// <summary>A new name for the service's machine, and the one that it had.</summary>
public sealed record RenameRequest(string Name);

public sealed record RenameAnswer(string Before, string Name);
