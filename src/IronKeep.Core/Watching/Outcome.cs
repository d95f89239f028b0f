namespace IronKeep.Core.Watching;

/// <summary>How a run or a planned run ended. Source: docs/words.md and docs/semantics.md, section 6 (Watching).</summary>
public enum Outcome
{
    Ok,
    Warned,
    Suspect,
    Failed,
    TimedOut,
    Missed,
    Refused,
    HeldBack,
    NotNeeded,
    Cancelled,
}

/// <summary>The state of a copy in its store.</summary>
public enum CopyState
{
    Unchecked,
    Sound,
    Unsound,
    Partial,
    Missing,
}
