using IronKeep.Core.Watching;

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
    IReadOnlyList<NightCell> Nights);

/// <summary>Who paused a job, why, since when and until when.</summary>
public sealed record PauseAnswer(string By, string Reason, DateTimeOffset Since, DateTimeOffset Until);

/// <summary>Why a job is to be paused, and until when.</summary>
public sealed record PauseRequest(string Reason, DateTimeOffset Until);

/// <summary>A due instant: UTC, and the local time with offset in the job's zone.</summary>
public sealed record DueAnswer(DateTimeOffset Utc, string Local);

/// <summary>One due instant of one job, for the timetable.</summary>
public sealed record TimetableEntry(string Job, string Machine, DateTimeOffset Utc, string Local, string Zone, IReadOnlyList<string> Into);

/// <summary>What a night was for a job: the worst outcome of its planned runs that night, null when none was planned, or none has ended yet. Date is the local date the night begins on.</summary>
public sealed record NightCell(string Date, Outcome? Outcome, int Planned, long? RunId);

/// <summary>What a watched job says of itself: state started or ended; the exit code of one that ended (absent: 0), and a word about it.</summary>
public sealed record CheckInRequest(string State, int? ExitCode = null, string? Note = null);

/// <summary>The planned run that a check-in was taken for; due null: none was near, it counts as unplanned. Outcome null while it is at work.</summary>
public sealed record CheckInAnswer(string Job, DateTimeOffset? Due, Outcome? Outcome, string? Reason);

/// <summary>
/// One due instant of a job: when it is due in the end, what its schedule itself names, whether its windows dropped it, and why it
/// differs. Outcome and reason are those of its planned run, where it has one.
/// </summary>
public sealed record DueWhy(DateTimeOffset Utc, string Local, DateTimeOffset Named, bool Dropped, string? Why, Outcome? Outcome, string? Reason, long? RunId);

/// <summary>When a job is due around an instant: in words, what holds at that instant, the last before it and the next after it.</summary>
public sealed record JobWhenAnswer(string Job, string Machine, string Zone, DateTimeOffset AsOf, string Words, IReadOnlyList<string> Facts, IReadOnlyList<DueWhy> Before, IReadOnlyList<DueWhy> After);
