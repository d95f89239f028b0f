using System.Collections.Concurrent;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Machines;
using IronKeep.Service.Stores;
using IronKeep.Service.Workers;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>
/// Starts queued runs by importance, due instant and name as far as ceilings allow: so many at once, on a machine, into a store, one
/// a job and a lock, and reclaiming alone on its store. What it takes is its own for as long as its worker is heard of; the runs of a
/// worker that is gone are taken from it, and become what their kind says.
/// </summary>
public sealed class Dispatch(
    IDbContextFactory<KeepContext> catalogue,
    RunQueue queue,
    IRunLogs logs,
    RunEnds ends,
    RunWorks works,
    CharterInForce charter,
    OpenStores stores,
    WorkerSelf self,
    Leading leading,
    FactCarrier carrier,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    MachineReadiness machines,
    MachineStandings standings,
    EventHub events,
    ILogger<Dispatch> log
) : BackgroundService, IBeatLook
{
    private static readonly TimeSpan ProgressEvery = TimeSpan.FromMilliseconds(500);
    private const int ToldATick = 10,
        WritesEvery = 4,
        MostAnew = 3;
    private readonly ConcurrentDictionary<long, LiveRun> live = new();
    private readonly ConcurrentDictionary<long, Task> tasks = new();
    private readonly LoopRounds rounds = new(clock);

    /// <summary>What the runs that could not begin at the last look wait for.</summary>
    private Dictionary<long, (string For, bool Machine)> waits = [];

    /// <summary>Who takes runs and who looks for those that nobody has take turns: one that was just taken is not yet at work.</summary>
    private readonly SemaphoreSlim taking = new(1);
    private static readonly TimeSpan TendEvery = TimeSpan.FromSeconds(30);
    private long tended = System.Diagnostics.Stopwatch.GetTimestamp();

    /// <summary>How long (real time) a run that was asked to end may take to do so before it is given up.</summary>
    public TimeSpan Grace { get; set; } = TimeSpan.FromSeconds(30);

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds => rounds;

    /// <summary>The runs at work.</summary>
    public IEnumerable<LiveRun> AtWork => live.Values;

    /// <summary>The run while it is at work, or null.</summary>
    public LiveRun? Find(long runId) => live.GetValueOrDefault(runId);

    /// <summary>What a queued run waits for, as an end of "waits for"; null: it has not been looked at yet, or begins.</summary>
    public string? WaitsFor(long runId) => waits.TryGetValue(runId, out var wait) ? wait.For : null;

    /// <summary>Whether a queued run waits for its machine, which comes nobody knows when.</summary>
    public bool AwaitsMachine(long runId) => waits.TryGetValue(runId, out var wait) && wait.Machine;

    private volatile bool isHeld;

    /// <summary>From when this returns until <see cref="Release"/>, nothing new begins.</summary>
    public async Task HoldAsync(CancellationToken cancel = default)
    {
        isHeld = true;
        await taking.WaitAsync(cancel);
        taking.Release();
    }

    /// <summary>Runs begin again.</summary>
    public void Release()
    {
        isHeld = false;
        queue.Wake();
    }

    /// <summary>How long the dispatch waits before it tries once more to write what the catalogue did not take.</summary>
    public TimeSpan TriesAgainAfter { get; set; } = TimeSpan.FromSeconds(2);

    /// <summary>How often (real time) the dispatch looks when nothing wakes it.</summary>
    internal TimeSpan LookEvery { get; set; } = TimeSpan.FromSeconds(1);

    public override async Task StartAsync(CancellationToken cancellationToken)
    {
        self.Lost += Lose;
        carrier.Moved += queue.Wake;
        standings.Back += queue.Wake;
        await TakeOverAsync(cancellationToken);
        await base.StartAsync(cancellationToken);
    }

    /// <summary>What others ask of the runs that are at work here, and what nobody has any more.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        if (!self.IsShared)
            return;
        var id = self.Id;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
            foreach (
                var run in await db
                    .Runs.AsNoTracking()
                    .Where(r => r.State == RunState.Running && r.Worker == id && r.StopAsked != null)
                    .Select(r => r.Id)
                    .ToListAsync(cancel)
            )
                Find(run)?.Cancel();
        await TakeOverAsync(cancel);
    }

    private void Lose(string worker)
    {
        foreach (var at in live.Values.Where(l => l.Run.Worker == worker))
            at.Lose();
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        queue.Wake();
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await queue.WaitAsync(LookEvery, stoppingToken);
                if (System.Diagnostics.Stopwatch.GetElapsedTime(tended) > TendEvery)
                {
                    await TakeOverAsync(stoppingToken);
                    tended = System.Diagnostics.Stopwatch.GetTimestamp();
                }
                await StartReadyAsync(stoppingToken);
                rounds.Came();
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                rounds.Failed(e);
                log.LogError(e, "The dispatch failed and tries again");
                await Task.Delay(TimeSpan.FromSeconds(1), CancellationToken.None);
                queue.Wake();
            }
        }
        // Runs see the stop through their token and end as interrupted before the catalogue closes.
        stopped = new CancellationToken(true);
        await Task.WhenAll(tasks.Values);
    }

    private CancellationToken stopped = CancellationToken.None;

    /// <summary>
    /// Completes when nothing is at work, nothing is queued whose time has come and whose machine is there, and what follows has been done.
    /// </summary>
    public async Task WhenIdleAsync(CancellationToken cancel = default)
    {
        while (true)
        {
            if (await IsIdleAsync(cancel))
            {
                await carrier.CarryAsync(cancel);
                if (await IsIdleAsync(cancel))
                    return;
            }
            await Task.Delay(5, cancel);
        }
    }

    private async Task<bool> IsIdleAsync(CancellationToken cancel)
    {
        if (!tasks.IsEmpty)
            return false;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var now = clock.Now();
        var away = waits.Where(w => w.Value.Machine).Select(w => w.Key).ToList();
        return !await db.Runs.AnyAsync(
            r =>
                (r.State == RunState.Running && r.Kind != RunKind.Watched)
                || (r.State == RunState.Queued && (r.NotBefore == null || r.NotBefore <= now) && !away.Contains(r.Id)),
            cancel
        );
    }

    private async Task StartReadyAsync(CancellationToken stopping)
    {
        if (!self.Holds)
            return;
        await taking.WaitAsync(stopping);
        try
        {
            if (!isHeld)
                await TakeReadyAsync(stopping);
        }
        finally
        {
            taking.Release();
        }
    }

    private async Task TakeReadyAsync(CancellationToken stopping)
    {
        await using var db = await catalogue.CreateDbContextAsync(stopping);
        var now = clock.Now();
        if (!await db.Runs.AnyAsync(r => r.State == RunState.Queued && (r.NotBefore == null || r.NotBefore <= now), stopping))
            return;
        var worker = self.Id;
        var (taken, late, waiting) = (new List<Run>(), new List<(Run, RunEnding)>(), new Dictionary<long, (string, bool)>());
        // What is at work, here and elsewhere, stays as it is while this is decided.
        await using (var change = await db.BeginChangeAsync(stopping))
        {
            var ready = await ReadyAsync(db, now, stopping);
            var atWork = await db
                .Runs.AsNoTracking()
                .Where(r => r.State == RunState.Running && r.Kind != RunKind.Watched)
                .ToListAsync(stopping);
            var hanging = await db.HangingRuns.AsNoTracking().ToListAsync(stopping);
            var view = await machines.LookAsync(db, ready.Where(r => works.Of(r).IsOnMachine).Select(r => r.Machine), stopping);
            string? full = null;
            var ceilings = RunCeilings.Of(charter.Charter, settings.Value.RunsAtOnce);
            // What hangs holds its job, and takes no place from others.
            var held = hanging
                .Select(h => (h.Job, h.Machine))
                .Concat(live.Values.Where(l => l.GivenUp).Select(l => (l.Run.Job, l.Run.Machine)))
                .ToHashSet();
            foreach (var other in atWork)
                if (live.TryGetValue(other.Id, out var here) && Hangs(here))
                    held.Add((other.Job, other.Machine));
                else
                    ceilings.Begin(ClaimOf(other));
            foreach (
                var (run, claim) in ready
                    .Select(r => (r, ClaimOf(r)))
                    .Order(Comparer<(Run, RunClaim Claim)>.Create((a, b) => RunClaim.Order(a.Claim, b.Claim)))
            )
            {
                if (works.Of(run).IsOnMachine && AwaitsMachine(run, view, now) is var (machine, ending) && machine is not null)
                {
                    waiting[run.Id] = (machine, true);
                    if (ending is not null)
                        late.Add((run, ending));
                    continue;
                }
                if ((ceilings.IsFull ? full ??= ceilings.WaitsFor(claim) : ceilings.WaitsFor(claim)) is { } what)
                {
                    waiting[run.Id] = (what, false);
                    continue;
                }
                if (
                    (run.Job is not null && works.Of(run).IsRetried && held.Contains((run.Job, run.Machine)))
                    || atWork.Exists(other => Excludes(run, other))
                )
                    continue;
                (run.State, run.Began, run.Worker) = (RunState.Running, clock.Now(), worker);
                run.Revision = charter.Revision;
                ceilings.Begin(claim);
                atWork.Add(run);
                taken.Add(run);
            }
            waits = waiting;
            // A person may cancel one at this very moment: only one of the two wins.
            foreach (var run in taken.ToList())
            {
                var (began, revision) = (run.Began, run.Revision);
                if (
                    await db
                        .Runs.Where(r => r.Id == run.Id && r.State == RunState.Queued)
                        .ExecuteUpdateAsync(
                            s =>
                                s.SetProperty(r => r.State, RunState.Running)
                                    .SetProperty(r => r.Began, began)
                                    .SetProperty(r => r.Revision, revision)
                                    .SetProperty(r => r.Worker, worker),
                            stopping
                        ) == 0
                )
                    taken.Remove(run);
            }
            await change.CommitAsync(stopping);
        }
        foreach (var (run, ending) in late)
            await ends.EndAsync(run, RunState.Queued, null, Progress.None, ending);
        foreach (var run in taken)
        {
            // From here on it is this service's, whatever fails: a row that says running with nobody at work would be running for ever.
            var started = live[run.Id] = new LiveRun(run, logs.Open(run.Id), clock, stopping);
            tasks[run.Id] = Task.Run(() => CarryOutAsync(started), CancellationToken.None);
        }
    }

    /// <summary>
    /// What of its machine a run waits for, and how it ends when it has waited too long; both null when nothing of it is in its way. One
    /// that makes up for others waits as long as its machine is away, and then until the machine has settled and gives what the job needs.
    /// </summary>
    private (string? Machine, RunEnding? Ending) AwaitsMachine(Run run, MachineView view, Instant now)
    {
        var job = charter.Charter.Placed.Find(run.Job, run.Machine);
        var catchesUp = run.By.Kind == ActorKind.CatchUp;
        if (view.Away(run.Machine) is { } away)
        {
            var limit = job?.StartLimit ?? PlacedJob.UsualStartLimit;
            var since = run.NotBefore is { } from ? Instant.Max(from, run.Queued) : run.Queued;
            return (
                $"{run.Machine}, which {away}",
                catchesUp || now - since <= limit.ToDuration()
                    ? null
                    : new RunEnding(
                        Outcome.Failed,
                        $"{run.Machine} {away}, and did not come for it within {limit}; is the machine on, and its agent at work?",
                        FailureClass.MachineAway
                    )
            );
        }
        if (!view.CanBeginHere(run.Machine))
            return ($"{run.Machine}, which another service hears", null);
        if (!catchesUp || job is null)
            return default;
        if (!view.IsSettled(run.Machine, job.WaitAfterReturn.ToDuration()))
            return ($"{run.Machine}, which has not been awake for {job.WaitAfterReturn} yet", null);
        return view.Lacks(job, run.Machine) is { } lacks ? ($"{run.Machine}, which {lacks}", null) : default;
    }

    /// <summary>
    /// The queued runs whose time has come. What is known of them is kept between two looks, of which there is one for each run that ends:
    /// only what was queued since is read in full.
    /// </summary>
    private async Task<List<Run>> ReadyAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        var waiting = await db
            .Runs.AsNoTracking()
            .Where(r => r.State == RunState.Queued && (r.NotBefore == null || r.NotBefore <= now))
            .OrderBy(r => r.Id)
            .Select(r => new { r.Id, r.NotBefore })
            .ToListAsync(cancel);
        foreach (var part in waiting.Select(w => w.Id).Where(id => !queued.ContainsKey(id)).Chunk(ReadsAtOnce))
        foreach (var run in await db.Runs.AsNoTracking().Where(r => part.Contains(r.Id)).ToListAsync(cancel))
            queued[run.Id] = run;
        var ready = new List<Run>(waiting.Count);
        foreach (var at in waiting)
        {
            if (!queued.TryGetValue(at.Id, out var run))
                continue;
            run.NotBefore = at.NotBefore;
            ready.Add(run);
        }
        if (queued.Count > ready.Count)
            queued = ready.ToDictionary(r => r.Id);
        return ready;
    }

    private const int ReadsAtOnce = 500;
    private Dictionary<long, Run> queued = [];

    private RunClaim ClaimOf(Run run) => works.Of(run).ClaimOf(run, charter.Charter);

    private bool Excludes(Run a, Run b) => Shares(a, b) && (works.Of(a).IsAlone || works.Of(b).IsAlone);

    // A backup that names no store writes into several.
    private static bool Shares(Run a, Run b) => a.Store == b.Store || a.Store is null || b.Store is null;

    private async Task CarryOutAsync(LiveRun at)
    {
        var run = at.Run;
        var trace = Traces.Begin(
            $"run {run.Kind.Word()}",
            ("run", run.Id),
            ("kind", run.Kind.Word()),
            ("backup_job", run.Job),
            ("machine", run.Machine),
            ("store", run.Store)
        );
        try
        {
            await ExpectAsync(at);
            events.Publish(at.Run);
            using var ticking = new CancellationTokenSource();
            var progress = PublishProgressAsync(at, ticking.Token);
            var work = Task.Run(() => EndingOfAsync(at));
            var ending = await FirstOf(work, at);
            await ticking.CancelAsync();
            await progress;
            at.Log(
                ending.Outcome is Outcome.Ok ? LogSeverity.Info
                    : ending.Outcome is Outcome.Warned or Outcome.Suspect ? LogSeverity.Warning
                    : LogSeverity.Error,
                ending.Sentence
            );
            at.GivenUp = !work.IsCompleted;
            await EndAsync(at, ending);
            trace.End(
                ending.Outcome is Outcome.Ok or Outcome.Warned ? null : (ending.Failure?.Word() ?? ending.Outcome.Word()),
                ("outcome", ending.Outcome.Word()),
                ("items", at.Now.Items),
                ("read_bytes", at.Now.ReadBytes),
                ("stored_bytes", at.Now.StoredBytes)
            );
            trace = null;
            if (work.IsCompleted)
                return;
            // What hangs still has the job and its store in hand; until it lets go, nothing else of the job begins.
            tasks.TryRemove(at.Run.Id, out _);
            await work;
            await LetGoAsync(at.Run.Id);
        }
        catch (Exception e)
        {
            log.LogError(e, "Run {Run} could not be ended in the catalogue", at.Run.Id);
        }
        finally
        {
            trace.End("not written down");
            live.TryRemove(at.Run.Id, out _);
            at.Dispose();
            tasks.TryRemove(at.Run.Id, out _);
            queue.Wake();
        }
    }

    /// <summary>
    /// Writes the end until it is written: a catalogue whose disk is full for a while must not leave the run at work for ever.
    /// </summary>
    private async Task EndAsync(LiveRun at, RunEnding ending)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                if (
                    await ends.EndAsync(at.Run, RunState.Running, at.Run.Worker, at.Now, ending, at.Elapsed, at.GivenUp)
                    || at.Cause != StopCause.Lost
                )
                    return;
                log.LogWarning(
                    "Run {Run} was taken from this service while it was not heard of; what it did here since counts for nothing",
                    at.Run.Id
                );
                return;
            }
            // The next start finds it, when the service stops first.
            catch (Exception e) when (!stopped.IsCancellationRequested)
            {
                if (tries == 0)
                    log.LogError(e, "The end of run {Run} could not be written to the catalogue; it is tried again until it is", at.Run.Id);
                await Task.Delay(TriesAgainAfter, stopped).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }

    private async Task LetGoAsync(long run)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await db.HangingRuns.Where(h => h.RunId == run).ExecuteDeleteAsync();
    }

    private bool Hangs(LiveRun at) => at.GivenUp || ClaimOf(at.Run).Stores is { Length: > 0 } into && into.All(stores.IsAway);

    /// <summary>The ending of the work; one that was asked to end and hangs on is given up after its grace.</summary>
    private async Task<RunEnding> FirstOf(Task<RunEnding> work, LiveRun at)
    {
        await Task.WhenAny(work, at.StopAsked);
        if (!work.IsCompleted)
            await Task.WhenAny(work, Task.Delay(Grace));
        return work.IsCompleted
            ? await work
            : Stopped(
                at,
                "; it hangs on something that does not answer, and no other run of it begins until it lets go or the service is started "
                    + "again"
            );
    }

    private static RunEnding Stopped(LiveRun at, string more = "") =>
        at.Cause switch
        {
            StopCause.Person => new RunEnding(Outcome.Cancelled, "cancelled; nothing of it counts, earlier copies are as they were" + more),
            StopCause.Lost => new RunEnding(
                Outcome.Failed,
                "lost: this service was not heard of for too long, and the run was taken from it" + more,
                FailureClass.Interrupted
            ),
            StopCause.Limit => new RunEnding(
                Outcome.TimedOut,
                "ended at its run limit; nothing of it counts, earlier copies are as they were" + more,
                FailureClass.TimedOut
            ),
            _ => new RunEnding(
                Outcome.Failed,
                "interrupted: the service was stopped while the run was at work" + more,
                FailureClass.Interrupted
            ),
        };

    private async Task<RunEnding> EndingOfAsync(LiveRun at)
    {
        try
        {
            PlaceWaits.EndWith(at.Token);
            return await works.Of(at.Run).DoAsync(at, at.Token);
        }
        // What a place says of calls that were let go is no failure of its own.
        catch (Exception e)
            when (at.Token.IsCancellationRequested
                && e is OperationCanceledException or PlaceException or RunFailedException { InnerException: PlaceException }
            )
        {
            return Stopped(at);
        }
        catch (RunFailedException e)
        {
            return new RunEnding(e.Class == FailureClass.UnsafePlace ? Outcome.Refused : Outcome.Failed, e.Message, e.Class);
        }
        catch (PlaceException e)
        {
            return new RunEnding(Outcome.Failed, e.Message, BackupRun.ClassOf(e)) { FailedStore = at.Run.Store };
        }
        catch (StoreDamageException e)
        {
            return new RunEnding(Outcome.Failed, e.Message, FailureClass.DataDamaged);
        }
        catch (Exception e)
        {
            log.LogError(e, "Run {Run} failed in a way that nobody foresaw", at.Run.Id);
            return new RunEnding(Outcome.Failed, $"failed for a reason nobody foresaw: {e.Message}", FailureClass.Unknown);
        }
    }

    private async Task PublishProgressAsync(LiveRun at, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(ProgressEvery);
        try
        {
            for (var tick = 1; await timer.WaitForNextTickAsync(cancel); tick++)
            {
                // However many are at work, those who listen hear so many figures a second and no more.
                if ((tick + at.Run.Id) % Math.Max(1, (live.Count + ToldATick - 1) / ToldATick) == 0)
                    events.Here(at.Run);
                if (self.IsShared && tick % WritesEvery == 0)
                    await WriteProgressAsync(at);
            }
        }
        catch (OperationCanceledException)
        {
            // The run has ended.
        }
    }

    /// <summary>Where others may be asked for the run, its figures are written down now and then.</summary>
    private async Task WriteProgressAsync(LiveRun at)
    {
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(CancellationToken.None);
            var (now, rate, items, bytes) = (at.Now, at.RecentRate, at.ExpectedItems, at.ExpectedBytes);
            await db
                .Runs.Where(r => r.Id == at.Run.Id && r.State == RunState.Running && r.Worker == at.Run.Worker)
                .ExecuteUpdateAsync(s =>
                    s.SetProperty(r => r.Items, now.Items)
                        .SetProperty(r => r.SelectedBytes, now.SelectedBytes)
                        .SetProperty(r => r.ReadBytes, now.ReadBytes)
                        .SetProperty(r => r.NewBytes, now.NewBytes)
                        .SetProperty(r => r.StoredBytes, now.StoredBytes)
                        .SetProperty(r => r.Skipped, now.Skipped)
                        .SetProperty(r => r.Rate, rate)
                        .SetProperty(r => r.ExpectedItems, items)
                        .SetProperty(r => r.ExpectedBytes, bytes)
                );
            events.Publish(at.Run);
        }
        catch (Exception e) when (CatalogueKinds.IsRefusal(e))
        {
            // The next figures are as good.
        }
    }

    private async Task ExpectAsync(LiveRun at)
    {
        if (at.Run.Kind != RunKind.Backup)
            return;
        List<RunMeasure> good = [];
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(CancellationToken.None);
            good = await RunHistory.LastGoodAsync(db, at.Run, CancellationToken.None);
        }
        catch (Exception e)
        {
            log.LogWarning(e, "What run {Run} usually takes could not be read", at.Run.Id);
        }
        var job = charter.Charter.Placed.Find(at.Run.Job, at.Run.Machine);
        at.EndsAtLimit = job?.RunLimit is not null;
        at.Limit = job?.RunLimit?.ToDuration() ?? RunLimits.Usual([.. good.Select(g => g.Took)]);
        if (good.Count == 0)
            return;
        at.ExpectedItems = Bands.Median(good.Select(g => g.Items));
        at.ExpectedBytes = Bands.Median(good.Select(g => g.Bytes));
    }

    /// <summary>Ends the runs of workers that are gone, and lets become of them what their kind says.</summary>
    private async Task TakeOverAsync(CancellationToken cancel)
    {
        await taking.WaitAsync(cancel);
        try
        {
            await TakeLostAsync(cancel);
        }
        finally
        {
            taking.Release();
        }
    }

    private async Task TakeLostAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var own = self.Id;
        // One of the services looks after what others left.
        var all = leading.IsLeading;
        if (all)
            await db.HangingRuns.Where(h => !db.Workers.Any(w => w.Id == h.Worker && !w.Gone)).ExecuteDeleteAsync(cancel);
        foreach (
            var run in await db
                .Runs.AsNoTracking()
                .Where(r =>
                    r.State == RunState.Running
                    && r.Kind != RunKind.Watched
                    && (r.Worker == own || (all && !db.Workers.Any(w => w.Id == r.Worker && !w.Gone)))
                )
                .ToListAsync(cancel)
        )
        {
            // Those that are at work here are not interrupted; the others are nobody's.
            if (live.ContainsKey(run.Id) || tasks.ContainsKey(run.Id))
                continue;
            var becomes = works.Of(run).WhenLost;
            if (becomes == WhenLost.BegunAnew && run.Attempt >= MostAnew)
                becomes = WhenLost.Interrupted;
            var sentence =
                "interrupted: the service ended while the run was at work; earlier copies are whole"
                + becomes switch
                {
                    WhenLost.CarriedOn => "; another run carries on with its plan",
                    WhenLost.BegunAnew => "; another run begins anew",
                    _ => "",
                };
            var figures = new Progress(run.Items, run.SelectedBytes, run.ReadBytes, run.NewBytes, run.StoredBytes, run.Skipped);
            var goesOn =
                becomes == WhenLost.Interrupted
                    ? null
                    : new RunRequest(run.Kind, run.Job, run.Store, run.By)
                    {
                        Machine = run.Machine,
                        Due = run.Due,
                        Order = run.Order is { } order ? JsonSerializer.Deserialize<JsonElement>(order) : null,
                        Attempt = run.Attempt + 1,
                    };
            if (
                !await ends.EndAsync(
                    run,
                    run.State,
                    run.Worker,
                    figures,
                    new RunEnding(Outcome.Failed, sentence, FailureClass.Interrupted),
                    goesOn: goesOn
                )
            )
                continue;
            using var file = logs.Open(run.Id);
            file.Write(LogSeverity.Error, sentence);
        }
    }

    public override void Dispose()
    {
        taking.Dispose();
        base.Dispose();
    }
}
