using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Prunes;

/// <summary>
/// Prunes after a run that succeeded, in each of the job's stores; a plan that the brake holds becomes an alert in place of a prune. Tied
/// to success, never to a clock: after a failure, or while a copy is in doubt, nothing is pruned.
/// </summary>
public sealed class PrunesAfterSuccess(CharterInForce inForce, PruneDesk desk, RunQueue queue) : IFollower
{
    public string Name => "prunes-after-success";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var prunes = inForce
            .Charter.Placed.All.Where(j => j.Prune == PruneTime.AfterSuccess && j.Into.Length > 0)
            .ToDictionary(j => (j.Name, j.Machine));
        var runs = await Ended.RunsOfAsync(
            db,
            facts.Where(f => f is { Job: not null, Machine: not null } && prunes.ContainsKey((f.Job, f.Machine))),
            r => (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched) && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned),
            cancel
        );
        if (runs.Count == 0)
            return;
        var queued = (
            await db
                .Runs.AsNoTracking()
                .Where(r => r.Kind == RunKind.Prune && r.State == RunState.Queued)
                .Select(r => new
                {
                    r.Job,
                    r.Machine,
                    r.Store,
                })
                .ToListAsync(cancel)
        ).Select(r => (r.Job!, r.Machine, r.Store!)).ToHashSet();
        var look = await desk.LookAsync(db, cancel);
        foreach (var fact in facts)
        {
            if (!runs.TryGetValue(fact.RunId ?? 0, out var run))
                continue;
            var job = prunes[(run.Job!, run.Machine)];
            foreach (var store in job.Into)
            {
                // One that is queued, or was planned here just now, is made of what there is now as well.
                if (!queued.Add((job.Name, run.Machine, store)))
                    continue;
                if (await desk.AutomaticAsync(db, job, run.Machine, store, look, cancel) is ({ } fingerprint, > 0))
                    await queue.AddAsync(
                        db,
                        new RunRequest(RunKind.Prune, job.Name, store, Actor.OfRun(run.Id))
                        {
                            Machine = run.Machine,
                            Order = new PruneOrder(fingerprint) { Automatic = true },
                        },
                        cancel
                    );
            }
        }
    }
}
