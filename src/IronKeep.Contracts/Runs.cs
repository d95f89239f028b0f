namespace IronKeep.Contracts;

/// <summary>
/// One attempt. Kind is backup, check, prune, reclaim or restore; state queued, running or ended; outcome and failure as in
/// docs/words.md. Sizes in bytes: selected (all that was taken), read, new to the store, stored compressed. Rate in bytes a second.
/// </summary>
public sealed record RunAnswer(
    long Id,
    string Kind,
    string? Job,
    string Machine,
    string? Store,
    string Cause,
    string State,
    string? Outcome,
    string? Failure,
    string? Sentence,
    string? Remedy,
    DateTimeOffset? Due,
    DateTimeOffset Queued,
    DateTimeOffset? Began,
    DateTimeOffset? Ended,
    RunFiguresAnswer Figures,
    string? CopyId);

/// <summary>A run's figures. Expected values come from the last good runs and are null when there are none.</summary>
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
    double? ElapsedSeconds);

/// <summary>One line of a run's log; severity is info, warning or error.</summary>
public sealed record RunLogLine(DateTimeOffset At, string Severity, string Text);

/// <summary>A run's log from a position on; the next position to ask for.</summary>
public sealed record RunLogAnswer(IReadOnlyList<RunLogLine> Lines, int Next);
