using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>Runs that something else carried out. There is nothing to do for them here but to say what follows from their end.</summary>
public sealed class WatchedWork : IRunWork
{
    public RunKind Kind => RunKind.Watched;

    public bool TouchesCopies => false;

    public Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel) =>
        throw new NotSupportedException("a watched run is carried out elsewhere");

    /// <summary>What several jobs of one machine have in common when they fail so at the same time.</summary>
    private static Shared? OnTheMachine(Run run, Charter charter) =>
        run.Failure is FailureClass.StoreUnreachable or FailureClass.StoreFull or FailureClass.AccessRefused
            ? new Shared(
                Subject.OfMachine(run.Machine),
                $"{{jobs}} on {run.Machine} failed for one cause: {charter.CauseOf(run.Failure.Value)}",
                $"{charter.RemedyOf(run.Failure.Value)} Look into the logs on {run.Machine}.",
                run.Failure
            )
            : null;

    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter)
    {
        var subject = Subject.OfJob(run.Job!, run.Machine);
        var note = charter.Placed.Find(run.Job!, run.Machine)?.Note;
        var where = $"Look into its log on {run.Machine}{(note is null ? "" : $"; it runs: {note}")}.";
        return run.Outcome switch
        {
            Outcome.Ok or Outcome.Warned =>
            [
                new AlertStep(subject, [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue, AlertClass.Suspect]),
            ],
            Outcome.Suspect =>
            [
                new AlertStep(
                    subject,
                    [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue],
                    new Matter(
                        subject,
                        AlertClass.Suspect,
                        run.Brief ?? run.Sentence!,
                        $"Look at what the job took. If it is right, confirm it with 'ironkeep run confirm {run.Id}' or the button at "
                            + "the run."
                    )
                    {
                        RunId = run.Id,
                    }
                ),
            ],
            _ =>
            [
                new AlertStep(
                    subject,
                    [AlertClass.Missed],
                    new Matter(
                        subject,
                        AlertClass.Failed,
                        $"watched job {run.Job}: {run.Sentence}",
                        run.Failure is { } failure ? $"{charter.RemedyOf(failure)} {where}" : where
                    )
                    {
                        RunId = run.Id,
                        Shared = OnTheMachine(run, charter),
                    }
                ),
            ],
        };
    }
}

/// <summary>Ends the run of a job that said it started, and no more, when its time is over.</summary>
public sealed class SilentRuns(TimeProvider clock) : IFollower
{
    public string Name => "silent-check-ins";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.PlannedRunSilent];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        foreach (var fact in facts)
        {
            if (
                await db.PlannedRuns.FirstOrDefaultAsync(p => p.Id == fact.PlannedRunId && p.Outcome == Outcome.TimedOut, cancel)
                is not { RunId: { } id } planned
            )
                continue;
            if (await db.Runs.FirstOrDefaultAsync(r => r.Id == id && r.State == RunState.Running, cancel) is not { } run)
                continue;
            var now = clock.Now();
            (run.State, run.Outcome, run.Failure, run.Ended, run.Sentence) = (
                RunState.Ended,
                Outcome.TimedOut,
                FailureClass.TimedOut,
                now,
                planned.Reason
            );
            db.SayEnded(run, now);
            await db.SaveChangesAsync(cancel);
        }
    }
}
