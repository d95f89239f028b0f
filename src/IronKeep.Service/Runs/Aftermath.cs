using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

/// <summary>What follows from a run's end: its row, its planned run, the alerts it opens or closes, and the news of it.</summary>
public sealed class Aftermath(IDbContextFactory<KeepContext> catalogue, AlertBook alerts, TimeProvider clock, EventHub events, ILogger<Aftermath> log)
{
    public async Task EndAsync(Run run, Progress figures, RunEnding ending)
    {
        await using (var db = await catalogue.CreateDbContextAsync())
        {
            var row = (await db.Runs.FindAsync(run.Id))!;
            row.State = RunState.Ended;
            row.Ended = clock.Now();
            row.Outcome = ending.Outcome;
            row.Failure = ending.Failure;
            row.Sentence = ending.Sentence;
            row.CopyId = ending.CopyId;
            (row.Items, row.SelectedBytes, row.ReadBytes) = (figures.Items, figures.SelectedBytes, figures.ReadBytes);
            (row.NewBytes, row.StoredBytes, row.Skipped) = (figures.NewBytes, figures.StoredBytes, figures.Skipped);
            if (row.PlannedRunId is { } plannedId && await db.PlannedRuns.FindAsync(plannedId) is { } planned)
            {
                planned.Outcome = ending.Outcome;
                planned.Reason = ending.Sentence;
            }
            await db.SaveChangesAsync();
            run = row;
        }
        log.LogInformation("Run {Run} ({Kind} {Subject}) ended {Outcome}: {Sentence}", run.Id, Kebab.From(run.Kind.ToString()), run.Job ?? run.Store, Kebab.From(ending.Outcome.ToString()), ending.Sentence);
        await AlertAsync(run, ending);
        events.Publish("run", run.ToAnswer());
        if (run.Kind is RunKind.Backup or RunKind.Check or RunKind.Prune or RunKind.Reclaim) events.Publish("copies");
    }

    private async Task AlertAsync(Run run, RunEnding ending)
    {
        // A restore has a person waiting for it, who reads its report.
        if (run.Kind == RunKind.Restore || ending.Outcome == Outcome.Cancelled) return;
        var subject = run.Kind switch
        {
            RunKind.Backup => AlertBook.JobSubject(run.Job!, run.Machine),
            RunKind.Prune => $"prune of {run.Job} in store {run.Store}",
            RunKind.Reclaim => $"reclaiming of store {run.Store}",
            _ => AlertBook.StoreSubject(run.Store!),
        };
        if (ending.Outcome is Outcome.Ok or Outcome.Warned)
        {
            AlertClass[] closes = run.Kind == RunKind.Backup ? [AlertClass.Failed, AlertClass.Missed] : [AlertClass.Failed, AlertClass.Unsound];
            await alerts.CloseAsync(subject, closes, CancellationToken.None);
            return;
        }
        var kind = run.Kind == RunKind.Check && ending.Failure == FailureClass.DataDamaged ? AlertClass.Unsound : AlertClass.Failed;
        await alerts.RaiseAsync(subject, kind, ending.Sentence, FailureWords.Remedy(ending.Failure ?? FailureClass.Unknown), run.Id, CancellationToken.None);
    }
}
