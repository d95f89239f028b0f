namespace IronKeep.Core.Watching;

/// <summary>
/// What is at stake in an alert, the gravest last: something to know; a run that did not come off while an earlier copy is at hand; a
/// promise that is broken; a copy that is in danger. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public enum Severity
{
    Notice,
    Failure,
    BrokenPromise,
    Danger,
}

/// <summary>How grave an alert is. Source: docs/semantics.md, section 6 (Watching).</summary>
public static class Severities
{
    /// <summary>
    /// By its class; what a run did wrong weighs more while its job's copies are older than promised; what the job says of its alerts
    /// stands above both.
    /// </summary>
    public static Severity Of(AlertClass kind, bool stale = false, Severity? said = null)
    {
        if (said is { } by)
            return by;
        var usual = kind switch
        {
            AlertClass.Unsound or AlertClass.Surge => Severity.Danger,
            AlertClass.Stale or AlertClass.Service => Severity.BrokenPromise,
            AlertClass.Failed
            or AlertClass.Missed
            or AlertClass.Overdue
            or AlertClass.Suspect
            or AlertClass.Untold
            or AlertClass.Unread
            or AlertClass.Down
            or AlertClass.Clock => Severity.Failure,
            _ => Severity.Notice,
        };
        return stale && IsOfRuns(kind) && usual < Severity.BrokenPromise ? Severity.BrokenPromise : usual;
    }

    /// <summary>What is at stake, in words for a person: "a copy is in danger".</summary>
    public static string Words(Severity severity) =>
        severity switch
        {
            Severity.Danger => "a copy is in danger",
            Severity.BrokenPromise => "a promise is broken",
            Severity.Failure => "something failed",
            _ => "for your notice",
        };

    /// <summary>Whether a class says of a job that a run of it did not come off as it should.</summary>
    public static bool IsOfRuns(AlertClass kind) =>
        kind is AlertClass.Failed or AlertClass.Missed or AlertClass.Overdue or AlertClass.Suspect;
}

/// <summary>What happened to an alert, for the list of what was done about it.</summary>
public enum AlertDeedKind
{
    Opened,
    Reopened,
    Told,
    Ticket,
    Gathered,
    Escalated,
    Acknowledged,
    Known,
    KnownOver,
    Rerun,
    Noted,
    Closed,
}
