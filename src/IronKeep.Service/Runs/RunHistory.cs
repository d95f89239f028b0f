using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>What a job's last good runs took: the base of expectations, run limits and bands.</summary>
public static class RunHistory
{
    /// <summary>
    /// The last good backup runs before the given one, newest first, since the base was begun anew. A suspect run is good from
    /// when a person has confirmed it.
    /// </summary>
    public static async Task<List<RunMeasure>> LastGoodAsync(KeepContext db, Run before, CancellationToken cancel)
    {
        var rows = await (await GoodAsync(db, before, cancel)).Take(Bands.Looks).ToListAsync(cancel);
        return [.. rows.Select(r => new RunMeasure(r.Items, r.SelectedBytes, r.Took))];
    }

    /// <summary>What they changed, newest first, without those that changed so much that somebody had to look.</summary>
    public static async Task<List<ChurnMeasure>> LastChurnsAsync(KeepContext db, Run before, CancellationToken cancel)
    {
        var good = await GoodAsync(db, before, cancel);
        var rows = await good.Where(r => r.Surge == null || r.ConfirmedAt != null).Take(Surges.Looks).ToListAsync(cancel);
        return [.. rows.Select(r => new ChurnMeasure(new Churn(r.Known, r.Altered, r.Gone, r.Added), r.NewBytes, r.StoredBytes))];
    }

    private static async Task<IQueryable<Run>> GoodAsync(KeepContext db, Run before, CancellationToken cancel)
    {
        var baseRun = await db
            .JobsOnMachines.Where(w => w.Job == before.Job && w.Machine == before.Machine)
            .Select(w => w.BaseRunId)
            .FirstOrDefaultAsync(cancel);
        return db
            .Runs.AsNoTracking()
            .Where(r =>
                r.Job == before.Job
                && r.Machine == before.Machine
                && r.Kind == RunKind.Backup
                && r.Id < before.Id
                && r.Id >= baseRun
                && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned || (r.Outcome == Outcome.Suspect && r.ConfirmedAt != null))
            )
            .OrderByDescending(r => r.Id);
    }

    /// <summary>
    /// Why nothing of a job expires for what its runs changed, by job and machine: a run that changed too much, which nobody has looked at.
    /// </summary>
    public static async Task<Dictionary<(string Job, string Machine), string>> SurgesAsync(KeepContext db, CancellationToken cancel)
    {
        var runs = await db
            .Runs.AsNoTracking()
            .Where(r => r.Surge != null && r.SurgeSeenBy == null)
            .OrderBy(r => r.Id)
            .Select(r => new
            {
                r.Id,
                r.Job,
                r.Machine,
            })
            .ToListAsync(cancel);
        return runs.GroupBy(r => (r.Job!, r.Machine))
            .ToDictionary(g => g.Key, g => $"run {g.First().Id} changed more at once than the job does, and nobody has looked yet");
    }
}
