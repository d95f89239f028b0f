using System.Diagnostics.Metrics;
using IronKeep.Catalogue;
using Prometheus;

namespace IronKeep.Service.Health;

/// <summary>
/// The figures of <see cref="KeepMetrics"/> for a collector that they are sent to, under the names that they have at <c>/metrics</c>. What
/// stands is looked up once for each sending; while the catalogue does not answer, nothing is said of it.
/// </summary>
public sealed class SentFigures
{
    private static readonly TimeSpan Keeps = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private readonly Lock gate = new();
    private readonly KeepMetrics metrics;
    private readonly TimeProvider clock;
    private long readAt;
    private IReadOnlyDictionary<string, IReadOnlyList<(string[] Labels, double Value)>>? read;

    public SentFigures(MetricCounts counts, KeepMetrics metrics, TimeProvider clock)
    {
        (this.metrics, this.clock) = (metrics, clock);
        foreach (var gauge in metrics.Gauges)
            counts.Meter.CreateObservableGauge(gauge.Name, () => Standing(gauge), unit: null, gauge.Help);
        foreach (var counter in counts.Counters)
            counts.Meter.CreateObservableCounter(
                counter.Name,
                () => counter.GetAllLabelValues().Select(l => Of(counter.LabelNames, l, counter.WithLabels(l).Value)),
                unit: null,
                counter.Help
            );
    }

    private IEnumerable<Measurement<double>> Standing(Gauge gauge)
    {
        lock (gate)
        {
            if (readAt == 0 || clock.GetElapsedTime(readAt) >= Keeps)
                (read, readAt) = (Read(), clock.GetTimestamp());
            return read is null ? [] : read[gauge.Name].Select(v => Of(gauge.LabelNames, v.Labels, v.Value));
        }
    }

    // On the collector's own thread, where nothing else waits.
    private IReadOnlyDictionary<string, IReadOnlyList<(string[] Labels, double Value)>>? Read()
    {
        using var patience = new CancellationTokenSource(Patience);
        try
        {
            return metrics.ReadAsync(patience.Token).WaitAsync(Patience).GetAwaiter().GetResult();
        }
        catch (Exception e) when (e is TimeoutException or OperationCanceledException || CatalogueKinds.IsRefusal(e))
        {
            return null;
        }
    }

    private static Measurement<double> Of(string[] names, string[] values, double value) =>
        new(value, names.Zip(values, (n, v) => new KeyValuePair<string, object?>(n, v)));
}
