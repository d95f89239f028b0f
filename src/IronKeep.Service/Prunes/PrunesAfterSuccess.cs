using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Prunes;

/// <summary>
/// Prunes after a run that succeeded, in each of the job's stores; a plan that the brake holds becomes an alert in place of a prune. Tied to success,
/// never to a clock: after a failure, or while a copy is in doubt, nothing is pruned.
/// </summary>
public sealed class PrunesAfterSuccess(CharterInForce inForce, PruneDesk desk, RunQueue queue) : IFollower
{
    public string Name => "prunes-after-success";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var runs = await Ended.RunsOfAsync(db, facts, cancel);
        var queued = (await db.Runs.AsNoTracking().Where(r => r.Kind == RunKind.Prune && r.State == RunState.Queued).Select(r => new { r.Job, r.Machine, r.Store }).ToListAsync(cancel))
            .Select(r => (r.Job!, r.Machine, r.Store!)).ToHashSet();
        var look = await desk.LookAsync(db, cancel);
        foreach (var fact in facts)
        {
            if (fact.Job is null || !inForce.Charter.Jobs.TryGetValue(fact.Job, out var job) || job.Prune != PruneTime.AfterSuccess) continue;
            if (runs.GetValueOrDefault(fact.RunId ?? 0) is not { Kind: RunKind.Backup or RunKind.Watched, Outcome: Outcome.Ok or Outcome.Warned } run) continue;
            foreach (var store in job.Into)
            {
                // One that is queued, or was planned here just now, is made of what there is now as well.
                if (!queued.Add((job.Name, run.Machine, store))) continue;
                if (await desk.AutomaticAsync(db, job, run.Machine, store, look, cancel) is ({ } fingerprint, > 0))
                    await queue.AddAsync(db, new RunRequest(RunKind.Prune, job.Name, store, Actor.OfRun(run.Id)) { Machine = run.Machine, Order = new PruneOrder(fingerprint) { Automatic = true } }, cancel);
            }
        }
    }
}
