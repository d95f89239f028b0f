using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Forecasts;
using IronKeep.Service.Stores;
using IronKeep.Service.Upkeep;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Reports;

/// <summary>
/// Puts a report together from what the catalogue remembers. Source of what counts as what: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class ReportMaking(
    CharterInForce inForce,
    ForecastDesk forecasts,
    OpenStores stores,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
    /// <summary>How far the forecast looks for a store that fills up, in days, and how many jobs a cause names.</summary>
    private const int LooksAhead = 365,
        MostNamed = 20;

    public async Task<ReportAnswer> MakeAsync(
        KeepContext db,
        ReportDefinition report,
        LocalDate from,
        LocalDate to,
        CancellationToken cancel
    )
    {
        var charter = inForce.Charter;
        var now = clock.Now();
        var start = charter.Zone.AtStartOfDay(from).ToInstant();
        var end = Instant.Min(now, charter.Zone.AtStartOfDay(to).ToInstant());
        var own = settings.Value.Machine;
        var jobs = charter
            .Placed.All.Select(j => (Job: j, Machine: j.Machine))
            .Where(j => report.Takes(j.Job, charter.Machines.GetValueOrDefault(j.Machine), j.Machine))
            .ToList();
        var mine = jobs.Select(j => (j.Job.Name, j.Machine)).ToHashSet();
        var planned = await PlannedAsync(db, mine, start, end, cancel);
        var copies = await CopiesAsync(db, mine, jobs, start, end, cancel);
        var rows = new List<ReportJob>();
        foreach (var (job, machine) in jobs)
        {
            var of = planned[(job.Name, machine)].ToList();
            var mineOf = copies[(job.Name, machine)].ToList();
            var hours = job.FreshWithin is { } promise ? await HoursAsync(db, job, machine, promise, mineOf, start, end, cancel) : null;
            rows.Add(
                new ReportJob(
                    job.Name,
                    machine,
                    of.Sum(p => p.Times),
                    of.Where(p => p.Outcome is Outcome.Ok or Outcome.Warned).Sum(p => p.Times),
                    of.Where(p => p.Outcome == Outcome.Missed).Sum(p => p.Times),
                    of.Where(p => IsFailed(p.Outcome)).Sum(p => p.Times),
                    job.FreshWithin?.ToString(),
                    hours?.Kept.TotalHours,
                    hours?.Broken.TotalHours,
                    mineOf.Count(c => c.Taken >= start && c.Taken < end),
                    mineOf.Count(c => c.Gone >= start && c.Gone < end),
                    mineOf.Where(c => c.Taken >= start && c.Taken < end).Sum(c => c.StoredBytes)
                )
            );
        }
        var promised = rows.Where(r => r.FreshWithin is not null).ToList();
        return new ReportAnswer(
            report.Name,
            report.Every,
            report.Words,
            own,
            charter.Zone.Id,
            LocalDatePattern.Iso.Format(from),
            LocalDatePattern.Iso.Format(to),
            now.ToDateTimeOffset(),
            await RunsAsync(db, planned, mine, start, end, cancel),
            await CausesAsync(db, charter, planned, cancel),
            new ReportFreshness(
                promised.Count,
                promised.Count(r => r.BrokenHours > 0),
                promised.Sum(r => r.KeptHours ?? 0),
                promised.Sum(r => r.BrokenHours ?? 0)
            ),
            [
                .. rows.OrderByDescending(r => r.BrokenHours ?? 0)
                    .ThenByDescending(r => r.Missed + r.Failed)
                    .ThenBy(r => r.Job, StringComparer.Ordinal),
            ],
            await StoresAsync(db, charter, jobs.SelectMany(j => j.Job.Into).ToHashSet(), copies, start, end, cancel),
            await AlertsAsync(db, charter, jobs, start, end, cancel)
        );
    }

    private sealed record PlannedOf(string Job, string Machine, Outcome? Outcome, int Times, string? Reason, long? RunId);

    private sealed record CopyOf(
        string Job,
        string Machine,
        string Store,
        Instant Taken,
        CopyState State,
        Instant? Binned,
        Instant? Gone,
        long StoredBytes
    );

    private static bool IsFailed(Outcome? outcome) =>
        outcome is Outcome.Failed or Outcome.TimedOut or Outcome.Refused or Outcome.Suspect or Outcome.HeldBack;

    private static async Task<ILookup<(string, string), PlannedOf>> PlannedAsync(
        KeepContext db,
        HashSet<(string, string)> mine,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        var rows = await db
            .PlannedRuns.AsNoTracking()
            .Where(p => p.Due >= start && p.Due < end)
            .Select(p => new PlannedOf(p.Job, p.Machine, p.Outcome, p.Times, p.Reason, p.RunId))
            .ToListAsync(cancel);
        return rows.Where(p => mine.Contains((p.Job, p.Machine))).ToLookup(p => (p.Job, p.Machine));
    }

    /// <summary>The copies that lie in the period, those that went in it, and those before it that its first hours still rest on.</summary>
    private static async Task<ILookup<(string, string), CopyOf>> CopiesAsync(
        KeepContext db,
        HashSet<(string, string)> mine,
        List<(PlacedJob Job, string Machine)> jobs,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        var longest = jobs.Select(j => j.Job.FreshWithin?.ToDuration() ?? Duration.Zero).DefaultIfEmpty().Max();
        var since = start - longest;
        var rows = await db
            .Copies.AsNoTracking()
            .Where(c =>
                (c.Taken >= since && c.Taken < end) || (c.GoneAt >= start && c.GoneAt < end) || (c.BinnedAt >= start && c.BinnedAt < end)
            )
            .Select(c => new CopyOf(c.Job, c.Machine, c.Store, c.Taken, c.State, c.BinnedAt, c.GoneAt, c.StoredBytes))
            .ToListAsync(cancel);
        return rows.Where(c => mine.Contains((c.Job, c.Machine))).ToLookup(c => (c.Job, c.Machine));
    }

    private static async Task<(Duration Kept, Duration Broken)?> HoursAsync(
        KeepContext db,
        PlacedJob job,
        string machine,
        Span promise,
        List<CopyOf> copies,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        // A job that was not there yet promised nothing.
        var first = await db
            .PlannedRuns.Where(p => p.Job == job.Name && p.Machine == machine)
            .OrderBy(p => p.Due)
            .Select(p => (Instant?)p.Due)
            .FirstOrDefaultAsync(cancel);
        var oldest = copies.Select(c => (Instant?)c.Taken).Append(first).Where(i => i is not null).Min();
        if (oldest is not { } known || known >= end)
            return null;
        var good = copies.Where(c => c.State is CopyState.Unchecked or CopyState.Sound).ToLookup(c => c.Store);
        return FreshHours.Of(
            promise.ToDuration(),
            job.Into.Select(s => (IReadOnlyCollection<(Instant, Instant?)>)[.. good[s].Select(c => (c.Taken, Earlier(c.Binned, c.Gone)))]),
            Instant.Max(start, known),
            end
        );
    }

    private static Instant? Earlier(Instant? one, Instant? other) => one is { } a && other is { } b ? Instant.Min(a, b) : one ?? other;

    private static async Task<ReportRuns> RunsAsync(
        KeepContext db,
        ILookup<(string, string), PlannedOf> planned,
        HashSet<(string, string)> mine,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        var all = planned.SelectMany(p => p).ToList();
        int Times(Func<Outcome?, bool> of) => all.Where(p => of(p.Outcome)).Sum(p => p.Times);
        var count = Times(_ => true);
        var succeeded = Times(o => o is Outcome.Ok or Outcome.Warned);
        var running = Times(o => o is null);
        var should = count - running - Times(o => o is Outcome.NotNeeded or Outcome.Cancelled);
        var unplanned = (
            await db
                .Runs.AsNoTracking()
                .Where(r => (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched) && r.PlannedRunId == null)
                .Where(r => r.Queued >= start && r.Queued < end)
                .GroupBy(r => new { r.Job, r.Machine })
                .Select(g => new { g.Key, Count = g.Count() })
                .ToListAsync(cancel)
        )
            .Where(g => mine.Contains((g.Key.Job!, g.Key.Machine)))
            .Sum(g => g.Count);
        return new ReportRuns(
            count,
            Enum.GetValues<Outcome>().ToDictionary(o => Kebab.Of(o), o => Times(p => p == o)),
            running,
            should,
            succeeded,
            should == 0 ? null : (double)succeeded / should,
            unplanned
        );
    }

    private static async Task<List<ReportCause>> CausesAsync(
        KeepContext db,
        Charter charter,
        ILookup<(string, string), PlannedOf> planned,
        CancellationToken cancel
    )
    {
        var wrong = planned.SelectMany(p => p).Where(p => p.Outcome == Outcome.Missed || IsFailed(p.Outcome)).ToList();
        var failures = new Dictionary<long, FailureClass>();
        foreach (var some in wrong.Select(p => p.RunId).OfType<long>().Distinct().Chunk(500))
        foreach (
            var run in await db
                .Runs.AsNoTracking()
                .Where(r => some.Contains(r.Id) && r.Failure != null)
                .Select(r => new { r.Id, r.Failure })
                .ToListAsync(cancel)
        )
            failures[run.Id] = run.Failure!.Value;
        return
        [
            .. wrong
                .GroupBy(p =>
                    p.RunId is { } id && failures.TryGetValue(id, out var failure)
                        ? $"{Kebab.Of(p.Outcome!.Value)}: {charter.CauseOf(failure)}"
                        : $"{Kebab.Of(p.Outcome!.Value)}{(p.Outcome == Outcome.Missed && p.Reason is { } why ? $": {why}" : "")}"
                )
                .Select(g => new ReportCause(
                    g.Key,
                    g.Sum(p => p.Times),
                    [.. g.Select(p => p.Job).Distinct().Order(StringComparer.Ordinal).Take(MostNamed)]
                ))
                .OrderByDescending(c => c.Times)
                .ThenBy(c => c.Cause, StringComparer.Ordinal),
        ];
    }

    private async Task<List<ReportStore>> StoresAsync(
        KeepContext db,
        Charter charter,
        HashSet<string> names,
        ILookup<(string, string), CopyOf> copies,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        var input = await forecasts.InputAsync(charter, LooksAhead, cancel);
        var full = Forecaster
            .Play(input)
            .Findings.Where(f => f.Kind == FindingKind.StoreFull)
            .GroupBy(f => f.Subject)
            .ToDictionary(g => g.Key, g => g.Min(f => f.At));
        var of = copies.SelectMany(c => c).ToLookup(c => c.Store);
        var found = new List<ReportStore>();
        foreach (var store in charter.Stores.Values.Where(s => names.Contains(s.Name)))
        {
            var known = input.Stores.GetValueOrDefault(store.Name);
            bool Within(Instant? at) => at >= start && at < end;
            var mine = of[store.Name].ToList();
            found.Add(
                new ReportStore(
                    store.Name,
                    mine.Count(c => Within(c.Taken)),
                    mine.Count(c => Within(c.Binned)),
                    mine.Count(c => Within(c.Gone)),
                    mine.Where(c => Within(c.Taken)).Sum(c => c.StoredBytes),
                    known?.UsedBytes,
                    store.Capacity?.Bytes ?? (known is { FreeBytes: { } free } ? known.UsedBytes + free : null),
                    full.TryGetValue($"store {store.Name}", out var at) || full.TryGetValue(store.Name, out at)
                        ? LocalDatePattern.Iso.Format((at ?? clock.Now()).InZone(charter.Zone).Date)
                        : null,
                    await Readings.OfAsync(store, stores, db, clock.Now(), cancel)
                )
            );
        }
        return found;
    }

    private static async Task<ReportAlerts> AlertsAsync(
        KeepContext db,
        Charter charter,
        List<(PlacedJob Job, string Machine)> jobs,
        Instant start,
        Instant end,
        CancellationToken cancel
    )
    {
        var (names, machines, into) = (
            jobs.Select(j => j.Job.Name).ToHashSet(),
            jobs.Select(j => j.Machine).ToHashSet(),
            jobs.SelectMany(j => j.Job.Into).ToHashSet()
        );
        var all = jobs.Count == charter.Placed.All.Length;
        var rows = (
            await db
                .Alerts.AsNoTracking()
                .Where(a => a.OpenedAt >= start && a.OpenedAt < end)
                .Select(a => new
                {
                    a.Class,
                    a.SubjectJob,
                    a.SubjectMachine,
                    a.SubjectStore,
                    a.OpenedAt,
                    a.ClosedAt,
                })
                .ToListAsync(cancel)
        )
            .Where(a =>
                a.SubjectJob is { } job ? names.Contains(job)
                : a.SubjectStore is { } store ? into.Contains(store)
                : a.SubjectMachine is { } machine ? machines.Contains(machine)
                : all
            )
            .ToList();
        var took = rows.Where(a => a.ClosedAt is not null)
            .Select(a => (a.Class, Seconds: (a.ClosedAt!.Value - a.OpenedAt).TotalSeconds))
            .ToList();
        return new ReportAlerts(
            rows.Count,
            took.Count,
            rows.Count - took.Count,
            Median([.. took.Select(t => t.Seconds)]),
            [
                .. rows.GroupBy(a => a.Class)
                    .Select(g =>
                    {
                        var seconds = took.Where(t => t.Class == g.Key).Select(t => t.Seconds).ToList();
                        return new ReportAlertClass(
                            g.Key,
                            g.Count(),
                            g.Count() - seconds.Count,
                            Median(seconds),
                            seconds.Count == 0 ? null : seconds.Max()
                        );
                    })
                    .OrderByDescending(c => c.Opened)
                    .ThenBy(c => c.Class),
            ]
        );
    }

    private static double? Median(List<double> values)
    {
        if (values.Count == 0)
            return null;
        values.Sort();
        return values[values.Count / 2];
    }
}
