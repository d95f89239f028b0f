using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>A run that was begun by hand, or why it was not, in words for whoever asked.</summary>
public sealed record Begun(Run? Run, string? Refusal);

/// <summary>Runs a job because a person asks for it, whether at the job itself or at the alert that its failure raised.</summary>
public sealed class RunNow(RunQueue queue)
{
    /// <summary>Queues a run of the job on its machine, or lets one that waits for its time begin.</summary>
    /// <param name="order">With which settings, where not the charter's in force.</param>
    /// <param name="notBefore">When it may begin; null: at once.</param>
    /// <param name="also">What is written down with it, in the same change.</param>
    public async Task<Begun> BeginAsync(
        KeepContext db,
        PlacedJob job,
        string by,
        CancellationToken cancel,
        RerunOrder? order = null,
        Instant? notBefore = null,
        Action<Run>? also = null
    )
    {
        var machine = job.Machine;
        if (job.Watched)
            return new Begun(null, RefusalOf(job));
        // Two who ask at once must not both find it idle.
        await using var change = await db.BeginChangeAsync(cancel);
        var busy = await db.Runs.FirstOrDefaultAsync(
            r => r.Job == job.Name && r.Machine == machine && r.Kind == RunKind.Backup && r.State != RunState.Ended,
            cancel
        );
        if (busy is { State: RunState.Queued, NotBefore: not null, Order: null } && order is null && notBefore is null)
        {
            // One that waits for its time is asked for now.
            busy.NotBefore = null;
            return await DoneAsync(busy);
        }
        if (busy is { State: RunState.Queued })
            return new Begun(null, $"job {job.Name} waits to begin already (run {busy.Id}); let that run begin, or cancel it first");
        if (busy is not null)
            return new Begun(null, $"job {job.Name} is at work already (run {busy.Id}); watch that run, or cancel it first");
        if (await db.HangingRuns.FirstOrDefaultAsync(h => h.Job == job.Name && h.Machine == machine, cancel) is { } hung)
            return new Begun(
                null,
                $"job {job.Name} hangs still (run {hung.RunId}, which was given up); find what it waits for, or start the service again"
            );
        return await DoneAsync(
            await queue.AddAsync(
                db,
                new RunRequest(RunKind.Backup, job.Name, RunQueue.StoreOf(job), Actor.Person(by))
                {
                    Machine = machine,
                    Order = order,
                    NotBefore = notBefore,
                },
                cancel
            )
        );

        async Task<Begun> DoneAsync(Run run)
        {
            also?.Invoke(run);
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
            queue.Announce(run);
            return new Begun(run, null);
        }
    }

    /// <summary>Why a watched job cannot be run from here.</summary>
    public static string RefusalOf(PlacedJob job) =>
        $"job {job.Name} is watched: something else carries it out on {job.Machine}; start it there";
}
