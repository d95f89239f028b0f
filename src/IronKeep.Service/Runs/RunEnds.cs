using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>
/// Ends runs. The run's row, its planned run, another try and the fact that it has ended are one change; all else follows from the fact.
/// </summary>
public sealed class RunEnds(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    RunQueue queue,
    RunWorks works,
    TimeProvider clock,
    EventHub events,
    FactSignal signal,
    ILogger<RunEnds> log
)
{
    /// <summary>
    /// Causes that may have passed when it is tried again. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
    /// </summary>
    private static readonly FailureClass[] Passing =
    [
        FailureClass.StoreUnreachable,
        FailureClass.TimedOut,
        FailureClass.Interrupted,
        FailureClass.MachineAway,
    ];

    /// <summary>
    /// Ends a run that stands as <paramref name="from"/> says and that <paramref name="worker"/> has (null: whoever); false when it does so
    /// no more, and then nothing was changed. Throws what the catalogue throws: then nothing was written either, and it can be called
    /// again.
    /// </summary>
    public async Task<bool> EndAsync(
        Run run,
        RunState from,
        string? worker,
        Progress figures,
        RunEnding ending,
        Duration? took = null,
        bool hangs = false,
        RunRequest? goesOn = null
    )
    {
        Run row;
        Run? next;
        await using (var db = await catalogue.CreateDbContextAsync())
        await using (var change = await db.BeginChangeAsync(CancellationToken.None))
        {
            row = (await db.Runs.FindAsync(run.Id))!;
            if (row.Outcome is not null || row.State != from || (worker is not null && row.Worker != worker))
                return false;
            var now = clock.Now();
            (row.State, row.Ended) = (RunState.Ended, now);
            row.TookSeconds = (took ?? (row.Began is { } began ? Duration.Max(Duration.Zero, now - began) : null))?.TotalSeconds;
            (row.Outcome, row.Failure, row.Sentence) = (ending.Outcome, ending.Failure, ending.Sentence);
            (row.FailedStore, row.Brief, row.Surge) = (ending.FailedStore, ending.Brief, ending.Surge);
            (row.Known, row.Altered) = (ending.Churn.Known, ending.Churn.Altered);
            (row.Gone, row.Added) = (ending.Churn.Gone, ending.Churn.Added);
            row.CopyIds = string.Join('\n', ending.CopyIds);
            (row.Items, row.SelectedBytes, row.ReadBytes) = (figures.Items, figures.SelectedBytes, figures.ReadBytes);
            (row.NewBytes, row.StoredBytes, row.Skipped) = (figures.NewBytes, figures.StoredBytes, figures.Skipped);
            await db.RoomPromises.Where(p => p.RunId == row.Id).ExecuteDeleteAsync();
            if (hangs)
                db.HangingRuns.Add(
                    new HangingRun
                    {
                        RunId = row.Id,
                        Worker = row.Worker ?? "",
                        Job = row.Job,
                        Machine = row.Machine,
                    }
                );
            next = await RetryAsync(db, row, ending);
            if (goesOn is not null && next is null)
                next = await queue.AddAsync(db, goesOn, CancellationToken.None);
            var retried = next is not null && next.PlannedRunId is not null;
            if (row.PlannedRunId is { } plannedId && await db.PlannedRuns.FindAsync(plannedId) is { } planned)
            {
                planned.Outcome = retried ? null : ending.Outcome;
                planned.Reason = retried ? $"tried again by run {next!.Id}" : ending.Sentence;
                planned.RunId = retried ? next!.Id : row.Id;
                db.SayPlanned(planned, now);
            }
            db.SayEnded(row, now);
            await db.SaveChangesAsync();
            await change.CommitAsync(CancellationToken.None);
        }
        log.LogInformation(
            "Run {Run} ({Kind} {Subject}) ended {Outcome}: {Sentence}",
            row.Id,
            Kebab.Of(row.Kind),
            row.Job ?? row.Store,
            Kebab.Of(ending.Outcome),
            ending.Sentence
        );
        if (next is not null)
        {
            events.Publish(next);
            queue.Wake();
        }
        events.Publish(row);
        signal.Wake();
        return true;
    }

    /// <summary>Queues another try for a passing cause, with a growing pause: 1, 2, 4 minutes and so on.</summary>
    private async Task<Run?> RetryAsync(KeepContext db, Run run, RunEnding ending)
    {
        if (!works.Of(run).IsRetried || ending.Failure is not { } failure || !Passing.Contains(failure))
            return null;
        if (inForce.Charter.Placed.Find(run.Job!, run.Machine) is not { } job || run.Attempt >= job.Retries)
            return null;
        return await queue.AddAsync(
            db,
            new RunRequest(run.Kind, run.Job, run.Store, run.By)
            {
                Machine = run.Machine,
                Due = run.Due,
                PlannedRunId = run.PlannedRunId,
                Order = run.Order is { } order ? JsonSerializer.Deserialize<JsonElement>(order) : null,
                Attempt = run.Attempt + 1,
                NotBefore = clock.Now() + Duration.FromMinutes(1 << run.Attempt),
            },
            CancellationToken.None
        );
    }

    /// <summary>Whether another run tries once more what a planned one failed at.</summary>
    public static async Task<bool> IsRetriedAsync(KeepContext db, Run run, CancellationToken cancel) =>
        run.PlannedRunId is { } planned
        && run.Failure is { } failure
        && Passing.Contains(failure)
        && await db.Runs.AnyAsync(r => r.PlannedRunId == planned && r.Id > run.Id && r.Attempt == run.Attempt + 1, cancel);
}
