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
/// What follows from a run's end. Its row, its planned run, those it makes up for, another try and the news of it are written in one
/// transaction; alerts, prunes and the rest follow from the row, and are done again after a crash until the row says that they are done.
/// </summary>
public sealed class Aftermath(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, RunQueue queue, AlertBook alerts, TellingDesk telling, PruneDesk prunes, StoreRoom room, NightBoard board,
    TimeProvider clock, EventHub events, ILogger<Aftermath> log)
{
    /// <summary>Causes that may have passed when it is tried again. Source: docs/semantics.md, section 2.</summary>
    private static readonly FailureClass[] Passing = [FailureClass.StoreUnreachable, FailureClass.TimedOut, FailureClass.Interrupted];

    /// <summary>Ends a run. Throws what the catalogue throws: then nothing was written, and it can be called again.</summary>
    public async Task EndAsync(Run run, Progress figures, RunEnding ending, Duration? took = null)
    {
        Run row;
        await using (var db = await catalogue.CreateDbContextAsync())
        await using (var together = await db.Database.BeginTransactionAsync())
        {
            row = (await db.Runs.FindAsync(run.Id))!;
            if (row.State == RunState.Ended && row.Outcome is not null) return;
            row.State = RunState.Ended;
            row.Ended = clock.Now();
            row.TookSeconds = (took ?? (row.Began is { } began ? Duration.Max(Duration.Zero, row.Ended.Value - began) : null))?.TotalSeconds;
            row.Outcome = ending.Outcome;
            row.Failure = ending.Failure;
            row.Sentence = ending.Sentence;
            (row.FailedStore, row.Brief, row.Followed) = (ending.FailedStore, ending.Brief, false);
            row.CopyIds = string.Join('\n', ending.CopyIds);
            (row.Items, row.SelectedBytes, row.ReadBytes) = (figures.Items, figures.SelectedBytes, figures.ReadBytes);
            (row.NewBytes, row.StoredBytes, row.Skipped) = (figures.NewBytes, figures.StoredBytes, figures.Skipped);
            var retry = await RetryAsync(db, row, ending);
            if (row.PlannedRunId is { } plannedId && await db.PlannedRuns.FindAsync(plannedId) is { } planned)
            {
                planned.Outcome = retry is null ? ending.Outcome : null;
                planned.Reason = retry is null ? ending.Sentence : $"tried again by run {retry.Id}";
                planned.RunId = retry?.Id ?? row.Id;
                board.Changed(planned.Due, clock.Now());
            }
            await db.SaveChangesAsync();
            if (row.Kind == RunKind.Backup && IsGood(ending.Outcome))
            {
                var madeUp = $"; made up for by run {row.Id}";
                await db.PlannedRuns.Where(p => p.Job == row.Job && p.Machine == row.Machine && p.Outcome == Outcome.Missed && p.MadeUpBy == null && p.Due <= row.Began)
                    .ExecuteUpdateAsync(s => s.SetProperty(p => p.MadeUpBy, row.Id).SetProperty(p => p.Reason, p => p.Reason + madeUp));
                await LetFollowAsync(db, row, ending.Outcome);
            }
            if (row.Kind == RunKind.Backup) await telling.TellAsync(db, row, CancellationToken.None);
            await together.CommitAsync();
            if (retry is not null)
            {
                events.Publish("run", retry.ToAnswer());
                queue.Wake();
            }
        }
        log.LogInformation("Run {Run} ({Kind} {Subject}) ended {Outcome}: {Sentence}", row.Id, Kebab.Of(row.Kind), row.Job ?? row.Store, Kebab.Of(ending.Outcome), ending.Sentence);
        await FollowAsync(row);
    }

    /// <summary>Does what follows from the ends that nobody has followed up: after a crash, or where it failed.</summary>
    public async Task FollowAllAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        foreach (var run in await db.Runs.AsNoTracking().Where(r => !r.Followed && r.State == RunState.Ended).OrderBy(r => r.Id).ToListAsync(cancel)) await FollowAsync(run);
        // An end that was written without its planned run, by a version of before.
        foreach (var planned in await db.PlannedRuns.Where(p => p.Outcome == null && p.RunId != null).ToListAsync(cancel))
        {
            var run = await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == planned.RunId, cancel);
            if (run is { State: not RunState.Ended }) continue;
            (planned.Outcome, planned.Reason) = (run?.Outcome ?? Outcome.Failed, run?.Sentence ?? "its run is not in the catalogue");
        }
        await db.SaveChangesAsync(cancel);
    }

    /// <summary>Every step may have been done before: doing it again changes nothing.</summary>
    private async Task FollowAsync(Run run)
    {
        try
        {
            var retried = run.PlannedRunId is not null && run.Failure is { } failure && Passing.Contains(failure) && await IsRetriedAsync(run);
            if (!retried) await AlertAsync(run);
            if (run.Kind is RunKind.Backup) await AfterBackupAsync(run);
            if (run.Kind is RunKind.Reclaim && inForce.Charter.Stores.TryGetValue(run.Store!, out var store)) await room.JudgeAsync(store, CancellationToken.None);
            await using var db = await catalogue.CreateDbContextAsync();
            await db.Runs.Where(r => r.Id == run.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.Followed, true));
        }
        catch (Exception e)
        {
            log.LogError(e, "What follows from the end of run {Run} could not be done; it is tried again", run.Id);
        }
        events.Publish("run", run.ToAnswer());
        if (run.Kind is RunKind.Backup or RunKind.Check or RunKind.Prune or RunKind.Reclaim or RunKind.Heal) events.Publish("copies");
    }

    private static bool IsGood(Outcome outcome) => outcome is Outcome.Ok or Outcome.Warned or Outcome.Suspect;

    /// <summary>Queues another try for a passing cause, with a growing pause: 1, 2, 4 minutes and so on.</summary>
    private async Task<Run?> RetryAsync(KeepContext db, Run run, RunEnding ending)
    {
        if (run.Kind != RunKind.Backup || ending.Failure is not { } failure || !Passing.Contains(failure)) return null;
        if (!inForce.Charter.Jobs.TryGetValue(run.Job!, out var job) || run.Attempt >= job.Retries) return null;
        return await queue.AddAsync(db, new RunRequest(run.Kind, run.Job, run.Store, run.Cause)
        {
            Due = run.Due,
            PlannedRunId = run.PlannedRunId,
            Attempt = run.Attempt + 1,
            NotBefore = clock.Now() + Duration.FromMinutes(1 << run.Attempt),
        }, CancellationToken.None);
    }

    private async Task<bool> IsRetriedAsync(Run run)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        return await db.Runs.AnyAsync(r => r.PlannedRunId == run.PlannedRunId && r.Id > run.Id && r.Attempt == run.Attempt + 1);
    }

    /// <summary>A head that succeeded after all, by hand or by catching up, lets go what was held back by its failure for the same due instant.</summary>
    private async Task LetFollowAsync(KeepContext db, Run run, Outcome outcome)
    {
        if (outcome == Outcome.Suspect || run.PlannedRunId is not null) return;
        var followers = inForce.Charter.Jobs.Values.Where(j => j.After == run.Job).Select(j => j.Name).ToList();
        if (followers.Count == 0) return;
        // What was started by hand stands for the due instant that came last.
        var last = await db.PlannedRuns.AsNoTracking().Where(p => p.Job == run.Job && p.Machine == run.Machine && p.Due <= run.Began).OrderByDescending(p => p.Due).Select(p => (Instant?)p.Due).FirstOrDefaultAsync();
        if ((run.Due ?? last) is not { } due) return;
        foreach (var held in await db.PlannedRuns.Where(p => followers.Contains(p.Job) && p.Machine == run.Machine && p.Outcome == Outcome.HeldBack && p.RunId == null && p.Due == due).ToListAsync())
        {
            held.Outcome = null;
            held.Reason = $"{Serving.HeadDone}run {run.Id} of job {run.Job} succeeded after all";
        }
        await db.SaveChangesAsync();
    }

    private async Task AfterBackupAsync(Run run)
    {
        var job = inForce.Charter.Jobs.GetValueOrDefault(run.Job!);
        await using (var db = await catalogue.CreateDbContextAsync())
        {
            if (job is not null && IsGood(run.Outcome!.Value) && !Freshness.IsStale(job, (await Freshness.OfAsync(db, [job], run.Machine, clock.Now(), CancellationToken.None))[job.Name], clock.Now()))
                await alerts.CloseAsync(AlertBook.JobSubject(job.Name, run.Machine), [AlertClass.Stale], CancellationToken.None);
        }
        foreach (var store in (job?.Into ?? []).Select(s => inForce.Charter.Stores[s])) await room.JudgeAsync(store, CancellationToken.None);
        // Tied to success, never to a clock: after a failure, or while a copy is in doubt, nothing is pruned.
        if (job?.Prune == PruneTime.AfterSuccess && run.Outcome is Outcome.Ok or Outcome.Warned) await prunes.AfterSuccessAsync(job!, run, CancellationToken.None);
    }

    private async Task AlertAsync(Run run)
    {
        var outcome = run.Outcome!.Value;
        // A restore or an export has a person waiting for it, who reads its report; what a healing left hurt has its alert already.
        if (run.Kind is RunKind.Restore or RunKind.Export or RunKind.Heal || outcome is Outcome.Cancelled or Outcome.NotNeeded or Outcome.HeldBack) return;
        var subject = run.Kind switch
        {
            RunKind.Backup => AlertBook.JobSubject(run.Job!, run.Machine),
            RunKind.Prune => PruneDesk.Subject(run.Job!, run.Store!),
            RunKind.Reclaim => $"reclaiming of store {run.Store}",
            _ => AlertBook.StoreSubject(run.Store!),
        };
        var none = CancellationToken.None;
        if (outcome is Outcome.Ok or Outcome.Warned)
        {
            AlertClass[] closes = run.Kind switch
            {
                RunKind.Backup => [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue, AlertClass.Suspect],
                RunKind.Check when outcome == Outcome.Ok => [AlertClass.Failed, AlertClass.Unsound],
                RunKind.Prune => [AlertClass.Failed, AlertClass.BrakedPrune],
                _ => [AlertClass.Failed],
            };
            await alerts.CloseAsync(subject, closes, none);
            if (run.Kind != RunKind.Backup) return;
            await alerts.CloseAsync(ClockWatch.MachineSubject(run.Machine), [AlertClass.Silent], none);
            foreach (var store in inForce.Charter.Jobs.GetValueOrDefault(run.Job!)?.Into ?? []) await alerts.CloseAsync(AlertBook.StoreSubject(store), [AlertClass.Failed], none);
            return;
        }
        var remedy = FailureWords.Remedy(run.Failure ?? FailureClass.Unknown);
        if (outcome == Outcome.Suspect)
        {
            await alerts.CloseAsync(subject, [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue], none);
            await alerts.RaiseAsync(new Matter(subject, AlertClass.Suspect, run.Brief ?? run.Sentence!,
                $"Look at what the job took. If it is right, say so: 'ironkeep run confirm {run.Id}', or the button at the run. Until then the copy before it does not expire.")
            { RunId = run.Id }, none);
        }
        // What one store got can be in doubt although another failed.
        if (outcome == Outcome.Failed && run is { Kind: RunKind.Backup, Brief: { } doubt })
            await alerts.RaiseAsync(new Matter(subject, AlertClass.Suspect, doubt, $"Look at what the job took. If it is right, say so: 'ironkeep run confirm {run.Id}', or the button at the run. Until then the copy before it does not expire.") { RunId = run.Id }, none);
        // A store that is down or full is one matter, however many jobs it stops.
        if (outcome == Outcome.Suspect) return;
        if (run.Kind == RunKind.Backup && run.FailedStore is not null && run.Failure is FailureClass.StoreUnreachable or FailureClass.StoreFull)
            await alerts.RaiseAsync(new Matter(AlertBook.StoreSubject(run.FailedStore!), AlertClass.Failed, run.Sentence! + Holds(run), remedy) { RunId = run.Id, Affected = run.Job }, none);
        else
        {
            var kind = outcome == Outcome.TimedOut ? AlertClass.Overdue : run.Kind == RunKind.Check && run.Failure == FailureClass.DataDamaged ? AlertClass.Unsound : AlertClass.Failed;
            await alerts.RaiseAsync(new Matter(subject, kind, run.Sentence! + Holds(run), remedy) { RunId = run.Id, Times = kind == AlertClass.Overdue && alerts.IsOpen(subject, kind) ? 0 : 1 }, none);
        }
    }

    /// <summary>The jobs that a failed run holds back, because they follow its job.</summary>
    private string Holds(Run run)
    {
        if (run.Kind != RunKind.Backup) return "";
        var held = new List<string>();
        var heads = new HashSet<string> { run.Job! };
        while (inForce.Charter.Jobs.Values.FirstOrDefault(j => j.After is { } head && heads.Contains(head) && !heads.Contains(j.Name)) is { } next)
        {
            heads.Add(next.Name);
            held.Add(next.Name);
        }
        return held.Count == 0 ? "" : $"; {(held.Count == 1 ? $"job {held[0]}, which follows it, is" : $"jobs {string.Join(", ", held)}, which follow it, are")} held back";
    }
}
