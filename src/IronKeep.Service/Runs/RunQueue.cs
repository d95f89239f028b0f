using System.Text.Json;
using IronKeep.Core.Charters;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Runs;

/// <summary>Where runs wait for their turn. The queue is the catalogue; this only adds to it and wakes the dispatch.</summary>
public sealed class RunQueue(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, IOptions<ServiceSettings> settings, EventHub events) : IDisposable
{
    public const string BySchedule = "schedule";
    private readonly SemaphoreSlim signal = new(0);

    /// <summary>Queues the run of a planned run and links the two; the caller saves.</summary>
    public async Task AddPlannedAsync(KeepContext db, PlannedRun planned, JobDeclaration job, CancellationToken cancel)
    {
        var run = new Run
        {
            Kind = RunKind.Backup,
            Job = planned.Job,
            Machine = planned.Machine,
            Store = job.Into,
            PlannedRunId = planned.Id,
            Due = planned.Due,
            Cause = BySchedule,
            Queued = clock.Now(),
        };
        await using var transaction = await db.Database.BeginTransactionAsync(cancel);
        db.Runs.Add(run);
        await db.SaveChangesAsync(cancel);
        planned.RunId = run.Id;
        await db.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
    }

    /// <summary>Queues a run that somebody asked for.</summary>
    public async Task<Run> AddAsync(RunKind kind, string? job, string? store, string by, object? order, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var run = new Run
        {
            Kind = kind,
            Job = job,
            Machine = settings.Value.Machine,
            Store = store,
            Cause = by,
            Queued = clock.Now(),
            Order = order is null ? null : JsonSerializer.Serialize(order),
        };
        db.Runs.Add(run);
        await db.SaveChangesAsync(cancel);
        events.Publish("run", run.ToAnswer());
        Wake();
        return run;
    }

    public void Wake() => signal.Release();

    /// <summary>Waits until something was queued or ended.</summary>
    public async Task WaitAsync(CancellationToken cancel)
    {
        await signal.WaitAsync(cancel);
        while (signal.Wait(0, CancellationToken.None))
        {
            // One look serves all signals that have come.
        }
    }

    public void Dispose() => signal.Dispose();
}
