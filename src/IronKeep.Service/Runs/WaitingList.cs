using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>The runs that wait, in the order in which they would begin: for what each waits, and about when it begins.</summary>
public sealed class WaitingList(
    IDbContextFactory<KeepContext> catalogue,
    Dispatch dispatch,
    RunWorks works,
    CharterInForce inForce,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
    /// <summary>How long a run takes is taken from the good ones of so many days.</summary>
    private static readonly Duration LooksBack = Duration.FromDays(14);

    /// <summary>What is thought of a run of which nothing is known.</summary>
    private static readonly Duration Unknown = Duration.FromMinutes(5);

    /// <summary>So many are named; the rest is counted.</summary>
    public const int MostNamed = 2_000;

    public async Task<WaitingAnswer> OfAsync(CancellationToken cancel)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var open = await db
            .Runs.AsNoTracking()
            .Where(r => r.State == RunState.Queued || (r.State == RunState.Running && r.Kind != RunKind.Watched))
            .ToListAsync(cancel);
        var takes = await TakesAsync(db, open, now, cancel);
        var line = open.Where(r => r.State == RunState.Queued)
            .Select(r => (Run: r, Claim: works.Of(r).ClaimOf(r, charter)))
            .OrderBy(w => w.Claim, Comparer<RunClaim>.Create(RunClaim.Order))
            .ToList();
        // What waits for its machine begins nobody knows when, and is in nobody's way meanwhile.
        var playable = line.Where(w => !dispatch.AwaitsMachine(w.Run.Id)).ToList();
        var begins = WaitEstimate.Of(
            RunCeilings.Of(charter, settings.Value.RunsAtOnce),
            now,
            open.Where(r => r.State == RunState.Running)
                .Select(r => new RunAtWork(works.Of(r).ClaimOf(r, charter), takes(r) - (now - (r.Began ?? now)))),
            [.. playable.Select(w => new RunInLine(w.Claim, w.Run.NotBefore is { } from && from > now ? from : now, takes(w.Run)))]
        );
        var about = playable.Zip(begins).ToDictionary(p => p.First.Run.Id, p => p.Second);
        return new WaitingAnswer(
            now.ToDateTimeOffset(),
            open.Count - line.Count,
            line.Count,
            [
                .. line.Take(MostNamed)
                    .Select(w => new WaitingRunAnswer(
                        w.Run.Id,
                        w.Run.Kind,
                        w.Run.Job,
                        w.Run.Machine,
                        w.Run.Store,
                        w.Claim.Importance,
                        w.Run.Due?.ToDateTimeOffset(),
                        w.Run.Queued.ToDateTimeOffset(),
                        w.Run.NotBefore is { } from && from > now
                            ? $"its time, {from.Local(charter.Zone)}"
                            : dispatch.WaitsFor(w.Run.Id) ?? "its turn",
                        about.GetValueOrDefault(w.Run.Id)?.ToDateTimeOffset()
                    )),
            ]
        );
    }

    /// <summary>How long each run presumably takes: as long as the good ones of its job on its machine lately did.</summary>
    private static async Task<Func<Run, Duration>> TakesAsync(KeepContext db, List<Run> open, Instant now, CancellationToken cancel)
    {
        if (open.Count == 0)
            return _ => Unknown;
        var since = now - LooksBack;
        var usual = await db
            .Runs.Where(r =>
                r.Queued > since
                && r.Kind == RunKind.Backup
                && r.TookSeconds != null
                && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned)
            )
            .GroupBy(r => new { r.Job, r.Machine })
            .Select(g => new { g.Key, Seconds = g.Average(r => r.TookSeconds!.Value) })
            .ToDictionaryAsync(g => (g.Key.Job, g.Key.Machine), g => Duration.FromSeconds(g.Seconds), cancel);
        return run => usual.GetValueOrDefault((run.Job, run.Machine), Unknown);
    }
}
