using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// What the catalogue knows that reports may be about, read together and no more of it than they need: a job that has checked in every
/// minute for a year costs what a new one does.
/// </summary>
internal sealed class HearingPast
{
    /// <summary>Planned runs and runs older than this are settled, whatever is reported.</summary>
    private static readonly Duration LooksBack = Duration.FromDays(40);

    /// <summary>
    /// A run that had ended when its report came, long after it, began at most so long before the instants that the report names.
    /// </summary>
    private static readonly Duration Longest = Duration.FromDays(2);

    /// <summary>Of a job whose earlier runs matter, so many are read.</summary>
    private const int Newest = 60;

    private static readonly Func<KeepContext, string, string, int, IAsyncEnumerable<Run>> NewestRuns = EF.CompileAsyncQuery(
        (KeepContext db, string job, string machine, int most) =>
            db.Runs.Where(r => r.Job == job && r.Machine == machine && r.Kind == RunKind.Watched).OrderByDescending(r => r.Id).Take(most)
    );

    private static readonly Func<KeepContext, string, string, Instant, Instant, IAsyncEnumerable<Run>> RunsOf = EF.CompileAsyncQuery(
        (KeepContext db, string job, string machine, Instant from, Instant to) =>
            db.Runs.Where(r => r.Job == job && r.Machine == machine && r.Kind == RunKind.Watched && r.Queued >= from && r.Queued <= to)
    );

    private static readonly Func<KeepContext, string, string, Instant, Instant, IAsyncEnumerable<PlannedRun>> PlannedRunsOf =
        EF.CompileAsyncQuery(
            (KeepContext db, string job, string machine, Instant from, Instant to) =>
                db.PlannedRuns.Where(p => p.Job == job && p.Machine == machine && p.Due >= from && p.Due <= to)
        );

    private static readonly Func<KeepContext, string, string, Instant, IAsyncEnumerable<PlannedRun>> LastPlannedRun = EF.CompileAsyncQuery(
        (KeepContext db, string job, string machine, Instant before) =>
            db.PlannedRuns.Where(p => p.Job == job && p.Machine == machine && p.Due < before).OrderByDescending(p => p.Due).Take(1)
    );

    private readonly KeepContext db;
    private readonly Instant now;
    private readonly Dictionary<long, Run> runs = [];
    private readonly Dictionary<long, PlannedRun> planned = [];

    private HearingPast(KeepContext db, Instant now) => (this.db, this.now) = (db, now);

    /// <summary>Reports that were taken before, with their runs.</summary>
    public Dictionary<string, long> Known { get; private set; } = [];
    public required Dictionary<(string Job, string Machine), long> Bases { get; init; }
    public ILookup<(string, string), PlannedRun> Planned => planned.Values.OrderBy(p => p.Due).ToLookup(p => (p.Job, p.Machine));
    public Dictionary<(string, string), List<Run>> Runs =>
        runs.Values.OrderBy(r => r.Id).GroupBy(r => (r.Job!, r.Machine)).ToDictionary(g => g.Key, g => g.ToList());

    public static async Task<HearingPast> ReadAsync(KeepContext db, Charter charter, IReadOnlyList<Report> reports, Instant now)
    {
        var jobs = reports.Select(r => r.Job).Distinct().ToList();
        var lasts = await db
            .JobsOnMachines.AsNoTracking()
            .Where(w => jobs.Contains(w.Job))
            .Select(w => new
            {
                w.Job,
                w.Machine,
                w.BaseRunId,
                Run = db
                    .Runs.Where(r => r.Job == w.Job && r.Machine == w.Machine && r.Kind == RunKind.Watched)
                    .OrderByDescending(r => r.Id)
                    .Select(r => (long?)r.Id)
                    .FirstOrDefault(),
                Planned = db
                    .PlannedRuns.Where(p => p.Job == w.Job && p.Machine == w.Machine && p.Due <= now)
                    .OrderByDescending(p => p.Due)
                    .Select(p => (long?)p.Id)
                    .FirstOrDefault(),
            })
            .ToDictionaryAsync(w => (w.Job, w.Machine));
        var past = new HearingPast(db, now) { Bases = lasts.ToDictionary(w => w.Key, w => w.Value.BaseRunId) };
        var running = db.Runs.Where(r => r.State != RunState.Ended && r.Kind == RunKind.Watched && jobs.Contains(r.Job!));
        await foreach (var run in running.AsAsyncEnumerable())
            past.runs[run.Id] = run;
        List<long> lastRuns = [],
            lastPlanned = [];
        foreach (var of in reports.GroupBy(r => (r.Job, r.Machine)))
            if (lasts.TryGetValue(of.Key, out var last) && IsPlain(charter, of, now))
            {
                if (last.Run is { } run)
                    lastRuns.Add(run);
                if (last.Planned is { } due)
                    lastPlanned.Add(due);
            }
            else
                await past.ReadMoreAsync(of.Key, [.. of]);
        var ids = reports.Select(r => r.Id).OfType<string>().Distinct().ToList();
        if (ids.Count > 0)
            past.Known = await db.TakenReports.Where(r => ids.Contains(r.Id)).ToDictionaryAsync(r => r.Id, r => r.RunId);
        await past.ReadRunsAsync(lastRuns.Concat(past.Known.Values));
        // Each beside the other that it names, and the runs of those once more.
        await past.ReadPlannedAsync(lastPlanned.Concat(past.runs.Values.Select(r => r.PlannedRunId).OfType<long>()));
        await past.ReadRunsAsync(past.planned.Values.Select(p => p.RunId).OfType<long>());
        return past;
    }

    /// <summary>Whether reports are about what happens now, and only the last run and planned run of their job can matter.</summary>
    private static bool IsPlain(Charter charter, IEnumerable<Report> of, Instant now) =>
        of.All(r =>
            charter.Placed.Find(r.Job, r.Machine) is { } job
            && job.HeardBy.Length == 1
            && r.Source == EvidenceSource.CheckIn
            && r is { Due: null, At: null, Began: null, Figures: null, Log: null, Read: null }
            && r.Received > now - HearingRound.Early
        );

    private async Task ReadMoreAsync((string Job, string Machine) key, List<Report> of)
    {
        var (from, to) = (
            of.Min(r => Instant.Min(r.Due ?? r.When, r.Began ?? r.When)),
            of.Max(r => Instant.Max(r.Due ?? r.When, r.Began ?? r.When))
        );
        // A report from long ago does not make all of a job's history be read.
        from = Instant.Max(from, now - LooksBack);
        Instant? oldest = null;
        await foreach (var run in NewestRuns(db, key.Job, key.Machine, Newest))
        {
            runs[run.Id] = run;
            oldest = oldest is null ? run.Queued : Instant.Min(oldest.Value, run.Queued);
        }
        if (oldest > from - HearingRound.Early)
            await foreach (var run in RunsOf(db, key.Job, key.Machine, from - Longest, to + HearingRound.Early))
                runs[run.Id] = run;
        await foreach (var one in PlannedRunsOf(db, key.Job, key.Machine, from, Instant.Min(now, to + HearingRound.Early)))
            planned[one.Id] = one;
        await foreach (var one in LastPlannedRun(db, key.Job, key.Machine, from))
            if (one.Due >= now - LooksBack)
                planned[one.Id] = one;
    }

    private async Task ReadRunsAsync(IEnumerable<long> wanted)
    {
        var ids = wanted.Where(id => !runs.ContainsKey(id)).Distinct().ToList();
        if (ids.Count == 0)
            return;
        await foreach (var run in db.Runs.Where(r => ids.Contains(r.Id) && r.Kind == RunKind.Watched).AsAsyncEnumerable())
            runs[run.Id] = run;
    }

    private async Task ReadPlannedAsync(IEnumerable<long> wanted)
    {
        var ids = wanted.Where(id => !planned.ContainsKey(id)).Distinct().ToList();
        if (ids.Count == 0)
            return;
        await foreach (var one in db.PlannedRuns.Where(p => ids.Contains(p.Id)).AsAsyncEnumerable())
            planned[one.Id] = one;
    }
}
