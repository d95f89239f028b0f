using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>A run to be queued: what kind, of which job or store, and who or what asked for it.</summary>
public sealed record RunRequest(RunKind Kind, string? Job, string? Store, Actor By)
{
    public object? Order { get; init; }

    /// <summary>The machine that it is of; null: the service's own.</summary>
    public string? Machine { get; init; }

    /// <summary>How long it waits at least; null: not at all.</summary>
    public Instant? NotBefore { get; init; }
    public Instant? Due { get; init; }
    public long? PlannedRunId { get; init; }

    /// <summary>How often it was tried before.</summary>
    public int Attempt { get; init; }
}

/// <summary>Where runs wait for their turn. The queue is the catalogue; this only adds to it and wakes the dispatch.</summary>
public sealed class RunQueue(
    IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    EventHub events
) : IDisposable
{
    private readonly WakeSignal signal = new();

    /// <summary>
    /// Queues the run of a planned run with the caller's next save, which gives it its number; the planned run then names it.
    /// </summary>
    public Run AddPlanned(KeepContext db, PlannedRun planned, PlacedJob job)
    {
        var run = Make(
            new RunRequest(RunKind.Backup, planned.Job, StoreOf(job), Actor.Schedule)
            {
                PlannedRunId = planned.Id,
                Due = planned.Due,
                Machine = planned.Machine,
            }
        );
        db.Runs.Add(run);
        return run;
    }

    /// <summary>What a backup run of the job says as its store: the only one, or none where it writes into several.</summary>
    public static string? StoreOf(PlacedJob job) => job.Into.Length == 1 ? job.Into[0] : null;

    /// <summary>Queues a run in the caller's transaction; whoever commits wakes the dispatch.</summary>
    public async Task<Run> AddAsync(KeepContext db, RunRequest request, CancellationToken cancel)
    {
        var run = Make(request);
        db.Runs.Add(run);
        await db.SaveChangesAsync(cancel);
        return run;
    }

    /// <summary>Queues a run.</summary>
    public async Task<Run> AddAsync(RunRequest request, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var run = await AddAsync(db, request, cancel);
        Announce(run);
        return run;
    }

    /// <summary>Says that a run was queued, to pages and the dispatch; once it is committed.</summary>
    public void Announce(Run run)
    {
        events.Publish(run);
        Wake();
    }

    /// <summary>Ends a run that has not begun; false when it has begun meanwhile.</summary>
    public async Task<bool> DropAsync(KeepContext db, Run run, Outcome outcome, string sentence, CancellationToken cancel)
    {
        var now = clock.Now();
        var dropped = await db
            .Runs.Where(r => r.Id == run.Id && r.State == RunState.Queued)
            .ExecuteUpdateAsync(
                s =>
                    s.SetProperty(r => r.State, RunState.Ended)
                        .SetProperty(r => r.Outcome, outcome)
                        .SetProperty(r => r.Sentence, sentence)
                        .SetProperty(r => r.Ended, now),
                cancel
            );
        return dropped > 0;
    }

    public void Wake() => signal.Wake();

    /// <summary>Waits until something was queued or ended, at most so long.</summary>
    public Task WaitAsync(TimeSpan most, CancellationToken cancel) => signal.WaitAsync(most, cancel);

    public void Dispose() => signal.Dispose();

    private Run Make(RunRequest request) =>
        new()
        {
            Kind = request.Kind,
            Job = request.Job,
            Machine = request.Machine ?? settings.Value.Machine,
            Store = request.Store,
            By = request.By,
            Queued = clock.Now(),
            NotBefore = request.NotBefore,
            Due = request.Due,
            PlannedRunId = request.PlannedRunId,
            Attempt = request.Attempt,
            Order = request.Order is null ? null : JsonSerializer.Serialize(request.Order),
        };
}
