using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// What an alert is about: the parts that its kind has, and the whole in words. Name is that of a channel, an account or a part of the
/// service.
/// </summary>
public sealed record SubjectAnswer(SubjectKind Kind, string? Job, string? Machine, string? Store, string? Name, string Words);

/// <summary>
/// One open matter about one subject. Class is silent, missed, suspect, overdue, nearly-full, braked-prune, failed, untold, stale,
/// clock or unsound; state open, acknowledged, known or closed; severity is what is at stake: notice, failure, broken-promise or danger.
/// Affected: the jobs that one cause stops, where there are several. Known until: nobody is told before that.
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
    string? ClosedReason,
    Severity Severity,
    DateTimeOffset? KnownUntil,
    string? KnownBy,
    string? KnownReason
);

/// <summary>
/// Something that happened to an alert: by whom (null: by itself), in words, and the run that was begun with how it stands.
/// </summary>
public sealed record AlertDeedAnswer(
    DateTimeOffset At,
    AlertDeedKind Kind,
    string? By,
    string? Words,
    long? RunId,
    RunState? RunState,
    Outcome? Outcome
);

/// <summary>
/// A job that an alert is about, or that its cause stops: how old its newest good copy is against its promise, and how its last run stands.
/// </summary>
public sealed record AlertJobAnswer(
    string Job,
    string Machine,
    bool Watched,
    DateTimeOffset? NewestGoodCopy,
    string? FreshWithin,
    bool Stale,
    RunAnswer? LastRun
);

/// <summary>A run that somebody began because of an alert, and what came of it.</summary>
public sealed record AlertTriedAnswer(long RunId, string? By, string? Words, RunState? State, Outcome? Outcome);

/// <summary>
/// An earlier alert of the same subject and class: how long it was open, in seconds, what was tried, and what ended it.
/// </summary>
public sealed record AlertBeforeAnswer(
    long Id,
    DateTimeOffset OpenedAt,
    DateTimeOffset? ClosedAt,
    double? OpenSeconds,
    int Count,
    string? ClosedBy,
    string? ClosedReason,
    IReadOnlyList<string> Notes,
    IReadOnlyList<AlertTriedAnswer> Tried
);

/// <summary>
/// An alert with all that helps to settle it: what was done about it, oldest first; the jobs it concerns; the last lines of its run that
/// say why; the same trouble within the last year, newest first, of which there were so many in all;
/// the copies that cannot be given back whole; and its tickets in outside desks.
/// </summary>
public sealed record AlertWholeAnswer(
    AlertAnswer Alert,
    IReadOnlyList<AlertDeedAnswer> Deeds,
    IReadOnlyList<AlertJobAnswer> Jobs,
    IReadOnlyList<RunLogLine> Lines,
    IReadOnlyList<AlertBeforeAnswer> Before,
    int TimesBefore,
    IReadOnlyList<AlertCopyAnswer> Copies,
    IReadOnlyList<AlertTicketAnswer> Tickets
);

/// <summary>
/// A ticket in an outside desk; reference and page are null where the desk gave none. Closed: the desk was told that it is over.
/// </summary>
public sealed record AlertTicketAnswer(string Channel, string? Reference, string? Page, DateTimeOffset OpenedAt, DateTimeOffset? ClosedAt);

/// <summary>A copy that a damaged store cannot give back whole: how many of its files are hurt, and the first of them.</summary>
public sealed record AlertCopyAnswer(string Id, string Job, string Machine, DateTimeOffset Taken, int Files, IReadOnlyList<string> Paths);

/// <summary>Says that a matter is known until an instant, and why nobody needs to be told before it.</summary>
public sealed record AlertKnownRequest(string Reason, DateTimeOffset Until);

/// <summary>A person's words to an alert.</summary>
public sealed record AlertNoteRequest(string Words);

/// <summary>What running again what an alert is about would do, job by job.</summary>
public sealed record AlertRerunPreview(IReadOnlyList<AlertRerunJob> Jobs);

/// <summary>
/// One job of it. Refused: why it cannot be run from here. Run: the one that failed, which worked with that revision of the charter, and
/// what of the job changed since, as far as a run goes by it. Window opens: when the quiet hours or closed days that hold now are over.
/// </summary>
public sealed record AlertRerunJob(
    string Job,
    string? Machine,
    string? Refused,
    long? RunId,
    long? Revision,
    IReadOnlyList<FieldChangeAnswer> Changes,
    DateTimeOffset? WindowOpens,
    string? Window,
    DateTimeOffset? NextDue
);

/// <summary>What came of running again what an alert is about: the runs, and for each job that was not begun the reason.</summary>
public sealed record AlertRerunAnswer(IReadOnlyList<RunAnswer> Runs, IReadOnlyList<string> Refused);

/// <summary>
/// What needs a person, and the sums of the last night. From and to (UTC) are the cuts: noon to noon in the charter's zone.
/// Planned is the sum of all outcomes and still running. Board has a row for each job where these are few; where they are many it is empty
/// and groups stand in its place. Tonight is what the forecast expects of the coming night, the first of it, and how many more there are;
/// null while it is being played.
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
    IReadOnlyList<DutyJobRow> Board,
    DutyGrouping GroupedBy,
    IReadOnlyList<DutyGroupRow> Groups,
    DutySince Since,
    DutyPromises Promises,
    IReadOnlyList<DutyTrouble>? Tonight,
    int TonightMore,
    DutyCoverage Coverage
);

/// <summary>By what the rows of the night board are put together: job by job, or by machine or tag where there are too many.</summary>
public enum DutyGrouping
{
    Job,
    Tag,
    Machine,
}

/// <summary>
/// Jobs of the night board put together: how many they are, how many of them are stale, paused, and went wrong last night, and their last
/// nights, oldest first. Groups is more than 1 in the last row, where all that do not fit stand together.
/// </summary>
public sealed record DutyGroupRow(
    string Name,
    int Groups,
    int Jobs,
    int Stale,
    int Paused,
    int WrongLastNight,
    IReadOnlyList<DutyGroupNight> Nights
);

/// <summary>A night of a group: how many runs were planned, of how many jobs it went wrong, and the worst outcome of any.</summary>
public sealed record DutyGroupNight(string Date, int Planned, int Bad, Outcome? Worst);

/// <summary>What changed within the last 24 hours.</summary>
public sealed record DutySince(int AlertsOpened, int AlertsClosed, int CopiesMade, int CopiesExpired, int CopiesGone, int CharterChanges);

/// <summary>
/// How the promises of freshness stand: jobs, those with any copy, those that promise, and those whose promise is broken, of which the
/// ones furthest behind are named.
/// </summary>
public sealed record DutyPromises(int Jobs, int WithCopies, int Promised, int Broken, IReadOnlyList<DutyBroken> Worst);

/// <summary>A job whose newest good copy is older than promised.</summary>
public sealed record DutyBroken(string Job, string Machine, DateTimeOffset? NewestGoodCopy, string FreshWithin);

/// <summary>Something that the forecast expects to go wrong in the coming night, with the way out.</summary>
public sealed record DutyTrouble(DateTimeOffset At, string Subject, string Message, string Remedy);

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

/// <summary>
/// What was gathered and told together: under which name, in one sentence, and the alerts and runs; the first of them are given and all
/// are counted.
/// </summary>
public sealed record GatheredAnswer(
    string Name,
    string Words,
    IReadOnlyList<AlertAnswer> Alerts,
    IReadOnlyList<RunAnswer> Runs,
    int AlertCount,
    int RunCount
);
