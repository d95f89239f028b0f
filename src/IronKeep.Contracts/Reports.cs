using IronKeep.Core.Reports;
using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// A report that is kept. From and to are its first date and the date after its last, in the charter's zone. Made is null while it waits to
/// be made; problem says why it could not be.
/// </summary>
public sealed record ReportListAnswer(
    long Id,
    string Name,
    ReportPeriod Every,
    string From,
    string To,
    DateTimeOffset? MadeAt,
    string? Problem
);

/// <summary>Asks for a report; absent dates: the last whole period.</summary>
public sealed record ReportRequest(string Name, string? From = null);

/// <summary>
/// How backups went over a period, for the jobs that the report is of. Hours are those within the period, up to when it was made. Rate is
/// the share (0 to 1) of the runs that should have come off that did; null where there was none.
/// </summary>
public sealed record ReportAnswer(
    string Name,
    ReportPeriod Every,
    string Of,
    string Machine,
    string Zone,
    string From,
    string To,
    DateTimeOffset MadeAt,
    ReportRuns Runs,
    IReadOnlyList<ReportCause> Causes,
    ReportFreshness Freshness,
    IReadOnlyList<ReportJob> Jobs,
    IReadOnlyList<ReportStore> Stores,
    ReportAlerts Alerts
);

/// <summary>
/// The planned runs by outcome. Should have come off: all but those that were not needed, were cancelled, or are at work still. Succeeded:
/// ok and warned.
/// </summary>
public sealed record ReportRuns(
    int Planned,
    IReadOnlyDictionary<string, int> Outcomes,
    int StillRunning,
    int ShouldHave,
    int Succeeded,
    double? Rate,
    int Unplanned
);

/// <summary>Why runs did not come off: in words, how often, and of which jobs, the most often first.</summary>
public sealed record ReportCause(string Cause, int Times, IReadOnlyList<string> Jobs);

/// <summary>
/// Promises of freshness: jobs that promise, those whose promise was broken, and the hours kept and broken, summed over jobs.
/// </summary>
public sealed record ReportFreshness(int Promised, int Broken, double KeptHours, double BrokenHours);

/// <summary>One job: its runs, its promise, and what it took up, in bytes.</summary>
public sealed record ReportJob(
    string Job,
    string Machine,
    int Planned,
    int Succeeded,
    int Missed,
    int Failed,
    string? FreshWithin,
    double? KeptHours,
    double? BrokenHours,
    int CopiesMade,
    int CopiesRemoved,
    long StoredBytes
);

/// <summary>
/// A store of these jobs: what they added and what was removed of theirs; what the whole store uses and has room for (null: unknown); the
/// date on which the forecast expects it to be full (null: not within a year); how much of it was read back, ever and within its time.
/// </summary>
public sealed record ReportStore(
    string Store,
    int CopiesMade,
    int CopiesExpired,
    int CopiesRemoved,
    long AddedBytes,
    long? UsedBytes,
    long? RoomBytes,
    string? FullOn,
    ReadingAnswer? Reading
);

/// <summary>Alerts of these jobs, of their stores and machines, that opened in the period, and how long they took to close.</summary>
public sealed record ReportAlerts(int Opened, int Closed, int StillOpen, double? MedianSeconds, IReadOnlyList<ReportAlertClass> Classes);

/// <summary>Alerts of one class; times to repair are those of the closed ones, in seconds.</summary>
public sealed record ReportAlertClass(AlertClass Class, int Opened, int StillOpen, double? MedianSeconds, double? LongestSeconds);
