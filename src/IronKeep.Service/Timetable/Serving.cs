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

    /// <summary>Begins the reason of a planned run that was held back and may go on after all.</summary>
    public const string HeadDone = "goes on: ";
    private const string Waits = "waits for an earlier run of the job";

    private sealed record Open(KeepContext Db, Instant Now, Dictionary<string, Run> Busy, Dictionary<(string, string), JobWatch> Watches, HashSet<string> WaitingJobs);

    /// <summary>One look at everything that waits; the caller holds the loop.</summary>
    public async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        db.ChangeTracker.Clear();
        var waiting = await db.PlannedRuns.Where(p => p.Outcome == null && p.RunId == null).OrderBy(p => p.Due).ThenBy(p => p.Job).ToListAsync(cancel);
        if (waiting.Count > 0) await TakeUpAsync(db, waiting, cancel);
        await TellAsync(db, cancel);
    }

    private async Task TakeUpAsync(KeepContext db, List<PlannedRun> waiting, CancellationToken cancel)
    {
        var busy = await db.Runs.Where(r => r.State != RunState.Ended && r.Kind == RunKind.Backup).ToListAsync(cancel);
        var open = new Open(db, clock.Now(), busy.GroupBy(r => r.Job!).ToDictionary(g => g.Key, g => g.Last()),
            await db.JobWatches.AsNoTracking().ToDictionaryAsync(w => (w.Job, w.Machine), cancel), []);
        // All at once: the dispatch, which looks by itself too, must choose among all that is due, not among the first few.
        await using (var together = await db.Database.BeginTransactionAsync(cancel))
        {
            foreach (var planned in waiting)
            {
                await OneAsync(open, planned, cancel);
                // What follows is found by this mark, also after a crash: the alert, and the run that makes up for it.
                if (planned.Outcome is Outcome.Missed or Outcome.TimedOut) planned.Told = false;
            }
            await db.SaveChangesAsync(cancel);
            await together.CommitAsync(cancel);
        }
        board.Changed(waiting[0].Due, open.Now);
        queue.Wake();
    }

    /// <summary>Does what follows from what was missed or given up, where nobody has done it yet.</summary>
    private async Task TellAsync(KeepContext db, CancellationToken cancel)
    {
        var untold = await db.PlannedRuns.Where(p => !p.Told).OrderBy(p => p.Due).ToListAsync(cancel);
        if (untold.Count == 0) return;
        foreach (var silent in untold.Where(p => p.Outcome == Outcome.TimedOut)) await checkIns.SilentAsync(silent, cancel);
        foreach (var group in untold.Where(p => p.Outcome == Outcome.Missed).GroupBy(p => (p.Job, p.Machine)))
            if (inForce.Charter.Jobs.ContainsKey(group.Key.Job)) await MissedAsync(db, [.. group], cancel);
        foreach (var planned in untold) planned.Told = true;
        await db.SaveChangesAsync(cancel);
        queue.Wake();
    }

    private async Task OneAsync(Open open, PlannedRun planned, CancellationToken cancel)
    {
        if (!inForce.Charter.Jobs.TryGetValue(planned.Job, out var job))
        {
            End(planned, Outcome.Cancelled, "the job was taken out of the charter");
            return;
        }
        if (open.Watches.TryGetValue((planned.Job, planned.Machine), out var watch) && Pauses.IsPaused(watch, open.Now))
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
        if (job.After is { } before && planned.Reason?.StartsWith(HeadDone, StringComparison.Ordinal) != true && !await FollowsAsync(open.Db, planned, before, cancel)) return;
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

    private async Task MissedAsync(KeepContext db, List<PlannedRun> missed, CancellationToken cancel)
    {
        var last = missed[^1];
        var job = inForce.Charter.Jobs[last.Job];
        var zone = inForce.Charter.ZoneOf(job);
        var makesUp = await CatchUpAsync(db, job, last, cancel);
        var count = missed.Sum(m => m.Times);
        var lastDue = last.Until ?? last.Due;
        await alerts.RaiseAsync(new Matter(AlertBook.JobSubject(last.Job, last.Machine), AlertClass.Missed,
            $"{(count == 1 ? "a planned run" : $"{count} planned runs")} of {last.Job} {(!job.Watched ? "did not start" : count == 1 ? "was not heard of" : "were not heard of")}; the last was due {lastDue.Local(zone)}; {makesUp}",
            job.Watched ? $"Look on {last.Machine} whether it ran; if it did, let it say so with 'ironkeep job check-in {last.Job}'." : AlertBook.MissedRemedy)
        { Times = count }, cancel);
    }

    /// <summary>Queues one run for all that was missed, unless the next planned one is near; says what will make up for them.</summary>
    private async Task<string> CatchUpAsync(KeepContext db, JobDeclaration job, PlannedRun last, CancellationToken cancel)
    {
        var now = clock.Now();
        if (job.Watched) return $"something else carries it out on {last.Machine}";
        if (job.CatchUp == CatchUp.None) return "by its charter nothing makes up for it";
        var zone = inForce.Charter.ZoneOf(job);
        var next = job.After is null ? inForce.Charter.DueTimesOf(job, last.Machine)?.Next(now) : null;
        if (next is { } due && due - now < job.CatchUpGap.ToDuration()) return $"the run due {due.Local(zone)} makes up for it";
        if (last.MadeUpBy is { } done) return $"run {done} has made up for it";
        var busy = await db.Runs.Where(r => r.Job == job.Name && r.Kind == RunKind.Backup && r.State != RunState.Ended).OrderByDescending(r => r.Id).Select(r => (long?)r.Id).FirstOrDefaultAsync(cancel);
        if (busy is { } run) return $"run {run} makes up for it";
        if (job.After is not null) return "it follows the next run of the job before it";
        var begins = now + job.WaitAfterReturn.ToDuration();
        var catchUp = await queue.AddAsync(db, new RunRequest(RunKind.Backup, job.Name, RunQueue.StoreOf(job), ByCatchUp) { NotBefore = begins, Due = last.Until ?? last.Due }, cancel);
        return $"run {catchUp.Id} makes up for it, from {begins.Local(zone)} on";
    }

    private static void End(PlannedRun planned, Outcome outcome, string reason)
    {
        planned.Outcome = outcome;
        planned.Reason = reason;
    }
}
