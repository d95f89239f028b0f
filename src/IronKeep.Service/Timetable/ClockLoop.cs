using IronKeep.Core.Charters;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Turns schedules into planned runs: asks which due instants lie between each job's stored watermark and now, and writes them
/// with the new watermark in one transaction. A restart, an edit or a clock set back can so neither repeat nor lose one. Then it
/// lets every part that goes by the clock have its look.
/// </summary>
public sealed class ClockLoop(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, ClockWatch clockWatch, Serving serving, StoreTimes storeTimes, Sentinel sentinel,
    TimeProvider clock, IOptions<ServiceSettings> settings, ILogger<ClockLoop> log) : BackgroundService
{
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(1);
    private static readonly Duration WatermarkLag = Duration.FromMinutes(10);
    private const int Batch = 10_000;
    private readonly SemaphoreSlim gate = new(1);
    private long lastTick;

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
        await clockWatch.LookAsync(db, cancel);
        await using (var transaction = await db.Database.BeginTransactionAsync(cancel))
        {
            await StoreDueAsync(db, toNow: false, cancel);
            await transaction.CommitAsync(cancel);
        }
        await serving.ServeAsync(db, cancel);
        await storeTimes.ServeAsync(db, cancel);
        await sentinel.LookAsync(db, cancel);
        Interlocked.Exchange(ref lastTick, clock.GetTimestamp());
    }

    /// <summary>How long ago the loop last came round; null before its first round.</summary>
    public TimeSpan? SinceLastTick => Interlocked.Read(ref lastTick) is var at and not 0 ? clock.GetElapsedTime(at) : null;

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
            if (charter.Jobs.TryGetValue(watch.Job, out var job) && charter.DueTimesOf(job, Machine) is { } due)
            {
                foreach (var all in due.Between(watch.Watermark, now).Chunk(Batch))
                {
                    moves = true;
                    // A watermark can have been set back with the clock: what was stored once is not stored again.
                    var (first, last) = (all[0], all[^1]);
                    var stored = await db.PlannedRuns.Where(p => p.Job == watch.Job && p.Machine == watch.Machine && p.Due >= first && p.Due <= last).Select(p => p.Due).ToListAsync(cancel);
                    var part = all.Except(stored).ToList();
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
        var watched = await db.JobWatches.ToListAsync(cancel);
        var wanted = charter.Jobs.Values.Select(j => (j.Name, Machine: Charter.MachineOf(j, Machine))).ToHashSet();
        db.JobWatches.RemoveRange(watched.Where(w => !wanted.Contains((w.Job, w.Machine))));
        foreach (var (name, machine) in wanted.Except(watched.Select(w => (w.Job, w.Machine))))
        {
            // A job of that name may have been here before, and the clock may have been set back since: what was stored counts.
            var stored = await db.PlannedRuns.Where(p => p.Job == name && p.Machine == machine).OrderByDescending(p => p.Due).Select(p => (Instant?)p.Due).FirstOrDefaultAsync(cancel);
            db.JobWatches.Add(new JobWatch { Job = name, Machine = machine, Since = now, Watermark = stored > now ? stored.Value : now });
        }
        await db.SaveChangesAsync(cancel);
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
