namespace IronKeep.Contracts;

/// <summary>A job as declared, with where it stands. Freshness is the age of the newest good copy in seconds.</summary>
public sealed record JobAnswer(
    string Name,
    string Machine,
    IReadOnlyList<string> Takes,
    IReadOnlyList<string> LeavesOut,
    string Store,
    string? When,
    string Zone,
    string Policy,
    string Keep,
    string? FreshWithin,
    IReadOnlyList<DueAnswer> NextDue,
    RunAnswer? LastRun,
    CopyAnswer? NewestGoodCopy,
    int Copies,
    bool Stale,
    IReadOnlyList<NightCell> Nights);

/// <summary>A due instant: UTC, and the local time with offset in the job's zone.</summary>
public sealed record DueAnswer(DateTimeOffset Utc, string Local);

/// <summary>One due instant of one job, for the timetable.</summary>
public sealed record TimetableEntry(string Job, string Machine, DateTimeOffset Utc, string Local, string Zone, string Store);

/// <summary>What a night was for a job: the worst outcome of its planned runs that night, or null when none was planned. Date is the local date the night begins on.</summary>
public sealed record NightCell(string Date, string? Outcome, int Planned, long? RunId);
