using System.Collections.Concurrent;
using System.Text.Json;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Runs;

/// <summary>
/// Starts queued runs by importance, due instant and name as far as ceilings allow: so many at once, on a machine, into a store, one
/// a job and a lock, and reclaiming alone on its store. A run that
/// was at work when the service died is found at the next start and ends as interrupted.
/// </summary>
public sealed class Dispatch(
    IDbContextFactory<KeepContext> catalogue, RunQueue queue, RunLogs logs, Aftermath aftermath, IEnumerable<IRunWork> works, CharterInForce charter,
    OpenStores stores, TimeProvider clock, IOptions<ServiceSettings> settings, EventHub events, ILogger<Dispatch> log) : BackgroundService
{
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan ProgressEvery = TimeSpan.FromMilliseconds(500);
    private readonly Dictionary<RunKind, IRunWork> workOf = works.ToDictionary(w => w.Kind);
    private readonly ConcurrentDictionary<long, LiveRun> live = new();
    private readonly ConcurrentDictionary<long, Task> tasks = new();
    private readonly LoopRounds rounds = new(clock);
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

    /// <summary>While it is held, nothing new begins.</summary>
    public bool IsHeld { get; set; }

    /// <summary>How long the dispatch waits before it tries once more to write what the catalogue did not take.</summary>
    public TimeSpan TriesAgainAfter { get; set; } = TimeSpan.FromSeconds(2);

    public override async Task StartAsync(CancellationToken cancellationToken)
    {
        await EndInterruptedAsync(cancellationToken);
        await aftermath.FollowAllAsync(cancellationToken);
        await base.StartAsync(cancellationToken);
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
                    await EndInterruptedAsync(stoppingToken);
                    await aftermath.FollowAllAsync(stoppingToken);
                    tended = System.Diagnostics.Stopwatch.GetTimestamp();
                }
                if (!IsHeld) await StartReadyAsync(stoppingToken);
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

    /// <summary>Completes when nothing is at work, and nothing is queued whose time has come.</summary>
    public async Task WhenIdleAsync(CancellationToken cancel = default)
    {
        while (true)
        {
            await using (var db = await catalogue.CreateDbContextAsync(cancel))
            {
                var now = clock.Now();
                if (tasks.IsEmpty && !await db.Runs.AnyAsync(r => r.State == RunState.Running || (r.State == RunState.Queued && (r.NotBefore == null || r.NotBefore <= now)), cancel)) return;
            }
            await Task.Delay(5, cancel);
        }
    }

    private async Task StartReadyAsync(CancellationToken stopping)
    {
        await using var db = await catalogue.CreateDbContextAsync(stopping);
        var now = clock.Now();
        var ready = await db.Runs.AsNoTracking().Where(r => r.State == RunState.Queued && (r.NotBefore == null || r.NotBefore <= now)).OrderBy(r => r.Id).ToListAsync(stopping);
        if (ready.Count == 0) return;
        var ceilings = RunCeilings.Of(charter.Charter, settings.Value.RunsAtOnce);
        // What hangs holds its job, and takes no place from others.
        var hanging = live.Values.Where(Hangs).ToList();
        foreach (var other in live.Values.Except(hanging)) ceilings.Begin(ClaimOf(other.Run));
        var held = hanging.Select(h => ClaimOf(h.Run).Job).ToHashSet();
        foreach (var (run, claim) in ready.Select(r => (r, ClaimOf(r))).Order(Comparer<(Run, RunClaim Claim)>.Create((a, b) => RunClaim.Order(a.Claim, b.Claim))))
        {
            if (ceilings.IsFull) return;
            if (!ceilings.CanBegin(claim) || held.Contains(claim.Job) || live.Values.Any(other => Excludes(run, other.Run))) continue;
            run.State = RunState.Running;
            run.Began = clock.Now();
            // A person may cancel it at this very moment: only one of the two wins.
            var won = await db.Runs.Where(r => r.Id == run.Id && r.State == RunState.Queued)
                .ExecuteUpdateAsync(s => s.SetProperty(r => r.State, run.State).SetProperty(r => r.Began, run.Began), stopping);
            if (won == 0) continue;
            ceilings.Begin(claim);
            // From here on it is this service's, whatever fails: a row that says running with nobody at work would be running for ever.
            var started = live[run.Id] = new LiveRun(run, logs.Open(run.Id), clock, stopping);
            tasks[run.Id] = Task.Run(() => CarryOutAsync(started), CancellationToken.None);
        }
    }

    /// <summary>
    /// What a run holds: for a backup its job, stores and locks; for anything else its store. Somebody waits for a restore or an export, and what a
    /// person asked for comes before what only has its turn.
    /// </summary>
    private RunClaim ClaimOf(Run run)
    {
        var job = run.Job is null ? null : charter.Charter.Jobs.GetValueOrDefault(run.Job);
        var due = run.Due ?? run.NotBefore ?? run.Queued;
        return run.Kind == RunKind.Backup && job is not null
            ? new RunClaim(job.Name, run.Machine, job.Into, job.Locks, charter.Charter.ImportanceOf(job), due)
            : new RunClaim($"{run.Kind} {run.Id}", run.Machine, run.Store is null ? [] : [run.Store], [], run.Kind is RunKind.Restore or RunKind.Export ? MostImportant : MachineDeclaration.UsualImportance, due);
    }

    private const int MostImportant = 6;

    private static bool Excludes(Run a, Run b) => Shares(a, b) && (a.Kind == RunKind.Reclaim || b.Kind == RunKind.Reclaim);

    // A backup that names no store writes into several.
    private static bool Shares(Run a, Run b) => a.Store == b.Store || a is { Kind: RunKind.Backup, Store: null } || b is { Kind: RunKind.Backup, Store: null };

    private async Task CarryOutAsync(LiveRun at)
    {
        try
        {
            await ExpectAsync(at);
            events.Publish("run", at.Run.ToAnswer(at));
            using var ticking = new CancellationTokenSource();
            var progress = PublishProgressAsync(at, ticking.Token);
            var work = Task.Run(() => EndingOfAsync(at));
            var ending = await FirstOf(work, at);
            await ticking.CancelAsync();
            await progress;
            at.Log(ending.Outcome is Outcome.Ok ? LogSeverity.Info : ending.Outcome is Outcome.Warned or Outcome.Suspect ? LogSeverity.Warning : LogSeverity.Error, ending.Sentence);
            at.GivenUp = !work.IsCompleted;
            await EndAsync(at, ending);
            if (work.IsCompleted) return;
            // What hangs still has the job and its store in hand; until it lets go, nothing else of the job begins.
            tasks.TryRemove(at.Run.Id, out _);
            await work;
        }
        catch (Exception e)
        {
            log.LogError(e, "Run {Run} could not be ended in the catalogue", at.Run.Id);
        }
        finally
        {
            live.TryRemove(at.Run.Id, out _);
            at.Dispose();
            tasks.TryRemove(at.Run.Id, out _);
            queue.Wake();
        }
    }

    /// <summary>Writes the end until it is written: a catalogue whose disk is full for a while must not leave the run at work for ever.</summary>
    private async Task EndAsync(LiveRun at, RunEnding ending)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                await aftermath.EndAsync(at.Run, at.Now, ending, at.Elapsed);
                return;
            }
            // The next start finds it, when the service stops first.
            catch (Exception e) when (!stopped.IsCancellationRequested)
            {
                if (tries == 0) log.LogError(e, "The end of run {Run} could not be written to the catalogue; it is tried again until it is", at.Run.Id);
                await Task.Delay(TriesAgainAfter, stopped).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }

    private bool Hangs(LiveRun at) => at.GivenUp || ClaimOf(at.Run).Stores is { Length: > 0 } into && into.All(stores.IsAway);

    /// <summary>The ending of the work; one that was asked to end and hangs on is given up after its grace.</summary>
    private async Task<RunEnding> FirstOf(Task<RunEnding> work, LiveRun at)
    {
        await Task.WhenAny(work, at.StopAsked);
        if (!work.IsCompleted) await Task.WhenAny(work, Task.Delay(Grace));
        return work.IsCompleted ? await work : Stopped(at, "; it hangs on something that does not answer, and no other run of it begins until it lets go or the service is started again");
    }

    private static RunEnding Stopped(LiveRun at, string more = "") => at.Cause switch
    {
        StopCause.Person => new RunEnding(Outcome.Cancelled, "cancelled; nothing of it counts, earlier copies are as they were" + more),
        StopCause.Limit => new RunEnding(Outcome.TimedOut, "ended at its run limit; nothing of it counts, earlier copies are as they were" + more, FailureClass.TimedOut),
        _ => new RunEnding(Outcome.Failed, "interrupted: the service was stopped while the run was at work" + more, FailureClass.Interrupted),
    };

    private async Task<RunEnding> EndingOfAsync(LiveRun at)
    {
        try
        {
            return await workOf[at.Run.Kind].DoAsync(at, at.Token);
        }
        catch (OperationCanceledException) when (at.Token.IsCancellationRequested)
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
            while (await timer.WaitForNextTickAsync(cancel)) events.Publish("run", at.Run.ToAnswer(at));
        }
        catch (OperationCanceledException)
        {
            // The run has ended.
        }
    }

    private async Task ExpectAsync(LiveRun at)
    {
        if (at.Run.Kind != RunKind.Backup) return;
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
        charter.Charter.Jobs.TryGetValue(at.Run.Job!, out var job);
        at.EndsAtLimit = job?.RunLimit is not null;
        at.Limit = job?.RunLimit?.ToDuration() ?? RunLimits.Usual([.. good.Select(g => g.Took)]);
        if (good.Count == 0) return;
        at.ExpectedItems = Bands.Median(good.Select(g => g.Items));
        at.ExpectedBytes = Bands.Median(good.Select(g => g.Bytes));
    }

    private async Task EndInterruptedAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        foreach (var run in await db.Runs.AsNoTracking().Where(r => r.State == RunState.Running || (r.State == RunState.Ended && r.Outcome == null)).ToListAsync(cancel))
        {
            // Those that are at work here are not interrupted; the others are nobody's.
            if (live.ContainsKey(run.Id) || tasks.ContainsKey(run.Id)) continue;
            // A prune goes on where it was broken off: its plan says what is left to do.
            var resumes = run.Kind == RunKind.Prune;
            var sentence = "interrupted: the service ended while the run was at work; earlier copies are whole" + (resumes ? "; another run carries on with its plan" : "");
            using (var file = logs.Open(run.Id)) file.Write(LogSeverity.Error, sentence);
            var figures = new Progress(run.Items, run.SelectedBytes, run.ReadBytes, run.NewBytes, run.StoredBytes, run.Skipped);
            await aftermath.EndAsync(run, figures, new RunEnding(Outcome.Failed, sentence, FailureClass.Interrupted));
            if (resumes && run.Order is { } order) await queue.AddAsync(new RunRequest(run.Kind, run.Job, run.Store, run.Cause) { Order = JsonSerializer.Deserialize<JsonElement>(order), Attempt = run.Attempt + 1 }, cancel);
        }
    }
}
