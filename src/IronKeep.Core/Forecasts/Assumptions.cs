using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Retention;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>Where an assumption about a job comes from: its own history, the charter's words, or nowhere.</summary>
public enum AssumedFrom
{
    History,
    Charter,
    Unknown,
}

/// <summary>
/// What a job's runs are taken to be like. <paramref name="WholeBytes"/> is what one copy alone would occupy in a store,
/// <paramref name="ChangeBytes"/> what a further run adds, <paramref name="GrowthPerDay"/> by how much the whole grows a day (may be
/// negative); all as stored. <paramref name="Takes"/> is how long a run lasts.
/// </summary>
public sealed record JobAssumptions(long WholeBytes, long ChangeBytes, long GrowthPerDay, Duration Takes, AssumedFrom From)
{
    /// <summary>How long a run is taken to last when nobody knows.</summary>
    public static readonly Duration UnknownTakes = Duration.FromMinutes(10);

    public static JobAssumptions Unknown { get; } = new(0, 0, 0, UnknownTakes, AssumedFrom.Unknown);
}

/// <summary>
/// A good run of a job as its history has it: when it began, how long it took, and its bytes as selected, new and stored.
/// </summary>
public readonly record struct PastRun(Instant Began, Duration Took, long SelectedBytes, long NewBytes, long StoredBytes);

/// <summary>A copy that exists now; <paramref name="BinnedAt"/> when it is in the bin.</summary>
public sealed record KnownCopy(string Job, string Store, CopyFacts Facts, Instant? BinnedAt = null);

/// <summary>What a store holds now and how much it can: bytes used, and free bytes of its file system (null: unknown).</summary>
public sealed record KnownStore(long UsedBytes, long? FreeBytes);

/// <summary>A stretch of time in which nothing runs.</summary>
public sealed record Outage(Instant From, Instant To);

/// <summary>
/// What a forecast starts from: the charter, the service's own machine and ceiling, what exists, and what is assumed. Nothing else
/// enters, so the same input always gives the same answer.
/// </summary>
public sealed record ForecastInput(Charter Charter, string OwnMachine, int RunsAtOnce, Instant AsOf, int Days)
{
    public IReadOnlyDictionary<string, JobAssumptions> Jobs { get; init; } = new Dictionary<string, JobAssumptions>();
    public IReadOnlyList<KnownCopy> Copies { get; init; } = [];
    public IReadOnlyDictionary<string, KnownStore> Stores { get; init; } = new Dictionary<string, KnownStore>();

    /// <summary>Plays jobs that are pruned by hand only as if each was pruned after every success.</summary>
    public bool PrunesByHandToo { get; init; }
    public Outage? Outage { get; init; }

    /// <summary>The longest span that is played.</summary>
    public const int MostDays = 3660;

    /// <summary>The most runs that are played; a charter that is due more often is refused with its count.</summary>
    public const int MostRuns = 4_000_000;
}

/// <summary>Works assumptions out. Source: docs/semantics.md, section 7 (Figures).</summary>
public static class Assume
{
    private const int Recent = 7;
    private const int RecentForChange = 28;

    /// <summary>
    /// What a job's past says: medians of its last seven good runs; what a run adds is the mean of the last 28; growth comes from the
    /// middle of pairwise slopes of its size. What the
    /// charter states counts where there is no past. <paramref name="past"/> is oldest first.
    /// </summary>
    public static JobAssumptions From(JobDefinition job, IReadOnlyList<PastRun> past)
    {
        if (past.Count == 0)
            return Stated(job);
        var recent = past.Skip(Math.Max(0, past.Count - Recent)).ToList();
        // How much of what is new a store has to keep after compression: over all runs, since single ones may have nothing new.
        var (stored, fresh) = (past.Sum(r => (double)r.StoredBytes), past.Sum(r => (double)r.NewBytes));
        var shrink = fresh > 0 ? stored / fresh : 1;
        var whole = (long)(Median(recent.Select(r => (double)r.SelectedBytes)) * shrink);
        // The first run stores everything; what a run adds shows from the second on.
        // Its mean, for a job that finds nothing changed three times of four still adds what it adds the fourth time.
        var later = past.Skip(1).Skip(Math.Max(0, past.Count - 1 - RecentForChange)).ToList();
        var change = later.Count == 0 ? job.ExpectChange?.Bytes ?? whole / 50 : (long)later.Average(r => (double)r.StoredBytes);
        return new JobAssumptions(
            whole,
            change,
            (long)(Slope(past) * shrink),
            Duration.FromSeconds(Math.Ceiling(Median(recent.Select(r => r.Took.TotalSeconds)))),
            AssumedFrom.History
        );
    }

    private static JobAssumptions Stated(JobDefinition job) =>
        job.ExpectSize is null && job.ExpectTime is null
            ? JobAssumptions.Unknown
            : new JobAssumptions(
                job.ExpectSize?.Bytes ?? 0,
                job.ExpectChange?.Bytes ?? (job.ExpectSize?.Bytes ?? 0) / 50,
                job.ExpectGrowth?.Bytes ?? 0,
                job.ExpectTime?.ToDuration() ?? JobAssumptions.UnknownTakes,
                AssumedFrom.Charter
            );

    /// <summary>Selected bytes a day: the median of the slopes between runs, which a few odd runs do not move (Theil and Sen).</summary>
    private static double Slope(IReadOnlyList<PastRun> past)
    {
        const int most = 60;
        var used = past.Skip(Math.Max(0, past.Count - most)).ToList();
        var slopes = new List<double>();
        for (var i = 0; i < used.Count; i++)
        {
            for (var j = i + 1; j < used.Count; j++)
            {
                var days = (used[j].Began - used[i].Began).TotalDays;
                if (days > 0.5)
                    slopes.Add((used[j].SelectedBytes - used[i].SelectedBytes) / days);
            }
        }
        return slopes.Count < 3 ? 0 : Median(slopes);
    }

    private static double Median(IEnumerable<double> values)
    {
        var sorted = values.Order().ToArray();
        return sorted.Length % 2 == 1 ? sorted[sorted.Length / 2] : (sorted[sorted.Length / 2 - 1] + sorted[sorted.Length / 2]) / 2;
    }
}
