using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Facts;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Turns schedules into planned runs: asks which due instants lie between each job's stored watermark and now, and writes them
/// with the new watermark in one change. A restart, an edit or a clock set back can so neither repeat nor lose one. Then it
/// lets every part that goes by the clock have its look. Of several services on a catalogue the one that leads does it.
/// </summary>
public sealed class ClockLoop(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    AlertBook alerts,
    ClockWatch clockWatch,
    Serving serving,
    TimedWorks timed,
    IEnumerable<ILook> looks,
    FactCarrier carrier,
    Leading leading,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    ILogger<ClockLoop> log
) : BackgroundService
{
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(1);
    private static readonly Duration WatermarkLag = Duration.FromMinutes(10);
    private const int Batch = 10_000;

    /// <summary>
    /// So many due instants of one job, the youngest, are planned runs of their own after an absence; what was before them is one row.
    /// </summary>
    private const int Singly = 1_000;
    private readonly SemaphoreSlim gate = new(1);
    private readonly ILook[] all = [.. looks];
    private readonly Dictionary<int, Instant> looked = [];

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    private string Machine => settings.Value.Machine;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!settings.Value.Ticking)
            return;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (leading.IsLeading)
                    await TickAsync(stoppingToken);
                else
                    Rounds.Came();
            }
            catch (NotLeadingException)
            {
                Rounds.Came();
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                Rounds.Failed(e);
                log.LogError(e, "The clock loop failed and tries again");
                await TellOfTroubleAsync(stoppingToken);
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
        // What one part fails at keeps no other from its work; the round as a whole has failed all the same.
        var failures = new List<Exception>();
        await PartAsync(() => StoreDueAsync(db, cancel));
        await PartAsync(() => serving.ServeAsync(db, cancel));
        // What was missed is known before a duty mail is written.
        await PartAsync(() => carrier.CarryAsync(cancel));
        await PartAsync(() => timed.ServeAsync(db, cancel));
        var now = clock.Now();
        foreach (var (look, i) in all.Select((l, i) => (l, i)))
        {
            // A clock set back must not silence the looks until it has caught up.
            if (looked.TryGetValue(i, out var last) && now >= last && now - last < look.Every)
                continue;
            looked[i] = now;
            await PartAsync(() => look.LookAsync(db, cancel));
        }
        await PartAsync(() => carrier.CarryAsync(cancel));
        if (failures.Find(f => f is NotLeadingException) is { } another)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(another);
        if (failures.Count == 1)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(failures[0]);
        if (failures.Count > 1)
            throw new AggregateException(failures);
        Rounds.Came();
        await alerts.CloseAsync(Self, [AlertClass.Service], cancel);

        async Task PartAsync(Func<Task> part)
        {
            db.ChangeTracker.Clear();
            try
            {
                await part();
            }
            catch (Exception e) when (!cancel.IsCancellationRequested)
            {
                failures.Add(e);
            }
        }
    }

    private static readonly Subject Self = Subject.OfService("the clock loop");

    /// <summary>A loop that fails each time is an alert, if the catalogue takes one.</summary>
    private async Task TellOfTroubleAsync(CancellationToken cancel)
    {
        if (Rounds.Problem is not { } problem)
            return;
        try
        {
            await alerts.RaiseAsync(
                new Matter(
                    Self,
                    AlertClass.Service,
                    $"the loop that turns schedules into runs does not do its work: {problem}",
                    "Read the service's own log; if the disk is full, make room. If it does not recover, keep the log, and put back "
                        + "a copy of the catalogue from before."
                )
                {
                    Once = true,
                },
                cancel
            );
        }
        catch (Exception e)
        {
            log.LogError(e, "That the clock loop fails could not be told");
        }
    }

    /// <summary>Keeps the loop still until disposed.</summary>
    public async Task<IDisposable> HoldAsync(CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        return new Hold(gate);
    }

    private async Task StoreDueAsync(KeepContext db, CancellationToken cancel)
    {
        if (!await IsAnythingDueAsync(db, cancel))
            return;
        await using var change = await leading.BeginAsync(db, cancel);
        await inForce.CatchUpAsync(db, cancel);
        await StoreDueAsync(db, toNow: false, cancel);
        await change.CommitAsync(cancel);
    }

    /// <summary>Asked before a change is begun, so that an idle service makes none.</summary>
    private async Task<bool> IsAnythingDueAsync(KeepContext db, CancellationToken cancel)
    {
        var now = clock.Now();
        var charter = inForce.Charter;
        foreach (var watch in await db.JobsOnMachines.AsNoTracking().ToListAsync(cancel))
            if (
                now - watch.Watermark > WatermarkLag
                || (
                    now > watch.Watermark
                    && charter.Placed.Find(watch.Job, watch.Machine) is { } job
                    && charter.DueTimesOf(job) is { } due
                    && due.Between(watch.Watermark, now).Any()
                )
            )
                return true;
        return false;
    }

    /// <summary>
    /// Writes planned runs for everything due up to now, in the caller's change. A watermark moves when something was due or when it has
    /// grown old, so that an idle service writes nothing; before schedules change, <paramref name="toNow"/> moves all of them.
    /// </summary>
    public async Task StoreDueAsync(KeepContext db, bool toNow, CancellationToken cancel)
    {
        var now = clock.Now();
        var charter = inForce.Charter;
        var planned = new List<PlannedRun>();
        foreach (var watch in await db.JobsOnMachines.ToListAsync(cancel))
        {
            if (now <= watch.Watermark)
                continue;
            var moves = toNow || now - watch.Watermark > WatermarkLag;
            if (charter.Placed.Find(watch.Job, watch.Machine) is { } job && charter.DueTimesOf(job) is { } due)
            {
                foreach (var all in (await CollapsedAsync(db, watch, due.Between(watch.Watermark, now), now, cancel)).Chunk(Batch))
                {
                    moves = true;
                    // A watermark can have been set back with the clock: what was stored once is not stored again.
                    var (first, last) = (all[0], all[^1]);
                    var stored = await db
                        .PlannedRuns.Where(p => p.Job == watch.Job && p.Machine == watch.Machine && p.Due >= first && p.Due <= last)
                        .Select(p => p.Due)
                        .ToListAsync(cancel);
                    planned.AddRange(
                        all.Except(stored)
                            .Select(due => new PlannedRun
                            {
                                Job = watch.Job,
                                Machine = watch.Machine,
                                Due = due,
                            })
                    );
                    if (planned.Count >= Batch)
                        await SaveAsync(db, planned, cancel);
                }
            }
            if (moves)
                watch.Watermark = now;
        }
        await SaveAsync(db, planned, cancel);
    }

    /// <summary>Saved many at a time: each save looks through all that the context holds.</summary>
    private static async Task SaveAsync(KeepContext db, List<PlannedRun> planned, CancellationToken cancel)
    {
        db.PlannedRuns.AddRange(planned);
        await db.SaveChangesAsync(cancel);
        foreach (var entry in db.ChangeTracker.Entries<PlannedRun>().ToList())
            entry.State = EntityState.Detached;
        planned.Clear();
    }

    /// <summary>
    /// The due instants to plan one by one; those before them, after a long absence, become one row that says how many it stands for.
    /// </summary>
    private static async Task<IReadOnlyCollection<Instant>> CollapsedAsync(
        KeepContext db,
        JobOnMachine watch,
        IEnumerable<Instant> due,
        Instant now,
        CancellationToken cancel
    )
    {
        var youngest = new Queue<Instant>();
        Instant? first = null,
            last = null;
        var count = 0;
        foreach (var instant in due)
        {
            youngest.Enqueue(instant);
            if (youngest.Count <= Singly)
                continue;
            last = youngest.Dequeue();
            first ??= last;
            count++;
        }
        if (first is not { } from || last is not { } to)
            return youngest;
        // Some of them may have been stored before the clock was set back.
        count -= await db
            .PlannedRuns.Where(p => p.Job == watch.Job && p.Machine == watch.Machine && p.Due >= from && p.Due <= to)
            .SumAsync(p => p.Times, cancel);
        if (count > 0 && !await db.PlannedRuns.AnyAsync(p => p.Job == watch.Job && p.Machine == watch.Machine && p.Due == from, cancel))
        {
            var row = new PlannedRun
            {
                Job = watch.Job,
                Machine = watch.Machine,
                Due = from,
                Until = to,
                Times = count,
                Outcome = Core.Watching.Outcome.Missed,
                Reason = $"{count} due instants passed while the service was not running",
            };
            db.PlannedRuns.Add(row);
            await db.SaveChangesAsync(cancel);
            Serving.Say(db, [row], now);
        }
        return youngest;
    }

    /// <summary>Begins to watch the jobs that a charter adds, from now on, and forgets those it drops, in the caller's change.</summary>
    public async Task WatchAsync(KeepContext db, Charter charter, CancellationToken cancel)
    {
        var now = clock.Now();
        var watched = await db.JobsOnMachines.ToListAsync(cancel);
        var wanted = charter.Placed.All.Select(j => (j.Name, Machine: j.Machine)).ToHashSet();
        db.JobsOnMachines.RemoveRange(watched.Where(w => !wanted.Contains((w.Job, w.Machine))));
        foreach (var (name, machine) in wanted.Except(watched.Select(w => (w.Job, w.Machine))))
        {
            // A job of that name may have been here before, and the clock may have been set back since: what was stored counts.
            var stored = await db
                .PlannedRuns.Where(p => p.Job == name && p.Machine == machine)
                .OrderByDescending(p => p.Due)
                .Select(p => (Instant?)p.Due)
                .FirstOrDefaultAsync(cancel);
            db.JobsOnMachines.Add(
                new JobOnMachine
                {
                    Job = name,
                    Machine = machine,
                    Since = now,
                    Watermark = stored > now ? stored.Value : now,
                }
            );
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
