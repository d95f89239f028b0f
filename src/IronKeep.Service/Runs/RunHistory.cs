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
        var baseRun = await db
            .JobsOnMachines.Where(w => w.Job == before.Job && w.Machine == before.Machine)
            .Select(w => w.BaseRunId)
            .FirstOrDefaultAsync(cancel);
        var rows = await db
            .Runs.AsNoTracking()
            .Where(r =>
                r.Job == before.Job
                && r.Machine == before.Machine
                && r.Kind == RunKind.Backup
                && r.Id < before.Id
                && r.Id >= baseRun
                && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned || (r.Outcome == Outcome.Suspect && r.ConfirmedAt != null))
            )
            .OrderByDescending(r => r.Id)
            .Take(Bands.Looks)
            .ToListAsync(cancel);
        return [.. rows.Select(r => new RunMeasure(r.Items, r.SelectedBytes, r.Took))];
    }
}
