using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>Who or what asked for a run: a person by name, a run by its number, the schedule; and the whole in words.</summary>
public sealed record ActorAnswer(ActorKind Kind, string? Name, long? RunId, string Words);

/// <summary>
/// One attempt. A suspect run waits for somebody to
/// confirm it. Not before is how long a queued run waits at least; attempt counts earlier tries. Of a watched run, what it was judged by is
/// its evidence, and its exit code what was heard. Surge: why it changed more at once than its job does; nothing of the job expires until a
/// person has looked, who is then named. Waits for: what keeps a queued run from beginning, null where that is not known. State queued,
/// running or ended; outcome and failure as in docs/words.md. Sizes in bytes: selected (all that was taken), read, new to the store,
/// stored compressed. Rate in bytes a second.
/// </summary>
public sealed record RunAnswer(
    long Id,
    RunKind Kind,
    string? Job,
    string Machine,
    string? Store,
    ActorAnswer By,
    RunState State,
    Outcome? Outcome,
    FailureClass? Failure,
    string? Sentence,
    string? Remedy,
    DateTimeOffset? Due,
    DateTimeOffset Queued,
    DateTimeOffset? Began,
    DateTimeOffset? Ended,
    RunFiguresAnswer Figures,
    string? CopyId,
    IReadOnlyList<string> CopyIds,
    DateTimeOffset? NotBefore,
    int Attempt,
    string? ConfirmedBy,
    DateTimeOffset? ConfirmedAt,
    int? ExitCode,
    EvidenceAnswer? Evidence,
    ChurnAnswer? Churn,
    string? Surge,
    string? SurgeSeenBy,
    string? WaitsFor
);

/// <summary>
/// What became of the files of the copy before: how many it had, how many of them have another content and how many are gone, and how many
/// files are new.
/// </summary>
public sealed record ChurnAnswer(long Before, long Altered, long Gone, long Added);

/// <summary>The run of the same job or store that ended before this one; null when there is none.</summary>
public sealed record PreviousRunAnswer(RunAnswer? Run);

/// <summary>One point of a job's history: a backup run that left a copy. Bytes as in the run figures.</summary>
public sealed record HistoryPoint(
    long RunId,
    DateTimeOffset At,
    Outcome Outcome,
    long Items,
    long SelectedBytes,
    long NewBytes,
    long StoredBytes,
    double Seconds
);

/// <summary>A run's figures. Expected values come from the last good runs and are null when there are none; a running
/// run's rate is that of its last minute, remaining (seconds) follows from both and is null when either is unknown.</summary>
public sealed record RunFiguresAnswer(
    long Items,
    long SelectedBytes,
    long ReadBytes,
    long NewBytes,
    long StoredBytes,
    long Skipped,
    long? ExpectedItems,
    long? ExpectedBytes,
    double? BytesPerSecond,
    double? ElapsedSeconds,
    double? RemainingSeconds
);

/// <summary>One line of a run's log.</summary>
public sealed record RunLogLine(DateTimeOffset At, LogSeverity Severity, string Text);

/// <summary>A run's log from a position on; the next position to ask for.</summary>
public sealed record RunLogAnswer(IReadOnlyList<RunLogLine> Lines, int Next, bool More);

/// <summary>
/// The runs that wait, in the order in which they would begin: how many are at work, how many wait, and the first of these.
/// </summary>
public sealed record WaitingAnswer(DateTimeOffset AsOf, int AtWork, int Count, IReadOnlyList<WaitingRunAnswer> Runs);

/// <summary>
/// A run that waits: for what, as an end of "waits for", and about when it begins by what the runs before it usually take (UTC; null:
/// nobody knows, as for one whose machine is away). Importance is from 1 to 5, 5 first.
/// </summary>
public sealed record WaitingRunAnswer(
    long Id,
    RunKind Kind,
    string? Job,
    string Machine,
    string? Store,
    int Importance,
    DateTimeOffset? Due,
    DateTimeOffset Queued,
    string WaitsFor,
    DateTimeOffset? AboutAt
);
