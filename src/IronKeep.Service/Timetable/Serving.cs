using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Takes up planned runs that wait: queues them, or ends them as missed, held back or not needed. What follows from one that was missed is
/// <see cref="Missed"/>'s. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class Serving(
    CharterInForce inForce,
    RunQueue queue,
    Leading leading,
    MachineReadiness machines,
    FactSignal signal,
    TimeProvider clock
)
{
    private readonly Instant since = clock.Now();
    private const string Waits = "waits for an earlier run of the job",
        WaitsSince = "waits: ";
    internal const string ServiceWasOff = "the service was not running";

    private sealed record Open(
        KeepContext Db,
        Instant Now,
        Dictionary<(string Job, string Machine), Run> Busy,
        Dictionary<(string, string), JobOnMachine> Watches,
        MachineView Machines
    )
    {
        /// <summary>
        /// Watched runs that began a little before they were due, and those that an agent carried out on its own, by the due instant that
        /// they are meant for.
        /// </summary>
        public Dictionary<(string Job, string Machine, Instant Due), Run> Early { get; init; } = [];
        public HashSet<(string Job, string Machine)> WaitingJobs { get; } = [];
        public List<(PlannedRun Planned, Run Run)> Queued { get; } = [];

        /// <summary>Planned runs that a run stands in the way of, which may have no number yet.</summary>
        public List<(PlannedRun Planned, Run Run)> Overlapping { get; } = [];
    }

    /// <summary>Without a run yet; or with one that something else has begun, and that may be silent for too long.</summary>
    private static readonly System.Linq.Expressions.Expression<Func<PlannedRun, bool>> IsOpen = p =>
        p.Outcome == null && (p.RunId == null || p.Stand == PlannedStand.Started);

    /// <summary>One look at everything that waits; the caller holds the loop.</summary>
    public async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        db.ChangeTracker.Clear();
        if (!await db.PlannedRuns.AnyAsync(IsOpen, cancel))
            return;
        // All at once: the dispatch, which looks by itself too, must choose among all that is due, not among the first few.
        await using (var change = await leading.BeginAsync(db, cancel))
        {
            await inForce.CatchUpAsync(db, cancel);
            var waiting = await db.PlannedRuns.Where(IsOpen).OrderBy(p => p.Due).ThenBy(p => p.Job).ToListAsync(cancel);
            var busy = await db.Runs.Where(r => r.State != RunState.Ended && r.Kind == RunKind.Backup).ToListAsync(cancel);
            var open = new Open(
                db,
                clock.Now(),
                busy.GroupBy(r => (r.Job!, r.Machine)).ToDictionary(g => g.Key, g => g.Last()),
                await db.JobsOnMachines.AsNoTracking().ToDictionaryAsync(w => (w.Job, w.Machine), cancel),
                await machines.LookAsync(db, waiting.Select(p => p.Machine), cancel)
            )
            {
                Early = await EarlyAsync(db, clock.Now(), cancel),
            };
            foreach (var planned in waiting)
                await OneAsync(open, planned, cancel);
            // Saved together: one save each would look through all of them each time.
            await db.SaveChangesAsync(cancel);
            foreach (var (planned, run) in open.Queued)
                (planned.RunId, planned.Reason) = (run.Id, null);
            foreach (var (planned, run) in open.Overlapping)
                End(planned, Outcome.NotNeeded, $"overlap: run {run.Id} of the job is still at work");
            Say(db, waiting.Where(p => p.Outcome is not null).ToList(), open.Now);
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
        }
        queue.Wake();
        signal.Wake();
    }

    private static async Task<Dictionary<(string, string, Instant), Run>> EarlyAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        var since = now - Duration.FromDays(1);
        var early = await db
            .Runs.Where(r =>
                r.Queued >= since
                && r.PlannedRunId == null
                && r.Due != null
                && (r.Kind == RunKind.Watched || (r.Kind == RunKind.Backup && r.ByKind == ActorKind.Elsewhere))
            )
            .OrderBy(r => r.Id)
            .ToListAsync(cancel);
        return early.DistinctBy(r => (r.Job, r.Machine, r.Due)).ToDictionary(r => (r.Job!, r.Machine, r.Due!.Value));
    }

    /// <summary>One fact for all that a job on a machine has missed at once; of the others one each.</summary>
    internal static void Say(KeepContext db, List<PlannedRun> ended, Instant now)
    {
        foreach (var group in ended.Where(p => p.Outcome == Outcome.Missed).GroupBy(p => (p.Job, p.Machine)))
        {
            var last = group.MaxBy(p => p.Until ?? p.Due)!;
            db.Say(
                new Fact
                {
                    At = now,
                    Kind = FactKind.PlannedRunMissed,
                    Job = last.Job,
                    Machine = last.Machine,
                    PlannedRunId = last.Id,
                    Due = group.Min(p => p.Due),
                    Count = group.Sum(p => p.Times),
                }
            );
        }
        foreach (var planned in ended.Where(p => p.Outcome != Outcome.Missed))
            db.SayPlanned(planned, now);
        foreach (var planned in ended.Where(p => p.Outcome == Outcome.TimedOut))
            db.Say(
                new Fact
                {
                    At = now,
                    Kind = FactKind.PlannedRunSilent,
                    Job = planned.Job,
                    Machine = planned.Machine,
                    PlannedRunId = planned.Id,
                    Due = planned.Due,
                }
            );
    }

    private async Task OneAsync(Open open, PlannedRun planned, CancellationToken cancel)
    {
        if (inForce.Charter.Placed.Find(planned.Job, planned.Machine) is not { } job)
        {
            End(
                planned,
                Outcome.Cancelled,
                inForce.Charter.Jobs.ContainsKey(planned.Job)
                    ? $"the job is not on {planned.Machine} any more"
                    : "the job was taken out of the charter"
            );
            return;
        }
        if (open.Watches.TryGetValue((planned.Job, planned.Machine), out var watch) && Pauses.IsPaused(watch, open.Now))
        {
            End(
                planned,
                Outcome.HeldBack,
                $"paused by {watch.PausedBy} until {watch.PausedUntil!.Value.Local(inForce.Charter.ZoneOf(job))}: {watch.PausedReason}"
            );
            return;
        }
        var startBy = planned.Due + job.StartLimit.ToDuration();
        if (job.Watched)
        {
            OfWatched(open, planned, job);
            return;
        }
        if (TakeEarly(open, planned))
            return;
        if (job.After is { } before && planned.Stand != PlannedStand.GoesOn && !await FollowsAsync(open.Db, planned, before, cancel))
            return;
        open.Busy.TryGetValue((planned.Job, planned.Machine), out var other);
        if (
            other is not null
            && job.Overlap == Overlap.Wait
            && other.NotBefore is null
            && (planned.Stand == PlannedStand.Waits || open.Now <= startBy)
        )
        {
            if (open.WaitingJobs.Add((planned.Job, planned.Machine)))
                (planned.Stand, planned.Reason) = (PlannedStand.Waits, Waits);
            else
                End(planned, Outcome.NotNeeded, "overlap: merged into the planned run that waits already");
            return;
        }
        // What an agent did on its own while the service was away may still be on its way.
        if (
            planned.Due <= since
            && open.Now > startBy
            && open.Now < since + job.WaitAfterReturn.ToDuration()
            && StandingBook.GoesOnAlone(inForce.Charter, job)
        )
            return;
        var hindrance = job.After is null ? Hindrance(open.Machines, planned.Machine, job) : null;
        if (job.After is null && open.Now > startBy && (planned.Stand != PlannedStand.Waits || hindrance is not null))
        {
            var waited = planned.Reason?.StartsWith(WaitsSince, StringComparison.Ordinal) == true;
            End(
                planned,
                Outcome.Missed,
                $"not started within {job.StartLimit}: {(waited ? planned.Reason![WaitsSince.Length..] : ServiceWasOff)}"
            );
            return;
        }
        if (hindrance is not null)
        {
            planned.Reason = WaitsSince + hindrance;
            return;
        }
        if (other is { State: RunState.Queued, NotBefore: not null, PlannedRunId: null })
        {
            // A catch-up run that still waits is overtaken by the planned run.
            if (
                await queue.DropAsync(
                    open.Db,
                    other,
                    Outcome.NotNeeded,
                    $"the run planned for {planned.Due.Local(inForce.Charter.ZoneOf(job))} serves in its place",
                    cancel
                )
            )
                other = null;
        }
        if (other is not null)
        {
            open.Overlapping.Add((planned, other));
            return;
        }
        var run = open.Busy[(planned.Job, planned.Machine)] = queue.AddPlanned(open.Db, planned, job);
        open.Queued.Add((planned, run));
    }

    /// <summary>Why a run of the job would not begin on its machine, which may pass by itself; null: nothing is in its way.</summary>
    private static string? Hindrance(MachineView machines, string machine, PlacedJob job) =>
        (machines.Away(machine) ?? (machines.CanBeginHere(machine) ? machines.Lacks(job, machine) : null)) is { } why
            ? $"{machine} {why}"
            : null;

    /// <summary>
    /// Whether the job that this one follows has succeeded for the same due instant; ends the planned run when it never will.
    /// </summary>
    private static async Task<bool> FollowsAsync(KeepContext db, PlannedRun planned, string before, CancellationToken cancel)
    {
        var head = await db.PlannedRuns.FirstOrDefaultAsync(
            p => p.Job == before && p.Machine == planned.Machine && p.Due == planned.Due,
            cancel
        );
        if (head is { Outcome: null })
            return false;
        if (head is { Outcome: Outcome.Ok or Outcome.Warned })
            return true;
        End(
            planned,
            Outcome.HeldBack,
            head is null
                ? $"job {before}, which it follows, was not due then"
                : $"job {before}, which it follows, ended as {Kebab.Of(head.Outcome!.Value)}"
        );
        return false;
    }

    /// <summary>What nothing was heard of in time; what was heard a little before it was due is its run.</summary>
    private void OfWatched(Open open, PlannedRun planned, PlacedJob job)
    {
        if (TakeEarly(open, planned))
            return;
        var started = planned.Stand == PlannedStand.Started;
        var within = inForce.Charter.HeardWithin(job);
        var silence = RunJudge.OfSilence(planned.Due, started, within, job.RunLimit?.ToDuration(), open.Now);
        // What was to be heard while the service was down may still be on its way.
        if (silence is null || (silence == Outcome.Missed && planned.Due <= since && open.Now < since + job.WaitAfterReturn.ToDuration()))
            return;
        End(
            planned,
            silence.Value,
            started ? "it said that it started, and nothing was heard since"
                : job.HeardBy is [EvidenceSource.Folder] ? $"it left no copy in {string.Join(" or ", job.Into)} in its time"
                : $"nothing was heard of it within {job.StartLimit}"
        );
    }

    /// <summary>Whether something else carried it out before it was planned here; then that is its run.</summary>
    private static bool TakeEarly(Open open, PlannedRun planned)
    {
        if (!open.Early.TryGetValue((planned.Job, planned.Machine, planned.Due), out var run))
            return false;
        (run.PlannedRunId, planned.RunId, planned.Stand, planned.Outcome, planned.Reason) = (
            planned.Id,
            run.Id,
            PlannedStand.Started,
            run.Outcome,
            run.Sentence
        );
        open.Db.SayPlanned(planned, open.Now);
        return true;
    }

    private static void End(PlannedRun planned, Outcome outcome, string reason)
    {
        planned.Outcome = outcome;
        planned.Reason = reason;
    }
}
