namespace IronKeep.Contracts;

/// <summary>
/// A job as declared, with where it stands. When is its own schedule; after the job whose success makes it due instead. Stale: in
/// one of its stores the newest good copy is older than fresh-within. A list gives the next due instant, a single job the next five.
/// </summary>
public sealed record JobAnswer(
    string Name,
    string Machine,
    IReadOnlyList<string> Takes,
    IReadOnlyList<string> LeavesOut,
    IReadOnlyList<string> Into,
    string? When,
    string? After,
    string Zone,
    string Policy,
    string Keep,
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

/// <summary>What a night was for a job: the worst outcome of its planned runs that night, or null when none was planned. Date is the local date the night begins on.</summary>
public sealed record NightCell(string Date, string? Outcome, int Planned, long? RunId);
