using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Hosting;
using IronKeep.Service.Jobs;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Takes up planned runs that wait: queues them, or ends them as missed, held back or not needed, and lets one run make up for all
/// that were missed. Source: docs/semantics.md, section 2.
/// </summary>
public sealed class Serving(CharterInForce inForce, RunQueue queue, AlertBook alerts, CheckIns checkIns, NightBoard board, TimeProvider clock)
{
    public const string ByCatchUp = "catch-up";
    private const string Waits = "waits for an earlier run of the job";

    private sealed record Open(KeepContext Db, Instant Now, Dictionary<string, Run> Busy, Dictionary<string, JobWatch> Watches, HashSet<string> WaitingJobs);

    /// <summary>One look at everything that waits; the caller holds the loop.</summary>
    public async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        var waiting = await db.PlannedRuns.Where(p => p.Outcome == null && p.RunId == null).OrderBy(p => p.Due).ThenBy(p => p.Job).ToListAsync(cancel);
        if (waiting.Count == 0) return;
        var busy = await db.Runs.Where(r => r.State != RunState.Ended && r.Kind == RunKind.Backup).ToListAsync(cancel);
        var open = new Open(db, clock.Now(), busy.GroupBy(r => r.Job!).ToDictionary(g => g.Key, g => g.Last()),
            await db.JobWatches.AsNoTracking().ToDictionaryAsync(w => w.Job, cancel), []);
        // All at once: the dispatch, which looks by itself too, must choose among all that is due, not among the first few.
        await using (var together = await db.Database.BeginTransactionAsync(cancel))
        {
            foreach (var planned in waiting) await OneAsync(open, planned, cancel);
            await db.SaveChangesAsync(cancel);
            await together.CommitAsync(cancel);
        }
        board.Changed(waiting[0].Due, open.Now);
        foreach (var silent in waiting.Where(p => p.Outcome == Outcome.TimedOut)) await checkIns.SilentAsync(silent, cancel);
        foreach (var group in waiting.Where(p => p.Outcome == Outcome.Missed).GroupBy(p => p.Job)) await MissedAsync(open, [.. group], cancel);
        queue.Wake();
    }

    private async Task OneAsync(Open open, PlannedRun planned, CancellationToken cancel)
    {
        if (!inForce.Charter.Jobs.TryGetValue(planned.Job, out var job))
        {
            End(planned, Outcome.Cancelled, "the job was taken out of the charter");
            return;
        }
        if (open.Watches.TryGetValue(planned.Job, out var watch) && Pauses.IsPaused(watch, open.Now))
        {
            End(planned, Outcome.HeldBack, $"paused by {watch.PausedBy} until {watch.PausedUntil!.Value.Local(inForce.Charter.ZoneOf(job))}: {watch.PausedReason}");
            return;
        }
        var startBy = planned.Due + job.StartLimit.ToDuration();
        if (job.Watched)
        {
            CheckIns.Judge(planned, job, open.Now);
            return;
        }
        if (job.After is { } before && !await FollowsAsync(open.Db, planned, before, cancel)) return;
        open.Busy.TryGetValue(planned.Job, out var other);
        if (other is not null && job.Overlap == Overlap.Wait && other.NotBefore is null && (planned.Reason == Waits || open.Now <= startBy))
        {
            if (open.WaitingJobs.Add(planned.Job)) planned.Reason = Waits;
            else End(planned, Outcome.NotNeeded, "overlap: merged into the planned run that waits already");
            return;
        }
        if (job.After is null && planned.Reason != Waits && open.Now > startBy)
        {
            End(planned, Outcome.Missed, $"not started within {job.StartLimit}: the service was not running");
            return;
        }
        if (other is { State: RunState.Queued, NotBefore: not null, PlannedRunId: null })
        {
            // A catch-up run that still waits is overtaken by the planned run.
            if (await queue.DropAsync(open.Db, other, Outcome.NotNeeded, $"the run planned for {planned.Due.Local(inForce.Charter.ZoneOf(job))} serves in its place", cancel)) other = null;
        }
        if (other is not null)
        {
            End(planned, Outcome.NotNeeded, $"overlap: run {other.Id} of the job is still at work");
            return;
        }
        open.Busy[planned.Job] = await queue.AddPlannedAsync(open.Db, planned, job, cancel);
    }

    /// <summary>Whether the job that this one follows has succeeded for the same due instant; ends the planned run when it never will.</summary>
    private static async Task<bool> FollowsAsync(KeepContext db, PlannedRun planned, string before, CancellationToken cancel)
    {
        var head = await db.PlannedRuns.FirstOrDefaultAsync(p => p.Job == before && p.Machine == planned.Machine && p.Due == planned.Due, cancel);
        if (head is { Outcome: null }) return false;
        if (head is { Outcome: Outcome.Ok or Outcome.Warned }) return true;
        End(planned, Outcome.HeldBack, head is null ? $"job {before}, which it follows, was not due then" : $"job {before}, which it follows, ended as {Kebab.Of(head.Outcome!.Value)}");
        return false;
    }

    private async Task MissedAsync(Open open, List<PlannedRun> missed, CancellationToken cancel)
    {
        var last = missed[^1];
        var job = inForce.Charter.Jobs[last.Job];
        var zone = inForce.Charter.ZoneOf(job);
        var makesUp = await CatchUpAsync(open, job, last, cancel);
        await alerts.RaiseAsync(new Matter(AlertBook.JobSubject(last.Job, last.Machine), AlertClass.Missed,
            $"{(missed.Count == 1 ? "a planned run" : $"{missed.Count} planned runs")} of {last.Job} {(job.Watched ? "was not heard of" : "did not start")}; the last was due {last.Due.Local(zone)}; {makesUp}",
            job.Watched ? $"Look on {last.Machine} whether it ran; if it did, let it say so with 'ironkeep job check-in {last.Job}'." : AlertBook.MissedRemedy)
        { Times = missed.Count }, cancel);
    }

    /// <summary>Queues one run for all that was missed, unless the next planned one is near; says what will make up for them.</summary>
    private async Task<string> CatchUpAsync(Open open, JobDeclaration job, PlannedRun last, CancellationToken cancel)
    {
        if (job.Watched) return $"something else carries it out on {last.Machine}";
        if (job.CatchUp == CatchUp.None) return "by its charter nothing makes up for it";
        var zone = inForce.Charter.ZoneOf(job);
        var next = job.After is null ? inForce.Charter.DueTimesOf(job, last.Machine)?.Next(open.Now) : null;
        if (next is { } due && due - open.Now < job.CatchUpGap.ToDuration()) return $"the run due {due.Local(zone)} makes up for it";
        if (open.Busy.TryGetValue(job.Name, out var run)) return $"run {run.Id} makes up for it";
        if (job.After is not null) return "it follows the next run of the job before it";
        var begins = open.Now + job.WaitAfterReturn.ToDuration();
        await queue.AddAsync(new RunRequest(RunKind.Backup, job.Name, RunQueue.StoreOf(job), ByCatchUp) { NotBefore = begins, Due = last.Due }, cancel);
        return $"one run makes up for it, from {begins.Local(zone)} on";
    }

    private static void End(PlannedRun planned, Outcome outcome, string reason)
    {
        planned.Outcome = outcome;
        planned.Reason = reason;
    }
}
