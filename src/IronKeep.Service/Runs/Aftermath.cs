using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using IronKeep.Service.Prunes;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>
/// What follows from a run's end: its row, its planned run and those it makes up for, another try, the alerts it opens or closes,
/// the prune that is tied to its success, and the news of it.
/// </summary>
public sealed class Aftermath(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, RunQueue queue, AlertBook alerts, TellingDesk telling, PruneDesk prunes, StoreRoom room, NightBoard board,
    TimeProvider clock, EventHub events, ILogger<Aftermath> log)
{
    /// <summary>Causes that may have passed when it is tried again. Source: docs/semantics.md, section 2.</summary>
    private static readonly FailureClass[] Passing = [FailureClass.StoreUnreachable, FailureClass.TimedOut, FailureClass.Interrupted];

    public async Task EndAsync(Run run, Progress figures, RunEnding ending)
    {
        Run? retry = null;
        await using (var db = await catalogue.CreateDbContextAsync())
        {
            var row = (await db.Runs.FindAsync(run.Id))!;
            row.State = RunState.Ended;
            row.Ended = clock.Now();
            row.Outcome = ending.Outcome;
            row.Failure = ending.Failure;
            row.Sentence = ending.Sentence;
            row.CopyIds = string.Join('\n', ending.CopyIds);
            (row.Items, row.SelectedBytes, row.ReadBytes) = (figures.Items, figures.SelectedBytes, figures.ReadBytes);
            (row.NewBytes, row.StoredBytes, row.Skipped) = (figures.NewBytes, figures.StoredBytes, figures.Skipped);
            await db.SaveChangesAsync();
            run = row;
            retry = await RetryAsync(run, ending);
            if (run.PlannedRunId is { } plannedId && await db.PlannedRuns.FindAsync(plannedId) is { } planned)
            {
                planned.Outcome = retry is null ? ending.Outcome : null;
                planned.Reason = retry is null ? ending.Sentence : $"tried again by run {retry.Id}";
                planned.RunId = retry?.Id ?? run.Id;
                await db.SaveChangesAsync();
                board.Changed(planned.Due, clock.Now());
            }
            if (run.Kind == RunKind.Backup && IsGood(ending.Outcome))
                await db.PlannedRuns.Where(p => p.Job == run.Job && p.Machine == run.Machine && p.Outcome == Outcome.Missed && p.MadeUpBy == null && p.Due <= run.Began)
                    .ExecuteUpdateAsync(s => s.SetProperty(p => p.MadeUpBy, run.Id));
        }
        log.LogInformation("Run {Run} ({Kind} {Subject}) ended {Outcome}: {Sentence}", run.Id, Kebab.Of(run.Kind), run.Job ?? run.Store, Kebab.Of(ending.Outcome), ending.Sentence);
        if (retry is null) await AlertAsync(run, ending);
        if (run.Kind is RunKind.Backup) await AfterBackupAsync(run, ending);
        if (run.Kind is RunKind.Reclaim && inForce.Charter.Stores.TryGetValue(run.Store!, out var store)) await room.JudgeAsync(store, CancellationToken.None);
        events.Publish("run", run.ToAnswer());
        if (run.Kind is RunKind.Backup or RunKind.Check or RunKind.Prune or RunKind.Reclaim or RunKind.Heal) events.Publish("copies");
    }

    private static bool IsGood(Outcome outcome) => outcome is Outcome.Ok or Outcome.Warned or Outcome.Suspect;

    /// <summary>Queues another try for a passing cause, with a growing pause: 1, 2, 4 minutes and so on.</summary>
    private async Task<Run?> RetryAsync(Run run, RunEnding ending)
    {
        if (run.Kind != RunKind.Backup || ending.Failure is not { } failure || !Passing.Contains(failure)) return null;
        if (!inForce.Charter.Jobs.TryGetValue(run.Job!, out var job) || run.Attempt >= job.Retries) return null;
        return await queue.AddAsync(new RunRequest(run.Kind, run.Job, run.Store, run.Cause)
        {
            Due = run.Due,
            PlannedRunId = run.PlannedRunId,
            Attempt = run.Attempt + 1,
            NotBefore = clock.Now() + Duration.FromMinutes(1 << run.Attempt),
        }, CancellationToken.None);
    }

    private async Task AfterBackupAsync(Run run, RunEnding ending)
    {
        var job = inForce.Charter.Jobs.GetValueOrDefault(run.Job!);
        await using (var db = await catalogue.CreateDbContextAsync())
        {
            await telling.TellAsync(db, run, CancellationToken.None);
            if (job is not null && IsGood(ending.Outcome) && !Freshness.IsStale(job, (await Freshness.OfAsync(db, [job], run.Machine, CancellationToken.None))[job.Name], clock.Now()))
                await alerts.CloseAsync(AlertBook.JobSubject(job.Name, run.Machine), [AlertClass.Stale], CancellationToken.None);
        }
        foreach (var store in (job?.Into ?? []).Select(s => inForce.Charter.Stores[s])) await room.JudgeAsync(store, CancellationToken.None);
        // Tied to success, never to a clock: after a failure, or while a copy is in doubt, nothing is pruned.
        if (job?.Prune == PruneTime.AfterSuccess && ending.Outcome is Outcome.Ok or Outcome.Warned) await prunes.AfterSuccessAsync(job!, run, CancellationToken.None);
    }

    private async Task AlertAsync(Run run, RunEnding ending)
    {
        // A restore or an export has a person waiting for it, who reads its report; what a healing left hurt has its alert already.
        if (run.Kind is RunKind.Restore or RunKind.Export or RunKind.Heal || ending.Outcome is Outcome.Cancelled or Outcome.NotNeeded or Outcome.HeldBack) return;
        var subject = run.Kind switch
        {
            RunKind.Backup => AlertBook.JobSubject(run.Job!, run.Machine),
            RunKind.Prune => PruneDesk.Subject(run.Job!, run.Store!),
            RunKind.Reclaim => $"reclaiming of store {run.Store}",
            _ => AlertBook.StoreSubject(run.Store!),
        };
        var none = CancellationToken.None;
        if (ending.Outcome is Outcome.Ok or Outcome.Warned)
        {
            AlertClass[] closes = run.Kind switch
            {
                RunKind.Backup => [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue, AlertClass.Suspect],
                RunKind.Check when ending.Outcome == Outcome.Ok => [AlertClass.Failed, AlertClass.Unsound],
                RunKind.Prune => [AlertClass.Failed, AlertClass.BrakedPrune],
                _ => [AlertClass.Failed],
            };
            await alerts.CloseAsync(subject, closes, none);
            if (run.Kind != RunKind.Backup) return;
            await alerts.CloseAsync(ClockWatch.MachineSubject(run.Machine), [AlertClass.Silent], none);
            foreach (var store in inForce.Charter.Jobs.GetValueOrDefault(run.Job!)?.Into ?? []) await alerts.CloseAsync(AlertBook.StoreSubject(store), [AlertClass.Failed], none);
            return;
        }
        var remedy = FailureWords.Remedy(ending.Failure ?? FailureClass.Unknown);
        if (ending.Outcome == Outcome.Suspect)
        {
            await alerts.CloseAsync(subject, [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue], none);
            await alerts.RaiseAsync(new Matter(subject, AlertClass.Suspect, ending.Brief ?? ending.Sentence,
                $"Look at what the job took. If it is right, say so: 'ironkeep run confirm {run.Id}', or the button at the run. Until then the copy before it does not expire.")
            { RunId = run.Id }, none);
        }
        // A store that is down or full is one matter, however many jobs it stops.
        else if (run.Kind == RunKind.Backup && ending.FailedStore is { } store && ending.Failure is FailureClass.StoreUnreachable or FailureClass.StoreFull)
            await alerts.RaiseAsync(new Matter(AlertBook.StoreSubject(ending.FailedStore!), AlertClass.Failed, ending.Sentence, remedy) { RunId = run.Id, Affected = run.Job }, none);
        else
        {
            var kind = ending.Outcome == Outcome.TimedOut ? AlertClass.Overdue : run.Kind == RunKind.Check && ending.Failure == FailureClass.DataDamaged ? AlertClass.Unsound : AlertClass.Failed;
            await alerts.RaiseAsync(new Matter(subject, kind, ending.Sentence, remedy) { RunId = run.Id, Times = kind == AlertClass.Overdue && alerts.IsOpen(subject, kind) ? 0 : 1 }, none);
        }
    }
}
