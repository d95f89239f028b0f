using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Nights = System.Collections.Generic.Dictionary<
    (string Job, string Machine),
    System.Collections.Generic.IReadOnlyList<IronKeep.Contracts.NightCell>
>;

namespace IronKeep.Service.Duty;

/// <summary>Puts together what needs a person now and the sums of the last night, for the page, the client and the daily mail.</summary>
public sealed class DutyReport(
    CharterInForce inForce,
    NightBoard board,
    Tonight tonight,
    FreshnessNow freshness,
    CoverageDesk coverage,
    TimeProvider clock
)
{
    /// <summary>How many broken promises are named.</summary>
    private const int MostBroken = 8;

    /// <summary>How many of the coming night's troubles are named.</summary>
    private const int MostTroubles = 20;

    /// <summary>How long the figures of many jobs are taken as they were.</summary>
    private static readonly Duration Remembers = Duration.FromSeconds(5);
    private volatile Remembered? remembered;

    private sealed record Remembered(Charter Charter, long UpTo, Instant At, Nights Nights);

    public async Task<DutyAnswer> MakeAsync(KeepContext db, CancellationToken cancel, DutyGrouping? by = null)
    {
        var now = clock.Now();
        var charter = inForce.Charter;
        var (from, to) = NightBoard.LastNight(charter.Zone, now);
        var sums = await db
            .PlannedRuns.Where(p => p.Due >= from && p.Due < to)
            .GroupBy(p => p.Outcome)
            .Select(g => new { g.Key, Count = g.Sum(p => p.Times) })
            .ToListAsync(cancel);
        var unplanned = await db.Runs.CountAsync(
            r => (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched) && r.PlannedRunId == null && r.Queued >= from && r.Queued < to,
            cancel
        );
        var alerts = await db.Alerts.AsNoTracking().Where(a => a.State != AlertState.Closed).ToListAsync(cancel);
        var grouping = by ?? DutyGroups.Usual(charter);
        var standing = await freshness.OfAsync(db, charter, now, cancel);
        var nights = await NightsAsync(db, charter, grouping, now, cancel);
        var pauses = await db
            .JobsOnMachines.AsNoTracking()
            .Where(w => w.PausedUntil > now)
            .ToDictionaryAsync(w => (w.Job, w.Machine), cancel);
        var rows = charter
            .Placed.All.Select(job =>
            {
                var stands = standing[(job.Name, job.Machine)];
                return new DutyJobRow(
                    job.Name,
                    job.Machine,
                    job.Watched,
                    nights[(job.Name, job.Machine)],
                    stands.Newest?.Taken.ToDateTimeOffset(),
                    Freshness.IsStale(job, stands, now),
                    pauses.TryGetValue((job.Name, job.Machine), out var pause)
                        ? new PauseAnswer(
                            pause.PausedBy!,
                            pause.PausedReason!,
                            pause.PausedAt!.Value.ToDateTimeOffset(),
                            pause.PausedUntil!.Value.ToDateTimeOffset()
                        )
                        : null
                );
            })
            .ToList();
        var expected = tonight.Findings;
        return new DutyAnswer(
            now.ToDateTimeOffset(),
            charter.Zone.Id,
            from.ToDateTimeOffset(),
            to.ToDateTimeOffset(),
            sums.Sum(s => s.Count),
            Enum.GetValues<Outcome>().ToDictionary(o => Kebab.Of(o), o => sums.Find(s => s.Key == o)?.Count ?? 0),
            sums.Find(s => s.Key == null)?.Count ?? 0,
            unplanned,
            // What threatens what is already kept weighs most; what a person has seen weighs least.
            [
                .. alerts
                    .OrderBy(a => a.State)
                    .ThenByDescending(a => a.Severity)
                    .ThenByDescending(a => a.Class)
                    .ThenByDescending(a => a.LastAt)
                    .Select(a => a.ToAnswer()),
            ],
            grouping == DutyGrouping.Job ? rows : [],
            grouping,
            grouping == DutyGrouping.Job
                ? []
                : DutyGroups.Of(charter, rows, grouping, NightBoard.Text(NightBoard.NightOf(from, charter.Zone))),
            await SinceAsync(db, now - Duration.FromDays(1), cancel),
            PromisesOf(charter, rows),
            expected
                ?.Take(MostTroubles)
                .Select(f => new DutyTrouble(f.At!.Value.ToDateTimeOffset(), f.Subject, f.Message, f.Remedy))
                .ToList(),
            Math.Max(0, (expected?.Count ?? 0) - MostTroubles),
            await coverage.DutyAsync(db, cancel)
        );
    }

    /// <summary>The nights of all jobs; of many they are remembered as <see cref="FreshnessNow"/> remembers how fresh these are.</summary>
    private async Task<Nights> NightsAsync(KeepContext db, Charter charter, DutyGrouping grouping, Instant now, CancellationToken cancel)
    {
        var isMany = grouping != DutyGrouping.Job;
        var upTo = isMany ? await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0 : 0;
        if (
            isMany
            && remembered is { } known
            && ReferenceEquals(known.Charter, charter)
            && known.UpTo == upTo
            && now >= known.At
            && now - known.At < Remembers
        )
            return known.Nights;
        var nights = await board.OfAsync(
            db,
            [.. charter.Placed.All.Select(j => (j.Name, j.Machine))],
            charter.Zone,
            now,
            isMany ? DutyGroups.MostNights : NightBoard.MostNights,
            cancel
        );
        if (isMany)
            remembered = new Remembered(charter, upTo, now, nights);
        return nights;
    }

    private static DutyPromises PromisesOf(Charter charter, List<DutyJobRow> rows)
    {
        var broken = rows.Where(r => r.Stale).ToList();
        return new DutyPromises(
            rows.Count,
            rows.Count(r => r.NewestGoodCopy is not null),
            charter.Placed.All.Count(j => j.FreshWithin is not null),
            broken.Count,
            [
                .. broken
                    .OrderBy(r => r.NewestGoodCopy ?? DateTimeOffset.MinValue)
                    .Take(MostBroken)
                    .Select(r => new DutyBroken(
                        r.Job,
                        r.Machine,
                        r.NewestGoodCopy,
                        charter.Placed.Find(r.Job, r.Machine)!.FreshWithin!.Value.ToString()
                    )),
            ]
        );
    }

    private static async Task<DutySince> SinceAsync(KeepContext db, Instant since, CancellationToken cancel) =>
        new(
            // What went on in another alert is counted with that.
            await db.Alerts.CountAsync(a => a.OpenedAt > since && (a.ClosedReason == null || a.ClosedBy != null), cancel),
            await db.Alerts.CountAsync(a => a.ClosedAt > since && (a.ClosedReason == null || a.ClosedBy != null), cancel),
            await db.Copies.CountAsync(c => c.Taken > since, cancel),
            await db.Copies.CountAsync(c => c.BinnedAt > since, cancel),
            await db.Copies.CountAsync(c => c.GoneAt > since, cancel),
            await db.CharterRevisions.CountAsync(r => r.AppliedAt > since, cancel)
        );
}
