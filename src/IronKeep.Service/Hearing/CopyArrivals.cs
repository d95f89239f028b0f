using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Stores.Dated;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// What copies in a folder of dated files say of the runs that leave them: that one came, or that a run which ended well left none. Source:
/// docs/semantics.md, section 10 (Dated files).
/// </summary>
public sealed class CopyArrivals(
    CharterInForce inForce,
    HearingDesk desk,
    AlertBook alerts,
    IDbContextFactory<KeepContext> catalogue,
    FactSignal signal,
    TimeProvider clock
)
{
    /// <summary>Of a folder that is new here, older files are copies and no news.</summary>
    private static readonly Duration News = Duration.FromDays(2);

    /// <summary>Runs that ended longer ago are left as they are.</summary>
    private static readonly Duration LooksBack = Duration.FromDays(14);
    private readonly HashSet<long> confirmed = [];

    public async Task ReportAsync(StoreDefinition store, DatedStore folder, CancellationToken cancel)
    {
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var first = await FirstLookAsync(db, store.Name, now, cancel);
        var since = Instant.Max(now - LooksBack, first - News);
        var came = await CopyBook
            .InForce(db)
            .Where(c => c.Store == store.Name && c.RunId == null && c.Taken >= since)
            .OrderBy(c => c.Taken)
            .ThenBy(c => c.Id)
            .ToListAsync(cancel);
        foreach (var copy in came)
            if (inForce.Charter.Placed.Find(copy.Job, copy.Machine) is { } job && job.Watched && job.Into.Contains(store.Name))
                await CameAsync(db, store, job, copy, now, cancel);
        foreach (var job in inForce.Charter.Placed.All.Where(j => j.Watched && j.Into.Contains(store.Name)))
            await ConfirmAsync(db, store, folder, job, Instant.Max(now - LooksBack, first), now, cancel);
    }

    private static async Task<Instant> FirstLookAsync(KeepContext db, string store, Instant now, CancellationToken cancel)
    {
        var key = $"first-look {store}";
        if (await db.KeptValues.AsNoTracking().FirstOrDefaultAsync(k => k.Key == key, cancel) is { } kept)
            return Instant.FromUnixTimeTicks(long.Parse(kept.Value, CultureInfo.InvariantCulture));
        db.KeptValues.Add(new KeptValue { Key = key, Value = now.ToUnixTimeTicks().ToString(CultureInfo.InvariantCulture) });
        await db.SaveChangesAsync(cancel);
        return now;
    }

    private async Task CameAsync(KeepContext db, StoreDefinition store, PlacedJob job, Copy copy, Instant now, CancellationToken cancel)
    {
        var planned = await PlannedOfAsync(db, store, job, copy, cancel);
        var hears = job.HeardBy.Contains(EvidenceSource.Folder);
        if (
            hears
            && planned is null
            && inForce.Charter.DueTimesOf(job)?.Next(now) is { } next
            && copy.Taken >= next - job.Early.ToDuration()
        )
            return;
        // Where others tell of the run as well, its end is theirs to say.
        if (
            planned is { Outcome: null }
            && job.HeardBy is not [EvidenceSource.Folder]
            && now <= planned.Due + Charter.LimitOf(job) + Charter.LooksLate
        )
            return;
        var doubt = await DoubtAsync(db, job, copy, cancel);
        long? run = planned?.RunId;
        if (hears)
        {
            var ended = Instant.Min(copy.Ended, now);
            var began =
                store.Dated!.Name.HasHour && copy.Taken <= ended && ended - copy.Taken < Duration.FromDays(1) ? copy.Taken : (Instant?)null;
            var taken = await desk.TakeAllAsync([
                new Report(job.Name, copy.Machine, EvidenceSource.Folder, CheckInState.Ended, now)
                {
                    Id = $"folder {store.Name} {copy.Id} {copy.Bytes} {copy.Ended.ToUnixTimeTicks()}",
                    At = ended,
                    Began = began,
                    Due = planned?.Due,
                    Figures = new CheckInFigures(1, copy.Bytes, null, null, null),
                    Note = $"{copy.Id}, {new ByteSize(copy.Bytes)}",
                    LeftCopy = true,
                    Doubt = doubt,
                },
            ]);
            run = taken[0].RunId;
        }
        else if (doubt is not null)
            await alerts.RaiseAsync(
                new Matter(
                    Subject.OfJob(job.Name, copy.Machine),
                    AlertClass.Suspect,
                    $"the copy {copy.Id} that {job.Name} left in {store.Name} is suspect: {doubt}",
                    "Look at the copy; if it is right, confirm it, and nothing is held back any more."
                ),
                cancel
            );
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            await db
                .Copies.Where(c => c.Id == copy.Id && c.Store == store.Name)
                .ExecuteUpdateAsync(s => s.SetProperty(c => c.RunId, run ?? 0).SetProperty(c => c.Doubt, doubt), cancel);
            if (run is > 0)
                await db
                    .Runs.Where(r => r.Id == run && r.CopyIds == "")
                    .ExecuteUpdateAsync(s => s.SetProperty(r => r.CopyIds, copy.Id).SetProperty(r => r.Store, store.Name), cancel);
            db.Say(
                new Fact
                {
                    At = now,
                    Kind = FactKind.CopyMade,
                    CopyId = copy.Id,
                    Store = store.Name,
                    Job = copy.Job,
                    Machine = copy.Machine,
                    RunId = run,
                }
            );
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
        }
        signal.Wake();
    }

    /// <summary>
    /// The planned run that a copy is of: taken from a while before it was due until its limits. Of several the one of the same day where
    /// names say no hour, else the nearest.
    /// </summary>
    private async Task<PlannedRun?> PlannedOfAsync(
        KeepContext db,
        StoreDefinition store,
        PlacedJob job,
        Copy copy,
        CancellationToken cancel
    )
    {
        var (from, to) = (copy.Taken - Charter.LimitOf(job), copy.Taken + job.Early.ToDuration());
        var all = await db
            .PlannedRuns.AsNoTracking()
            .Where(p => p.Job == job.Name && p.Machine == copy.Machine && p.Due >= from && p.Due <= to)
            .ToListAsync(cancel);
        var zone = store.Dated!.Zone ?? inForce.Charter.Zone;
        return all.OrderBy(p => !store.Dated.Name.HasHour && p.Due.InZone(zone).Date != copy.Taken.InZone(zone).Date)
            .ThenBy(p => p.Due > copy.Taken ? p.Due - copy.Taken : copy.Taken - p.Due)
            .FirstOrDefault();
    }

    /// <summary>Why the size of a copy is suspect beside the good ones of its kind before it; null when it is not.</summary>
    private static async Task<string?> DoubtAsync(KeepContext db, PlacedJob job, Copy copy, CancellationToken cancel)
    {
        var before = await db
            .Copies.AsNoTracking()
            .Where(c =>
                c.Job == copy.Job
                && c.Machine == copy.Machine
                && c.Store == copy.Store
                && c.Kind == copy.Kind
                && c.Taken < copy.Taken
                && c.Doubt == null
                && (c.State == CopyState.Sound || c.State == CopyState.Unchecked)
            )
            .OrderByDescending(c => c.Taken)
            .Take(Bands.Looks)
            .Select(c => c.Bytes)
            .ToListAsync(cancel);
        var reasons = Bands.Judge(
            job.Band,
            [.. before.Select(b => new RunMeasure(1, b, Duration.Zero))],
            new RunMeasure(1, copy.Bytes, Duration.Zero)
        );
        return reasons.Length == 0 ? null : string.Join("; ", reasons);
    }

    /// <summary>Runs that were said to have ended well, and whose copy should be there by now.</summary>
    private async Task ConfirmAsync(
        KeepContext db,
        StoreDefinition store,
        DatedStore folder,
        PlacedJob job,
        Instant since,
        Instant now,
        CancellationToken cancel
    )
    {
        var settles = store.Dated!.SettledAfter.ToDuration() + Charter.LooksLate;
        var latest = now - Charter.LimitOf(job) - settles;
        var good = await db
            .PlannedRuns.AsNoTracking()
            .Where(p =>
                p.Job == job.Name
                && (p.Machine == job.Machine || !job.IsOnSeveral)
                && p.Due >= since
                && p.Due <= latest
                && p.RunId != null
                && (p.Outcome == Outcome.Ok || p.Outcome == Outcome.Warned || p.Outcome == Outcome.Suspect)
            )
            .ToListAsync(cancel);
        foreach (var planned in good.Where(p => !confirmed.Contains(p.Id)))
        {
            var run = await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == planned.RunId, cancel);
            if (run is not { Kind: RunKind.Watched, Ended: { } ended })
                continue;
            var (from, to) = (planned.Due - job.Early.ToDuration(), Instant.Max(planned.Due + Charter.LimitOf(job), ended));
            if (now < to + settles)
                continue;
            var growing = folder.Last.Unsettled.FirstOrDefault(u =>
                Instant.FromDateTimeOffset(u.Taken) is var at && at >= from && at <= to && (u.Name.Job ?? job.Name) == job.Name
            );
            // Written in its time, and seen only now: it has still to settle here.
            if (
                growing is not null
                && Instant.FromUnixTimeTicks(growing.Mark.Modified / 100) <= to
                && now < Instant.FromDateTimeOffset(growing.Mark.Since) + settles
            )
                continue;
            if (
                !await db.Copies.AnyAsync(
                    c => c.Store == store.Name && c.Job == job.Name && c.Machine == planned.Machine && c.Taken >= from && c.Taken <= to,
                    cancel
                )
            )
                await desk.TakeAllAsync([
                    new Report(job.Name, planned.Machine, EvidenceSource.Folder, CheckInState.Ended, now)
                    {
                        Id = $"unconfirmed {store.Name} {planned.Id}",
                        At = ended,
                        Due = planned.Due,
                        LeftCopy = false,
                        Note = growing is not null
                            ? $"{growing.Id} is there and still being written"
                            : $"there is none in {store.Name} that was taken from {from.Local(inForce.Charter.ZoneOf(job))} to "
                                + $"{to.Local(inForce.Charter.ZoneOf(job))}",
                    },
                ]);
            confirmed.Add(planned.Id);
        }
    }
}
