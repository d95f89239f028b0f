namespace IronKeep.Core.Watching;

/// <summary>What a run does. What each kind means for queue, alerts and what follows is said once, by the service's class for it.</summary>
public enum RunKind
{
    Backup,
    Check,
    Prune,
    Reclaim,
    Restore,
    Export,
    Heal,
    Watched,
}

/// <summary>Where a run stands.</summary>
public enum RunState
{
    Queued,
    Running,
    Ended,
}

/// <summary>What a watched job leaves behind, by which it is heard of.</summary>
public enum EvidenceSource
{
    CheckIn,
    Log,
    Syslog,
    Folder,
}

/// <summary>What a check-in says: that the job started, or that it ended.</summary>
public enum CheckInState
{
    Started,
    Ended,
}

/// <summary>How much a line of a run's log matters.</summary>
public enum LogSeverity
{
    Info,
    Warning,
    Error,
}

/// <summary>Where an alert stands. Source: docs/words.md.</summary>
public enum AlertState
{
    Open,
    Acknowledged,
    Known,
    Closed,
}

/// <summary>What an alert says, the gravest last: what threatens the copies that are kept outweighs a run that did not come off.</summary>
public enum AlertClass
{
    Silent,
    SignIns,
    Missed,
    Suspect,
    Overdue,
    NearlyFull,
    BrakedPrune,
    Failed,
    Untold,
    Stale,
    Service,
    Clock,
    Unsound,
    Unread,
    Surge,
    Down,
}

/// <summary>What kind of thing an alert is about.</summary>
public enum SubjectKind
{
    Job,
    Prune,
    Store,
    Reclaim,
    Channel,
    Machine,
    Clock,
    Account,
    Service,
}

/// <summary>Who or what caused something.</summary>
public enum ActorKind
{
    Person,
    Schedule,
    CatchUp,
    Run,
    Service,
    Elsewhere,
}

/// <summary>
/// How a planned run stands that has not ended: it waits for an earlier run, goes on although it was held back, or was said to have
/// started.
/// </summary>
public enum PlannedStand
{
    Waits,
    GoesOn,
    Started,
}

/// <summary>What has happened, for those who follow from it.</summary>
public enum FactKind
{
    RunEnded,
    CopyMade,
    CopyGone,
    PlannedRunEnded,
    PlannedRunMissed,
    PlannedRunSilent,
    AlertChanged,
    CharterApplied,
    MachineRenamed,
}
