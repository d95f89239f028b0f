using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Alerts;

/// <summary>
/// What a job's matter becomes when other jobs have the same at the same time: one alert about what they share. <paramref name="Words"/>
/// says it of many, with {jobs} where their number goes; <paramref name="Failure"/> is the failure class that must be the same.
/// </summary>
public sealed record Shared(Subject Subject, string Words, string Remedy, FailureClass? Failure = null)
{
    public string WordsFor(int jobs) => Words.Replace("{jobs}", $"{jobs} jobs", StringComparison.Ordinal);
}

/// <summary>Finds what several jobs share. Source: docs/semantics.md, section 6 (Watching).</summary>
internal static class SharedCauses
{
    /// <summary>Matters that begin further apart have nothing to do with each other.</summary>
    private static readonly Duration Apart = Duration.FromHours(12);

    /// <summary>Whether an alert is of the cause that a matter has; one about another failure of the same machine is not.</summary>
    public static async Task<bool> IsOfSameAsync(KeepContext db, Alert alert, Matter matter, CancellationToken cancel) =>
        matter.Shared!.Failure is not { } failure || await db.Runs.AnyAsync(r => r.Id == alert.RunId && r.Failure == failure, cancel);

    /// <summary>The open alert about what is shared; null: none yet.</summary>
    public static Task<Alert?> OpenAsync(KeepContext db, Matter matter, CancellationToken cancel) =>
        db
            .Alerts.Where(matter.Shared!.Subject.Has)
            .Where(a => a.Class == matter.Class && a.State != AlertState.Closed && a.Affected != "")
            .FirstOrDefaultAsync(cancel);

    /// <summary>Open alerts of other jobs that say the same.</summary>
    public static async Task<List<Alert>> OthersAsync(KeepContext db, Matter matter, Instant now, CancellationToken cancel)
    {
        var since = now - Apart;
        var (kind, machine, job, failure) = (matter.Class, matter.Subject.Machine, matter.Subject.Job, matter.Shared!.Failure);
        return await db
            .Alerts.Where(a => a.State != AlertState.Closed && a.Class == kind && a.SubjectKind == SubjectKind.Job)
            .Where(a => a.SubjectMachine == machine && a.SubjectJob != job && a.LastAt > since)
            .Where(a => failure == null || db.Runs.Any(r => r.Id == a.RunId && r.Failure == failure))
            .ToListAsync(cancel);
    }

    public static string[] JobsOf(Alert alert) => alert.Affected.Split('\n', StringSplitOptions.RemoveEmptyEntries);

    /// <summary>Open alerts about what is shared on a job's machine and in which it has a part.</summary>
    public static async Task<List<Alert>> WithAsync(KeepContext db, Subject job, AlertClass[] kinds, CancellationToken cancel)
    {
        if (job is not { Kind: SubjectKind.Job, Job: { } name })
            return [];
        var open = await db
            .Alerts.Where(a => a.State != AlertState.Closed && kinds.Contains(a.Class) && a.Affected != "")
            .Where(a => a.SubjectKind == SubjectKind.Machine && a.SubjectMachine == job.Machine)
            .ToListAsync(cancel);
        return [.. open.Where(a => JobsOf(a).Contains(name))];
    }
}
