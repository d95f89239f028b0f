using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Runs.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Backups;

/// <summary>
/// Makes runs of what agents did on their own, and matches them with what was planned: one that was called missed meanwhile has been done
/// after all. What an agent says is believed of its own machine's jobs alone, and a copy counts when its store has it.
/// </summary>
public sealed class Journals(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    RunQueue queue,
    IRunLogs logs,
    OpenStores stores,
    CopyBook copies,
    EventHub events,
    FactSignal signal,
    TimeProvider clock,
    ILogger<Journals> log
) : IJournals
{
    private const int MostEntries = 2000,
        MostLines = 1000,
        MostCopies = 20,
        MostName = 200;
    private static readonly Duration LongestRun = Duration.FromDays(14),
        LongestAway = Duration.FromDays(400);

    /// <inheritdoc/>
    public async Task TakeAsync(string machine, JournalRequest journal, CancellationToken cancel)
    {
        if (journal.Entries.Count > MostEntries || journal.Entries.Any(e => e.Lines.Count > MostLines || e.Copies.Count > MostCopies))
            throw new ArrivalRefusedException(ArrivalFault.Wrong, "what was sent says more at once than is taken");
        var now = clock.Now();
        // Its clock may be off; how long ago things were it knows by the same clock.
        var ahead = Instant.FromDateTimeOffset(journal.Now) - now;
        foreach (var entry in journal.Entries.OrderBy(e => e.Due))
        {
            if (inForce.Charter.Placed.Find(entry.Job, machine) is not { } job || job.Watched)
            {
                log.LogWarning(
                    "{Machine} says that it carried out {Job}, which is no job of it",
                    machine,
                    StrangersWords.OneLine(entry.Job, MostName)
                );
                continue;
            }
            if (await NoteAsync(machine, job, entry, ahead, now, cancel) is not { } run)
                continue;
            using (var file = logs.Open(run.Id))
                foreach (var line in entry.Lines)
                    file.Write(line.Severity, SaidLines.Plain(line.Text));
            log.LogInformation("{Machine} carried out {Job} on its own: run {Run}, {Outcome}", machine, job.Name, run.Id, run.Outcome);
            events.Publish(run);
            // Its store answers by the agent, which waits for this to end.
            var made = entry.Copies.Where(c => inForce.Charter.Stores.GetValueOrDefault(c.Store)?.On == machine).ToList();
            _ = Task.Run(() => AddCopiesAsync(run, job, machine, made), CancellationToken.None);
        }
        queue.Wake();
        signal.Wake();
    }

    /// <summary>The run, or null when it was noted before.</summary>
    private async Task<Run?> NoteAsync(
        string machine,
        PlacedJob job,
        JournalEntry entry,
        Duration ahead,
        Instant now,
        CancellationToken cancel
    )
    {
        var due = Instant.FromDateTimeOffset(entry.Due);
        // One that the schedule does not know stands for no planned run.
        var isDue = now - due < LongestAway && inForce.Charter.DueTimesOf(job)?.Next(due - Duration.FromSeconds(1)) == due && due <= now;
        var took = Duration.Min(Duration.FromSeconds(Math.Clamp(entry.Seconds, 0, LongestRun.TotalSeconds)), LongestRun);
        var began = Clamped(Instant.FromDateTimeOffset(entry.Began) - ahead, now);
        var outcome = entry.Outcome is Outcome.Ok or Outcome.Warned ? entry.Outcome : Outcome.Failed;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var seconds = took.TotalSeconds;
        if (
            await db.Runs.AnyAsync(
                r =>
                    r.Kind == RunKind.Backup
                    && r.Job == job.Name
                    && r.Machine == machine
                    && r.ByKind == ActorKind.Elsewhere
                    && r.TookSeconds == seconds
                    && r.NotBefore == due,
                cancel
            )
        )
            return null;
        var f = entry.Figures;
        var run = new Run
        {
            Kind = RunKind.Backup,
            Job = job.Name,
            Machine = machine,
            Store = RunQueue.StoreOf(job),
            By = Actor.Alone(machine),
            Queued = now,
            // As it was told, by which it is known when it is told again.
            NotBefore = due,
            Due = isDue ? due : null,
            State = RunState.Ended,
            Began = began,
            Ended = Instant.Min(began + took, now),
            TookSeconds = seconds,
            Outcome = outcome,
            Failure = outcome == Outcome.Failed ? entry.Failure ?? FailureClass.Unknown : null,
            Sentence = Core.Quantities.Sentence.Begin(
                $"{machine} did this on its own while the service was not reached, by its clock from {entry.Began:yyyy-MM-dd HH:mm:ss'Z'}"
                    + $"; heard of {now.Local(inForce.Charter.ZoneOf(job))}: {SaidLines.Plain(entry.Sentence)}"
            ),
            CopyIds = string.Join('\n', entry.Copies.Select(c => StrangersWords.OneLine(c.CopyId, MostName))),
            Items = SaidLines.Count(f.Items),
            SelectedBytes = SaidLines.Count(f.SelectedBytes),
            ReadBytes = SaidLines.Count(f.ReadBytes),
            Skipped = SaidLines.Count(f.Skipped),
            Revision = inForce.Revision,
        };
        db.Runs.Add(run);
        await db.SaveChangesAsync(cancel);
        if (
            isDue
            && await db.PlannedRuns.FirstOrDefaultAsync(p => p.Job == job.Name && p.Machine == machine && p.Due == due, cancel)
                is { } planned
        )
            await MatchAsync(db, planned, run, cancel);
        db.SayEnded(run, now);
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        return run;
    }

    private static Instant Clamped(Instant at, Instant now) => Instant.Max(Instant.Min(at, now), now - LongestAway);

    /// <summary>
    /// A planned run that nothing has served, or that was called missed, was done; what was to make up for it is not needed.
    /// </summary>
    private async Task MatchAsync(KeepContext db, PlannedRun planned, Run run, CancellationToken cancel)
    {
        if (planned.Outcome is not (null or Outcome.Missed))
            return;
        // A run that was queued for it and has not begun is not needed, unless what was done alone failed.
        if (
            planned.RunId is { } other
            && (
                run.Outcome == Outcome.Failed
                || await db.Runs.FindAsync([other], cancel) is not { } waiting
                || !await queue.DropAsync(db, waiting, Outcome.NotNeeded, $"{run.Machine} did it on its own: run {run.Id}", cancel)
            )
        )
            return;
        (planned.RunId, planned.Outcome, planned.Reason, planned.Stand) = (run.Id, run.Outcome, run.Sentence, null);
        run.PlannedRunId = planned.Id;
        db.SayPlanned(planned, clock.Now());
        if (run.Outcome == Outcome.Failed)
            return;
        var catchUp = await db
            .Runs.Where(r => r.Job == run.Job && r.Machine == run.Machine && r.State == RunState.Queued && r.ByKind == ActorKind.CatchUp)
            .ToListAsync(cancel);
        foreach (var waits in catchUp.Where(r => r.Due is null || r.Due <= planned.Due))
            await queue.DropAsync(db, waits, Outcome.NotNeeded, $"{run.Machine} did it on its own: run {run.Id}", cancel);
    }

    /// <summary>Adds what is really there; what cannot be asked now is found when the store is compared with the catalogue.</summary>
    private async Task AddCopiesAsync(Run run, PlacedJob job, string machine, List<CopyThere> made)
    {
        foreach (var (store, id) in made.Select(m => (m.Store, m.CopyId)))
        {
            try
            {
                var record = await stores.AskAsync(store, s => s.ReadRecord(id), TimeSpan.FromMinutes(1));
                if (record is null || record.Job != job.Name || record.Machine != machine)
                {
                    log.LogWarning(
                        "{Machine} says that it made copy {Copy} in store {Store}, which is not there",
                        machine,
                        StrangersWords.OneLine(id, MostName),
                        store
                    );
                    continue;
                }
                var figures = new RunFigures { Arriving = () => (record.NewBytes ?? 0, record.StoredBytes ?? 0) };
                await copies.AddAsync(record, store, run.Id, figures);
            }
            catch (Exception e) when (e is PlaceException or StoreDamageException)
            {
                log.LogWarning(
                    "Copy {Copy} of run {Run} cannot be looked at in store {Store} yet: {Problem}",
                    StrangersWords.OneLine(id, MostName),
                    run.Id,
                    store,
                    e.Message
                );
            }
            catch (Exception e)
            {
                log.LogError(e, "Copy {Copy} of run {Run} could not be added", StrangersWords.OneLine(id, MostName), run.Id);
            }
        }
        signal.Wake();
    }
}
