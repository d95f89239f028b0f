using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// What is noticed while a forecast is played, gathered by job and cause, so that a thing that comes every night is told once.
/// </summary>
internal sealed class Notes
{
    public sealed class Tally(Instant first)
    {
        public Instant First => first;
        public int Times { get; set; }
        public Duration Worst { get; set; }
    }

    public Dictionary<(string Job, string? For), Tally> Waits { get; } = [];
    public Dictionary<string, Tally> Late { get; } = [];
    public Dictionary<string, Tally> Overlaps { get; } = [];
    public Dictionary<string, Tally> Limits { get; } = [];
    public Dictionary<(string Job, string Window), Tally> Windows { get; } = [];
    public Dictionary<string, Tally> Stales { get; } = [];
    public Dictionary<(string Job, string Store, Span Promise), Tally> Promises { get; } = [];

    public void Waited(JobDefinition job, Instant since, Instant until, string? blocked, bool stillWaits = false)
    {
        var waited = until - since;
        Count(Waits, (job.Name, blocked), since, waited);
        if (waited > job.StartLimit.ToDuration() || stillWaits)
            Count(Late, job.Name, since, waited);
    }

    public void Overlapped(JobDefinition job, Instant due) => Count(Overlaps, job.Name, due, Duration.Zero);

    public void OutlastsLimit(JobDefinition job, Instant at, Duration takes) => Count(Limits, job.Name, at, takes);

    public void RunsInto(JobDefinition job, Instant at, Duration takes, string window) => Count(Windows, (job.Name, window), at, takes);

    public void Stale(JobDefinition job, Instant from, Duration age) => Count(Stales, job.Name, from, age);

    public void Broken(JobDefinition job, string store, Span promise, Instant at) =>
        Count(Promises, (job.Name, store, promise), at, Duration.Zero);

    private static void Count<T>(Dictionary<T, Tally> tallies, T key, Instant at, Duration measure)
        where T : notnull
    {
        if (!tallies.TryGetValue(key, out var tally))
            tallies[key] = tally = new Tally(at);
        tally.Times++;
        if (measure > tally.Worst)
            tally.Worst = measure;
    }
}
