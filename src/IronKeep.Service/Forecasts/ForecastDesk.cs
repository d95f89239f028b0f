using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Service.Stores;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Forecasts;

/// <summary>Gathers what a forecast starts from: copies and stores as they are now, and what each job's history says of its runs.</summary>
public sealed class ForecastDesk(
    IDbContextFactory<KeepContext> catalogue,
    StoreRoom room,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
    /// <summary>How many of a job's last good runs are looked at for growth.</summary>
    private const int PastRuns = 40;

    /// <summary>
    /// The input for a charter from now on over some days, job by job and machine by machine. <paramref name="only"/> are the jobs that are
    /// played, by their words; null: all.
    /// </summary>
    public async Task<ForecastInput> InputAsync(Charter charter, int days, CancellationToken cancel, IReadOnlySet<string>? only = null)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var now = clock.Now();
        var own = settings.Value.Machine;
        var rows = await CopyBook.Alive(db).ToListAsync(cancel);
        var wanted = charter.Placed.All.SelectMany(j => j.Into.Select(s => (j.Name, j.Machine, s))).ToHashSet();
        var rooms = await Task.WhenAll(charter.Stores.Values.Select(async s => (s.Name, Room: await room.OfAsync(s))));
        var flat = charter.Flat();
        if (only is not null)
            flat = flat with
            {
                Jobs = flat.Jobs.RemoveRange(flat.Jobs.Keys.Where(j => !only.Contains(j))),
                RotationSets = flat.RotationSets.Clear(),
            };
        return new ForecastInput(flat, own, settings.Value.RunsAtOnce, now, days)
        {
            Jobs = await AssumeAsync(db, charter, cancel),
            Copies =
            [
                .. rows.Where(c => wanted.Contains((c.Job, c.Machine, c.Store)))
                    .GroupBy(c => (c.Job, c.Machine, c.Store))
                    .SelectMany(g => CopyBook.Facts([.. g], now, charter.Zone))
                    .Select(c => new KnownCopy(
                        charter.Placed.Find(c.Copy.Job, c.Copy.Machine)!.Words,
                        c.Copy.Store,
                        c.Facts,
                        c.Copy.BinnedAt
                    )),
            ],
            Stores = rooms
                .Where(s => s.Room.Used is not null)
                // Free room is told less the reserve; the forecast takes the reserve off itself.
                .ToDictionary(s => s.Name, s => new KnownStore(s.Room.Used!.Value, s.Room.Free + s.Room.Reserve)),
        };
    }

    private static async Task<Dictionary<string, JobAssumptions>> AssumeAsync(KeepContext db, Charter charter, CancellationToken cancel)
    {
        var assumed = new Dictionary<string, JobAssumptions>();
        foreach (var job in charter.Placed.All)
        {
            var machine = job.Machine;
            var runs = await db
                .Runs.AsNoTracking()
                .Where(r =>
                    r.Job == job.Name
                    && r.Machine == machine
                    && (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched)
                    && r.CopyIds != ""
                    && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned || (r.Outcome == Outcome.Suspect && r.ConfirmedAt != null))
                )
                .OrderByDescending(r => r.Id)
                .Take(PastRuns)
                .Select(r => new
                {
                    r.Began,
                    r.Ended,
                    r.SelectedBytes,
                    r.NewBytes,
                    r.StoredBytes,
                    r.CopyIds,
                })
                .ToListAsync(cancel);
            runs.Reverse();
            assumed[job.Words] = Assume.From(
                job,
                [
                    .. runs.Where(r => r is { Began: not null, Ended: not null })
                        .Select(r =>
                        {
                            // What is new and stored adds up over the stores of a run; what is selected is the same for each.
                            if (job.Watched)
                                return new PastRun(
                                    r.Began!.Value,
                                    r.Ended!.Value - r.Began.Value,
                                    r.SelectedBytes,
                                    r.SelectedBytes,
                                    r.SelectedBytes
                                );
                            var stores = Math.Max(1, r.CopyIds.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length);
                            return new PastRun(
                                r.Began!.Value,
                                r.Ended!.Value - r.Began.Value,
                                r.SelectedBytes,
                                r.NewBytes / stores,
                                r.StoredBytes / stores
                            );
                        }),
                ]
            );
        }
        return assumed;
    }
}
