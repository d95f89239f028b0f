using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Turns schedules into planned runs: asks which due instants lie between each job's stored watermark and now, and writes them
/// with the new watermark in one transaction. A restart, an edit or a clock set back can so neither repeat nor lose one. What is
/// due becomes a queued run; what was due longer ago than the start limit is missed.
/// </summary>
public sealed class ClockLoop(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, RunQueue queue, AlertBook alerts,
    TimeProvider clock, IOptions<ServiceSettings> settings, ILogger<ClockLoop> log) : BackgroundService
{
    /// <summary>How late a planned run may start. Source: docs/semantics.md, section 2.</summary>
    public static readonly Duration StartLimit = Duration.FromMinutes(30);
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(1);
    private static readonly Duration WatermarkLag = Duration.FromMinutes(10);
    private const int Batch = 10_000;
    private readonly SemaphoreSlim gate = new(1);

    private string Machine => settings.Value.Machine;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!settings.Value.Ticking) return;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await TickAsync(stoppingToken);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                log.LogError(e, "The clock loop failed and tries again");
            }
            await Task.Delay(Pause, clock, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>One look at the clock: stores what has become due, calls missed what is too late, queues the rest.</summary>
    public async Task TickAsync(CancellationToken cancel = default)
    {
        using var quiet = await HoldAsync(cancel);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using (var transaction = await db.Database.BeginTransactionAsync(cancel))
        {
            await StoreDueAsync(db, toNow: false, cancel);
            await transaction.CommitAsync(cancel);
        }
        await ServeAsync(db, cancel);
    }

    /// <summary>Keeps the loop still until disposed.</summary>
    public async Task<IDisposable> HoldAsync(CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        return new Hold(gate);
    }

    /// <summary>
    /// Writes planned runs for everything due up to now. A watermark moves when something was due or when it has grown old, so that
    /// an idle service writes nothing; before schedules change, <paramref name="toNow"/> moves all of them. The caller holds the
    /// loop and commits.
    /// </summary>
    public async Task StoreDueAsync(KeepContext db, bool toNow, CancellationToken cancel)
    {
        var now = clock.Now();
        var charter = inForce.Charter;
        foreach (var watch in await db.JobWatches.ToListAsync(cancel))
        {
            if (now <= watch.Watermark) continue;
            var moves = toNow || now - watch.Watermark > WatermarkLag;
            if (charter.Jobs.TryGetValue(watch.Job, out var job) && job.When is { } schedule)
            {
                foreach (var part in DueInstants.Between(schedule, job.Zone ?? charter.Zone, watch.Watermark, now).Chunk(Batch))
                {
                    moves = true;
                    db.PlannedRuns.AddRange(part.Select(due => new PlannedRun { Job = watch.Job, Machine = watch.Machine, Due = due }));
                    await db.SaveChangesAsync(cancel);
                    foreach (var entry in db.ChangeTracker.Entries<PlannedRun>().ToList()) entry.State = EntityState.Detached;
                }
            }
            if (moves) watch.Watermark = now;
        }
        await db.SaveChangesAsync(cancel);
    }

    /// <summary>Begins to watch the jobs that a charter adds, from now on, and forgets those it drops. The caller holds the loop and commits.</summary>
    public async Task WatchAsync(KeepContext db, Charter charter, CancellationToken cancel)
    {
        var now = clock.Now();
        var watched = await db.JobWatches.Where(w => w.Machine == Machine).ToListAsync(cancel);
        db.JobWatches.RemoveRange(watched.Where(w => !charter.Jobs.ContainsKey(w.Job)));
        foreach (var name in charter.Jobs.Keys.Except(watched.Select(w => w.Job)))
        {
            // A job of that name may have been here before, and the clock may have been set back since: what was stored counts.
            var stored = await db.PlannedRuns.Where(p => p.Job == name && p.Machine == Machine).OrderByDescending(p => p.Due).Select(p => (Instant?)p.Due).FirstOrDefaultAsync(cancel);
            db.JobWatches.Add(new JobWatch { Job = name, Machine = Machine, Watermark = stored > now ? stored.Value : now });
        }
        await db.SaveChangesAsync(cancel);
    }

    private async Task ServeAsync(KeepContext db, CancellationToken cancel)
    {
        var now = clock.Now();
        var waiting = await db.PlannedRuns.Where(p => p.Outcome == null && p.RunId == null).OrderBy(p => p.Due).ThenBy(p => p.Job).ToListAsync(cancel);
        if (waiting.Count == 0) return;
        var busy = (await db.Runs.Where(r => r.State != RunState.Ended && r.Kind == RunKind.Backup).Select(r => r.Job!).ToListAsync(cancel)).ToHashSet();
        var missed = new List<PlannedRun>();
        foreach (var planned in waiting)
        {
            if (!inForce.Charter.Jobs.TryGetValue(planned.Job, out var job)) End(planned, Outcome.Cancelled, "the job was taken out of the charter");
            else if (now > planned.Due + StartLimit)
            {
                End(planned, Outcome.Missed, "not started within 30 minutes: the service was not running");
                missed.Add(planned);
            }
            else if (!busy.Add(planned.Job)) End(planned, Outcome.NotNeeded, "overlap: an earlier run of the job is still at work");
            else await queue.AddPlannedAsync(db, planned, job, cancel);
        }
        await db.SaveChangesAsync(cancel);
        foreach (var group in missed.GroupBy(p => (p.Job, p.Machine)))
        {
            var last = group.Last();
            var zone = inForce.Charter.Jobs[last.Job].Zone ?? inForce.Charter.Zone;
            var times = group.Count() == 1 ? "a planned run" : $"{group.Count()} planned runs";
            await alerts.RaiseAsync(AlertBook.JobSubject(last.Job, last.Machine), AlertClass.Missed,
                $"{times} of {last.Job} did not start; the last was due {last.Due.Local(zone)}", AlertBook.MissedRemedy, null, cancel, group.Count());
        }
        queue.Wake();

        static void End(PlannedRun planned, Outcome outcome, string reason)
        {
            planned.Outcome = outcome;
            planned.Reason = reason;
        }
    }

    public override void Dispose()
    {
        gate.Dispose();
        base.Dispose();
    }

    private sealed class Hold(SemaphoreSlim gate) : IDisposable
    {
        public void Dispose() => gate.Release();
    }
}
