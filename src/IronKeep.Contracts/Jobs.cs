using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Contracts;

/// <summary>
/// A job as declared, with where it stands. Watched: something else carries it out, so it takes nothing and has no policy. When is its
/// own schedule in words; after the job whose success makes it due instead. Stale: in
/// one of its stores the newest good copy is older than fresh-within. A list gives the next due instant, a single job the next five.
/// </summary>
public sealed record JobAnswer(
    string Name,
    string Machine,
    bool Watched,
    string? Note,
    IReadOnlyList<string> Takes,
    IReadOnlyList<string> LeavesOut,
    IReadOnlyList<string> Into,
    string? When,
    string? After,
    string Zone,
    string? Policy,
    string? Keep,
    string? FreshWithin,
    IReadOnlyList<DueAnswer> NextDue,
    RunAnswer? LastRun,
    CopyAnswer? NewestGoodCopy,
    int Copies,
    bool Stale,
    PauseAnswer? Pause,
    IReadOnlyList<NightCell> Nights,
    ExpiryHoldAnswer? ExpiryHold
)
{
    /// <summary>Of a watched job: by what it is heard of, its logs, its programs in syslog, and the rules that judge them.</summary>
    public required IReadOnlyList<EvidenceSource> HeardBy { get; init; }
    public required IReadOnlyList<string> Logs { get; init; }
    public required IReadOnlyList<string> Syslog { get; init; }
    public required string? LogRules { get; init; }

    /// <summary>The steps whose output it takes, and those around its copies; null where it has none.</summary>
    public required IReadOnlyList<string> Streams { get; init; }
    public required JobStepsAnswer? Steps { get; init; }

    /// <summary>What it makes between full copies, and when the next full one is due, in words; null where every copy is whole.</summary>
    public required string? Partials { get; init; }

    /// <summary>Who asked that the next copy be a full one; null: nobody.</summary>
    public required string? FullAskedBy { get; init; }

    /// <summary>How it says on which machines it is, of one that can be on several; null: it is on this one alone.</summary>
    public required string? OnSeveral { get; init; }

    /// <summary>Of a single job: every value that holds for it on the machine; null in a list.</summary>
    public required IReadOnlyList<JobValueAnswer>? Values { get; init; }
}

/// <summary>
/// A value of a job on a machine, in the charter's words, and where it comes from: "job", "variant NAME", "group NAME", "charter",
/// "machine", or "usual", where nobody says anything.
/// </summary>
public sealed record JobValueAnswer(string Key, string Text, string From);

/// <summary>The steps around a job's copies, by name, in order.</summary>
public sealed record JobStepsAnswer(
    IReadOnlyList<string> Before,
    string? Until,
    IReadOnlyList<string> AfterSuccess,
    IReadOnlyList<string> AfterFailure,
    IReadOnlyList<string> AlwaysAfter
);

/// <summary>Who paused a job, why, since when and until when.</summary>
public sealed record PauseAnswer(string By, string Reason, DateTimeOffset Since, DateTimeOffset Until);

/// <summary>Who holds all expiry of a job, why and until when.</summary>
public sealed record ExpiryHoldAnswer(string By, string Reason, DateTimeOffset Until);

/// <summary>
/// Why nothing of a job is to expire, and until when; the alert that gave rise to it, where one did, on which it is noted.
/// </summary>
public sealed record ExpiryHoldRequest(string Reason, DateTimeOffset Until, long? AlertId = null);

/// <summary>Why a job is to be paused, and until when.</summary>
public sealed record PauseRequest(string Reason, DateTimeOffset Until);

/// <summary>A due instant: UTC, and the local time with offset in the job's zone.</summary>
public sealed record DueAnswer(DateTimeOffset Utc, string Local);

/// <summary>One due instant of one job, for the timetable.</summary>
public sealed record TimetableEntry(string Job, string Machine, DateTimeOffset Utc, string Local, string Zone, IReadOnlyList<string> Into);

/// <summary>
/// What a night was for a job: the worst outcome of its planned runs that night, null when none was planned, or none has ended yet. Date is
/// the local date the night begins on.
/// </summary>
public sealed record NightCell(string Date, Outcome? Outcome, int Planned, long? RunId);

/// <summary>
/// What a watched job says of itself: that it started or ended; the exit code of one that ended (absent: 0), and a word about it. With an
/// id it is taken once, however often it is sent. Began and at are its machine's own times, for what is delivered later. Figures are what
/// it says of itself; log is the end of what it wrote, and read what its rules made of all of it where it was written.
/// </summary>
public sealed record CheckInRequest(CheckInState State, int? ExitCode = null, string? Note = null)
{
    public string? Id { get; init; }
    public DateTimeOffset? Began { get; init; }
    public DateTimeOffset? At { get; init; }
    public CheckInFigures? Figures { get; init; }
    public string? Log { get; init; }
    public bool LogCut { get; init; }
    public ReadLog? Read { get; init; }
}

/// <summary>Figures of a run; bytes, and seconds.</summary>
public sealed record CheckInFigures(
    long? Items = null,
    long? Bytes = null,
    double? Seconds = null,
    long? Skipped = null,
    long? Errors = null
);

/// <summary>
/// What rules made of a log where it was written: the line that decided, the first that warned and how many did, and the figures that were
/// read.
/// </summary>
public sealed record ReadLog(
    EvidenceLine? Deciding,
    IReadOnlyList<EvidenceLine> Warned,
    long WarnedCount,
    CheckInFigures Figures,
    int? ExitCode,
    long Lines,
    bool HasEnd = true
)
{
    /// <summary>What was read of a run, with lines counted from the one after so many.</summary>
    public static ReadLog Of(LogRun run, long before, double? seconds, long lines, bool hasEnd) =>
        new(
            run.Deciding is { } d ? Line(d, before) : null,
            [.. run.Warned.Select(w => Line(w, before))],
            run.WarnedCount,
            new CheckInFigures(run.Items, run.Bytes, seconds, run.Skipped, run.Errors),
            run.Code,
            lines,
            hasEnd
        );

    /// <summary>
    /// What was read of a run that was found in a log: within the text that is kept of it, lines count from its first, and where it says no
    /// duration its times do.
    /// </summary>
    public static ReadLog OfFound(LogRun run, LogRules rules) =>
        Of(run, run.FirstLine - 1, run.TookSeconds, run.LastLine - run.FirstLine + 1, run.HasEnd || !rules.HasEnds);

    private static EvidenceLine Line(LogMark mark, long before) => new(Math.Max(1, mark.Line - before), mark.List, mark.Text, mark.Class);
}

/// <summary>
/// A line that counts: its number from 1, the list of the rules that it is of, its text, and the class of failure that it names.
/// </summary>
public sealed record EvidenceLine(long Line, LogList List, string Text, FailureClass? Class = null);

/// <summary>One thing that was heard of a run: from which source, when its machine says it was, when it was received, what.</summary>
public sealed record HeardAnswer(EvidenceSource Source, DateTimeOffset? At, DateTimeOffset Received, string What);

/// <summary>What a watched run was judged by: what was heard, and the lines that decided.</summary>
public sealed record EvidenceAnswer(IReadOnlyList<HeardAnswer> Heard, IReadOnlyList<EvidenceLine> Lines);

/// <summary>The address at which a job checks in; path is null but when it is made, for it is shown once.</summary>
public sealed record CheckInAddressAnswer(
    string Job,
    string Machine,
    string? Path,
    string MadeBy,
    DateTimeOffset MadeAt,
    DateTimeOffset? LastHeardAt
);

/// <summary>
/// The planned run that a check-in was taken for; due null: none was near, it counts as unplanned. Outcome null while it is at work.
/// </summary>
public sealed record CheckInAnswer(string Job, DateTimeOffset? Due, Outcome? Outcome, string? Reason, long? RunId);

/// <summary>
/// One due instant of a job: when it is due in the end, what its schedule itself names, whether its windows dropped it, and why it
/// differs. Outcome and reason are those of its planned run, where it has one.
/// </summary>
public sealed record DueWhy(
    DateTimeOffset Utc,
    string Local,
    DateTimeOffset Named,
    bool Dropped,
    string? Why,
    Outcome? Outcome,
    string? Reason,
    long? RunId
);

/// <summary>When a job is due around an instant: in words, what holds at that instant, the last before it and the next after it.</summary>
public sealed record JobWhenAnswer(
    string Job,
    string Machine,
    string Zone,
    DateTimeOffset AsOf,
    string Words,
    IReadOnlyList<string> Facts,
    IReadOnlyList<DueWhy> Before,
    IReadOnlyList<DueWhy> After
);
