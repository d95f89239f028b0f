using System.Text;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using Prometheus;

namespace IronKeep.Service.Health;

/// <summary>
/// The service in figures for programs that collect them: base units, labels of a bounded number. What is counted begins anew with each
/// start of the service that leads; what stands is looked up when it is asked for, at most every few seconds. Documented in
/// docs/metrics.md.
/// </summary>
public sealed class KeepMetrics : IDisposable
{
    /// <summary>Jobs beyond so many have no series of their own; their number is given instead.</summary>
    public const int MostJobs = 1000;
    private static readonly TimeSpan Keeps = TimeSpan.FromSeconds(5);
    private readonly CollectorRegistry registry;
    private readonly SemaphoreSlim gate = new(1);
    private readonly Dictionary<ExpositionFormat, byte[]> known = [];
    private long lookedAt;
    private readonly IDbContextFactory<KeepContext> catalogue;
    private readonly CharterInForce inForce;
    private readonly StoreRoom room;
    private readonly Dispatch dispatch;
    private readonly Leading leading;
    private readonly TimeProvider clock;
    private readonly string machine;
    private readonly List<Gauge> gauges = [];
    private readonly (string Name, LoopRounds Rounds)[] loops;
    private readonly Gauge info,
        isLeading,
        loopAge,
        openAlerts,
        queued,
        atWork,
        jobs,
        withoutSeries,
        newestCopy,
        promise,
        storeUp,
        storeUsed,
        storeFree,
        waiting;

    public KeepMetrics(
        MetricCounts counts,
        IDbContextFactory<KeepContext> catalogue,
        CharterInForce inForce,
        StoreRoom room,
        Dispatch dispatch,
        Leading leading,
        ClockLoop loop,
        Teller teller,
        LogWatching logs,
        FolderWatching folders,
        TimeProvider clock,
        IOptions<ServiceSettings> settings
    )
    {
        (this.catalogue, this.inForce, this.room, this.dispatch, this.leading, this.clock) = (
            catalogue,
            inForce,
            room,
            dispatch,
            leading,
            clock
        );
        machine = settings.Value.Machine;
        loops = [("clock", loop.Rounds), ("teller", teller.Rounds), ("logs", logs.Rounds), ("folders", folders.Rounds)];
        registry = counts.Registry;
        var make = Prometheus.Metrics.WithCustomRegistry(registry);
        Gauge Gauge(string name, string help, params string[] labels)
        {
            gauges.Add(make.CreateGauge(name, help, labels));
            return gauges[^1];
        }
        info = Gauge("ironkeep_info", "Always 1; what the service is.", "version", "machine");
        isLeading = Gauge("ironkeep_leading", "Whether this service leads those of its catalogue: 1 or 0.");
        loopAge = Gauge("ironkeep_loop_age_seconds", "How long ago a loop of the service last came round.", "loop");
        openAlerts = Gauge("ironkeep_alerts_open", "Alerts that are not closed, by class and severity.", "class", "severity");
        queued = Gauge("ironkeep_runs_queued", "Runs that wait to begin.");
        atWork = Gauge("ironkeep_runs_at_work", "Runs that are at work here.");
        jobs = Gauge("ironkeep_jobs", "Jobs of the charter by how they stand: fresh, stale, or without a promise.", "stands");
        withoutSeries = Gauge("ironkeep_jobs_without_series", "Jobs that are too many to have series of their own.");
        newestCopy = Gauge(
            "ironkeep_newest_good_copy_timestamp_seconds",
            "When the newest good copy of a job was taken.",
            "backup_job",
            "machine"
        );
        promise = Gauge("ironkeep_fresh_within_seconds", "How old the newest good copy of a job may become.", "backup_job", "machine");
        storeUp = Gauge("ironkeep_store_up", "Whether a store answered when it was last asked: 1 or 0.", "store");
        storeUsed = Gauge("ironkeep_store_used_bytes", "Bytes that a store holds.", "store");
        storeFree = Gauge("ironkeep_store_free_bytes", "Bytes that a store can still take, less its reserve.", "store");
        waiting = Gauge("ironkeep_messages_waiting", "Messages that wait to be told, by channel.", "channel");
    }

    public void Dispose() => gate.Dispose();

    /// <summary>All figures as text, as they stood at most a few seconds ago.</summary>
    public async Task<byte[]> WriteAsync(ExpositionFormat format, CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await RefreshAsync(cancel);
            if (known.TryGetValue(format, out var last))
                return last;
            using var text = new MemoryStream();
            await registry.CollectAndExportAsTextAsync(text, format, cancel);
            return known[format] = text.ToArray();
        }
        finally
        {
            gate.Release();
        }
    }

    /// <summary>What stands, each figure with the values of its labels, as it stood at most a few seconds ago.</summary>
    public async Task<IReadOnlyDictionary<string, IReadOnlyList<(string[] Labels, double Value)>>> ReadAsync(CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await RefreshAsync(cancel);
            return Gauges.ToDictionary(
                g => g.Name,
                IReadOnlyList<(string[], double)> (g) =>
                    g.LabelNames.Length == 0 ? [([], g.Value)] : [.. g.GetAllLabelValues().Select(l => (l, g.WithLabels(l).Value))]
            );
        }
        finally
        {
            gate.Release();
        }
    }

    /// <summary>The figures of what stands, without their values.</summary>
    public IReadOnlyList<Gauge> Gauges => gauges;

    private async Task RefreshAsync(CancellationToken cancel)
    {
        if (lookedAt != 0 && clock.GetElapsedTime(lookedAt) < Keeps)
            return;
        await LookAsync(cancel);
        known.Clear();
        lookedAt = clock.GetTimestamp();
    }

    private async Task LookAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var (charter, now) = (inForce.Charter, clock.Now());
        info.WithLabels(SelfCheck.Version, machine).Set(1);
        isLeading.Set(leading.IsLeading ? 1 : 0);
        foreach (var (name, rounds) in loops)
            if (rounds.SinceLast is { } since)
                loopAge.WithLabels(name).Set(since.TotalSeconds);
        queued.Set(await db.Runs.CountAsync(r => r.State == RunState.Queued, cancel));
        atWork.Set(dispatch.AtWork.Count());

        Clear(openAlerts);
        var open = await db
            .Alerts.Where(a => a.State != AlertState.Closed)
            .GroupBy(a => new { a.Class, a.Severity })
            .Select(g => new { g.Key, Count = g.Count() })
            .ToListAsync(cancel);
        foreach (var group in open)
            openAlerts.WithLabels(group.Key.Class.Word(), group.Key.Severity.Word()).Set(group.Count);

        Clear(waiting);
        foreach (var channel in charter.Channels.Keys)
            waiting.WithLabels(channel).Set(0);
        var messages = await db
            .Messages.Where(m => m.EndedAt == null)
            .GroupBy(m => m.Channel)
            .Select(g => new { g.Key, Count = g.Count() })
            .ToListAsync(cancel);
        foreach (var group in messages.Where(m => charter.Channels.ContainsKey(m.Key)))
            waiting.WithLabels(group.Key).Set(group.Count);

        foreach (var gauge in new[] { storeUp, storeUsed, storeFree })
            Clear(gauge);
        foreach (var store in charter.Stores.Keys)
        {
            if (room.LastOf(store) is not { } last)
                continue;
            storeUp.WithLabels(store).Set(last.Problem is null ? 1 : 0);
            if (last.Used is { } used)
                storeUsed.WithLabels(store).Set(used);
            if (last.Free is { } free)
                storeFree.WithLabels(store).Set(free);
        }
        await JobsAsync(db, charter, now, cancel);
    }

    private async Task JobsAsync(KeepContext db, Charter charter, NodaTime.Instant now, CancellationToken cancel)
    {
        Clear(newestCopy);
        Clear(promise);
        var all = charter.Placed.All.ToList();
        var standings = await Freshness.OfAsync(db, all, now, cancel);
        var stale = all.Count(j => Freshness.IsStale(j, standings[(j.Name, j.Machine)], now));
        var promised = all.Count(j => j.FreshWithin is not null);
        jobs.WithLabels("stale").Set(stale);
        jobs.WithLabels("fresh").Set(promised - stale);
        jobs.WithLabels("unpromised").Set(all.Count - promised);
        withoutSeries.Set(Math.Max(0, all.Count - MostJobs));
        foreach (var job in all.Take(MostJobs))
        {
            var at = job.Machine;
            if (standings[(job.Name, at)].Newest is { } newest)
                newestCopy.WithLabels(job.Name, at).Set(newest.Taken.ToUnixTimeSeconds());
            if (job.FreshWithin is { } within)
                promise.WithLabels(job.Name, at).Set(within.ToDuration().TotalSeconds);
        }
    }

    /// <summary>What is not there any more has no series any more.</summary>
    private static void Clear(Gauge gauge)
    {
        foreach (var labels in gauge.GetAllLabelValues().ToList())
            gauge.RemoveLabelled(labels);
    }
}
