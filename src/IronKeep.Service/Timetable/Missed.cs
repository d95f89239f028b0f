using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Timetable;

/// <summary>
/// What follows from planned runs that were missed: one alert, and one run that makes up for all of them. Source: docs/semantics.md,
/// section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class Missed(CharterInForce inForce, RunQueue queue, AlertBook alerts, TimeProvider clock, IOptions<ServiceSettings> settings)
    : IFollower
{
    public string Name => "missed";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.PlannedRunMissed];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        foreach (var group in facts.GroupBy(f => (Job: f.Job!, Machine: f.Machine!)))
        {
            if (inForce.Charter.Placed.Find(group.Key.Job, group.Key.Machine) is not { } job)
                continue;
            var ids = group.Select(f => f.PlannedRunId!.Value).ToList();
            var planned = await db.PlannedRuns.AsNoTracking().Where(p => ids.Contains(p.Id)).ToListAsync(cancel);
            // A watched job may have been heard of after all.
            if (planned.MaxBy(p => p.Until ?? p.Due) is not { Outcome: Outcome.Missed } last)
                continue;
            var zone = inForce.Charter.ZoneOf(job);
            var makesUp = await CatchUpAsync(db, job, last, cancel);
            var count = group.Sum(f => f.Count);
            var lastDue = last.Until ?? last.Due;
            var isElsewhere = last.Machine != settings.Value.Machine;
            var why =
                job.Watched || last.Reason is not { } reason || reason.EndsWith(Serving.ServiceWasOff, StringComparison.Ordinal)
                    ? ""
                    : $" ({reason})";
            var remedy = isElsewhere ? RemedyElsewhere(last.Machine) : AlertBook.MissedRemedy;
            await alerts.RaiseAsync(
                db,
                new Matter(
                    Subject.OfJob(last.Job, last.Machine),
                    AlertClass.Missed,
                    $"{(count == 1 ? "a planned run" : $"{count} planned runs")} of {last.Job} "
                        + (
                            !job.Watched ? $"did not start{why}"
                            : job.HeardBy is [EvidenceSource.Folder] ? $"left no copy in {string.Join(" or ", job.Into)}"
                            : count == 1 ? "was not heard of"
                            : "were not heard of"
                        )
                        + "; "
                        + $"the last was due {lastDue.Local(zone)}; {makesUp}",
                    job.HeardBy is [EvidenceSource.Folder]
                            ? $"Check on {last.Machine} whether it ran, and where its files go; one that comes and was taken in its time "
                                + $"is heard by itself. Nothing of it expires while the newest is older than promised."
                        : job.Watched
                            ? $"Check on {last.Machine} whether it ran; if it did, let it say so with 'ironkeep job check-in {last.Job}'."
                        : remedy
                )
                {
                    Times = count,
                    Shared = new Shared(
                        Subject.OfMachine(last.Machine),
                        job.Watched
                            ? $"{{jobs}} on {last.Machine} were not heard of; the last was due {lastDue.Local(zone)}"
                            : $"{{jobs}} on {last.Machine} had planned runs that did not start; the last was due {lastDue.Local(zone)}",
                        job.Watched
                            ? $"Check whether {last.Machine} is on and its clock is right; what comes late is heard by itself."
                            : remedy
                    ),
                },
                cancel
            );
        }
    }

    private static string RemedyElsewhere(string machine) =>
        $"See that {machine} is on and its agent at work when its jobs are due, and that it gives what they need; the run that makes up "
        + "for it begins by itself when it is back.";

    /// <summary>Queues one run for all that was missed, unless the next planned one is near; says what will make up for them.</summary>
    private async Task<string> CatchUpAsync(KeepContext db, PlacedJob job, PlannedRun last, CancellationToken cancel)
    {
        var now = clock.Now();
        if (job.Watched)
            return $"something else carries it out on {last.Machine}";
        if (job.CatchUp == CatchUp.None)
            return "by its charter nothing makes up for it";
        var zone = inForce.Charter.ZoneOf(job);
        var next = job.After is null ? inForce.Charter.DueTimesOf(job)?.Next(now) : null;
        if (next is { } due && due - now < job.CatchUpGap.ToDuration())
            return $"the run due {due.Local(zone)} makes up for it";
        if (last.MadeUpBy is { } done)
            return $"run {done} has made up for it";
        var busy = await db
            .Runs.Where(r => r.Job == job.Name && r.Machine == last.Machine && r.Kind == RunKind.Backup && r.State != RunState.Ended)
            .OrderByDescending(r => r.Id)
            .Select(r => (long?)r.Id)
            .FirstOrDefaultAsync(cancel);
        if (busy is { } run)
            return $"run {run} makes up for it";
        if (job.After is not null)
            return "it follows the next run of the job before it";
        var begins = now + job.WaitAfterReturn.ToDuration();
        var catchUp = await queue.AddAsync(
            db,
            new RunRequest(RunKind.Backup, job.Name, RunQueue.StoreOf(job), Actor.CatchUp)
            {
                Machine = last.Machine,
                NotBefore = begins,
                Due = last.Until ?? last.Due,
            },
            cancel
        );
        return $"run {catchUp.Id} makes up for it, from {begins.Local(zone)} on";
    }
}
