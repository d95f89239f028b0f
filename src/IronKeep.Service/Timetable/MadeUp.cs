using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// What a good run means for planned runs that did not come off: it makes up for what was missed before it began, and lets go what its
/// failure held back.
/// </summary>
public sealed class MadeUp(CharterInForce inForce) : IFollower
{
    public string Name => "made-up";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var runs = await Ended.RunsOfAsync(
            db,
            facts.Where(f => f.Job is not null),
            r => r.Kind == RunKind.Backup && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned || r.Outcome == Outcome.Suspect),
            cancel
        );
        if (runs.Count == 0)
            return;
        var open = await OpenAsync(db, runs.Values, cancel);
        foreach (var fact in facts)
        {
            if (fact.Job is null || !runs.TryGetValue(fact.RunId ?? 0, out var run))
                continue;
            foreach (var missed in open[(run.Job!, run.Machine)].Where(p => p.MadeUpBy is null && p.Due <= run.Began))
            {
                (missed.MadeUpBy, missed.Reason) = (run.Id, $"{missed.Reason}; made up for by run {run.Id}");
                db.SayPlanned(missed, fact.At);
            }
            if (run is { Outcome: not Outcome.Suspect, PlannedRunId: null })
                await LetFollowAsync(db, run, fact.At, cancel);
            if (db.ChangeTracker.HasChanges())
                await db.SaveChangesAsync(cancel);
        }
    }

    /// <summary>What nothing has made up for yet, of all the jobs whose runs have ended.</summary>
    private static async Task<ILookup<(string, string), PlannedRun>> OpenAsync(
        KeepContext db,
        IEnumerable<Run> runs,
        CancellationToken cancel
    )
    {
        var jobs = runs.Select(r => r.Job!).Distinct().ToList();
        return (
            await db.PlannedRuns.Where(p => jobs.Contains(p.Job) && p.Outcome == Outcome.Missed && p.MadeUpBy == null).ToListAsync(cancel)
        ).ToLookup(p => (p.Job, p.Machine));
    }

    /// <summary>
    /// A head that succeeded after all, by hand or by catching up, lets go what was held back by its failure for the same due instant.
    /// </summary>
    private async Task LetFollowAsync(KeepContext db, Run run, Instant at, CancellationToken cancel)
    {
        var followers = inForce.Charter.Placed.All.Where(j => j.After == run.Job && j.Machine == run.Machine).Select(j => j.Name).ToList();
        if (followers.Count == 0)
            return;
        // What was started by hand stands for the due instant that came last.
        var last = await db
            .PlannedRuns.AsNoTracking()
            .Where(p => p.Job == run.Job && p.Machine == run.Machine && p.Due <= run.Began)
            .OrderByDescending(p => p.Due)
            .Select(p => (Instant?)p.Due)
            .FirstOrDefaultAsync(cancel);
        if ((run.Due ?? last) is not { } due)
            return;
        foreach (
            var held in await db
                .PlannedRuns.Where(p =>
                    followers.Contains(p.Job)
                    && p.Machine == run.Machine
                    && p.Outcome == Outcome.HeldBack
                    && p.RunId == null
                    && p.Due == due
                )
                .ToListAsync(cancel)
        )
        {
            (held.Outcome, held.Stand, held.Reason) = (
                null,
                PlannedStand.GoesOn,
                $"goes on: run {run.Id} of job {run.Job} succeeded after all"
            );
            db.SayPlanned(held, at);
        }
    }
}
