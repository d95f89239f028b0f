using IronKeep.Catalogue;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Prometheus;

namespace IronKeep.Service.Health;

/// <summary>What is counted for <see cref="KeepMetrics"/> as it happens, from the start of the service on.</summary>
public sealed class MetricCounts : IFollower, IDisposable
{
    /// <summary>The upper bounds, in seconds, of the classes that the lengths of runs are counted in.</summary>
    private static readonly double[] Lengths = [1, 10, 60, 300, 900, 3600, 14_400, 43_200];
    private readonly Counter runs,
        bytes,
        opened;
    private readonly Histogram seconds;
    private readonly System.Diagnostics.Metrics.Histogram<double> sent;

    public MetricCounts()
    {
        var make = Prometheus.Metrics.WithCustomRegistry(Registry);
        runs = make.CreateCounter("ironkeep_runs_total", "Runs that have ended, by kind and outcome.", "kind", "outcome");
        bytes = make.CreateCounter(
            "ironkeep_run_bytes_total",
            "Bytes of backup runs that have ended: read, new to the store, stored compressed.",
            "stage"
        );
        opened = make.CreateCounter("ironkeep_alerts_opened_total", "Alerts that were opened or opened again, by class.", "class");
        seconds = make.CreateHistogram(
            "ironkeep_run_duration_seconds",
            "How long runs worked, by kind.",
            ["kind"],
            new HistogramConfiguration { Buckets = Lengths }
        );
        sent = Meter.CreateHistogram(
            seconds.Name,
            unit: null,
            seconds.Help,
            tags: null,
            new System.Diagnostics.Metrics.InstrumentAdvice<double> { HistogramBucketBoundaries = Lengths }
        );
    }

    /// <summary>Where all figures of the service are kept.</summary>
    public CollectorRegistry Registry { get; } = Prometheus.Metrics.NewCustomRegistry();

    /// <summary>The same figures for a collector that they are sent to.</summary>
    public System.Diagnostics.Metrics.Meter Meter { get; } = new(Traces.Name);
    public IReadOnlyList<Counter> Counters => [runs, bytes, opened];

    public string Name => "metrics";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded, FactKind.AlertChanged];

    public void Dispose() => Meter.Dispose();

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var ended = await Ended.RunsOfAsync(db, facts.Where(f => f.Kind == FactKind.RunEnded), _ => true, cancel);
        var changed = facts.Where(f => f.Kind == FactKind.AlertChanged && f.Word is "opened" or "reopened").Select(f => f.AlertId).ToList();
        var classes = await db.Alerts.AsNoTracking().Where(a => changed.Contains(a.Id)).ToDictionaryAsync(a => a.Id, a => a.Class, cancel);
        foreach (var run in ended.Values)
        {
            runs.WithLabels(run.Kind.Word(), run.Outcome.Word() ?? "none").Inc();
            if (run.TookSeconds is { } took)
            {
                seconds.WithLabels(run.Kind.Word()).Observe(took);
                sent.Record(took, new KeyValuePair<string, object?>(seconds.LabelNames[0], run.Kind.Word()));
            }
            if (run.Kind != RunKind.Backup)
                continue;
            bytes.WithLabels("read").Inc(run.ReadBytes);
            bytes.WithLabels("new").Inc(run.NewBytes);
            bytes.WithLabels("stored").Inc(run.StoredBytes);
        }
        foreach (var id in changed)
            if (classes.TryGetValue(id ?? 0, out var kind))
                opened.WithLabels(kind.Word()).Inc();
    }
}
