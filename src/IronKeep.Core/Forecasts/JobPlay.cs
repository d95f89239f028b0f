using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>One job while a forecast is played.</summary>
internal sealed class JobPlay
{
    private readonly IEnumerator<Instant>? dues;
    private readonly JobAssumptions assumed;
    private readonly Instant asOf;
    private readonly RunClaim claim;

    public JobPlay(int index, PlacedJob job, Charter charter, ForecastInput input)
    {
        (Index, Definition, asOf) = (index, job, input.AsOf);
        assumed = input.Jobs.GetValueOrDefault(job.Name) ?? Assume.From(job, []);
        Times = charter.DueTimesOf(job);
        if (job.After is null)
            dues = Times?.Between(asOf, asOf + Duration.FromDays(input.Days)).GetEnumerator();
        claim = new RunClaim(job.Name, job.Machine, job.Into, job.Locks, charter.ImportanceOf(job), default);
    }

    public int Index { get; }
    public PlacedJob Definition { get; }
    public DueTimes? Times { get; }
    public JobAssumptions Assumed => assumed;
    public List<int> Followers { get; } = [];

    /// <summary>At work, or waiting for its turn.</summary>
    public bool IsBusy { get; set; }

    /// <summary>The due instant of the one run that waits for an earlier one of the job.</summary>
    public Instant? Pending { get; set; }
    public Instant? MissedSince { get; set; }

    /// <summary>The run at work, with what it holds.</summary>
    public (RunClaim Claim, PlayedRun Run) AtWork { get; set; }
    public int Dues { get; set; }

    public Instant? NextDue(Instant end) => dues is not null && dues.MoveNext() && dues.Current <= end ? dues.Current : null;

    public RunClaim ClaimFor(Instant due) => claim with { Due = due };

    /// <summary>How long a run that begins at an instant lasts: it grows with the data.</summary>
    public Duration Takes(Instant at)
    {
        if (assumed.WholeBytes <= 0 || assumed.GrowthPerDay == 0)
            return assumed.Takes;
        var factor = Math.Clamp(1 + assumed.GrowthPerDay * (at - asOf).TotalDays / assumed.WholeBytes, 0.1, 100);
        return Duration.FromSeconds(Math.Ceiling(assumed.Takes.TotalSeconds * factor));
    }

    /// <summary>The usual time between two runs: the middle one of the coming ones, a day when there are none.</summary>
    public Duration Period()
    {
        if (Times is null)
            return Duration.FromDays(1);
        var coming = Times.Between(asOf, asOf + Duration.FromDays(366)).Take(31).ToList();
        if (coming.Count < 2)
            return Duration.FromDays(365);
        return (coming[^1] - coming[0]) / (coming.Count - 1);
    }
}

/// <summary>One store while a forecast is played: its bytes, and when they are reclaimed.</summary>
internal sealed class StorePlay
{
    private readonly IEnumerator<Instant>? reclaims;
    private readonly List<long> used = [],
        inBin = [];
    private readonly long usedNow;

    public StorePlay(StoreDefinition store, Charter charter, ForecastInput input)
    {
        Definition = store;
        reclaims = store.ReclaimWhen is { } when
            ? DueInstants.Between(when, charter.Zone, input.AsOf, input.AsOf + Duration.FromDays(input.Days)).GetEnumerator()
            : null;
        var known = input.Stores.GetValueOrDefault(store.Name);
        usedNow = known?.UsedBytes ?? 0;
        Room = store.Capacity?.Bytes ?? (known?.FreeBytes is { } free ? usedNow + free : null);
        // The file system may hold less than the charter allows.
        if (known?.FreeBytes is { } left && Room > usedNow + left)
            Room = usedNow + left;
    }

    public StoreDefinition Definition { get; }

    /// <summary>What it can hold; null: unknown.</summary>
    public long? Room { get; }
    public long Reserve => Definition.ReserveOf(Room);

    /// <summary>Bytes more (or less) than at the as-of instant.</summary>
    public double Change { get; set; }

    /// <summary>Bytes that only copies in the bin need.</summary>
    public double BinBytes { get; set; }

    public Instant? FullAt { get; private set; }
    public Instant? NearlyFullAt { get; private set; }

    /// <summary>Bytes used at this moment of the play.</summary>
    public long Used => Math.Max(0, (long)(usedNow + Change));

    /// <summary>Copies in the bin, with the instant at which each may be reclaimed, in that order.</summary>
    public Queue<(Instant LeavesAt, int Copy)> Bin { get; } = new();

    public Instant? NextReclaim(Instant end) =>
        reclaims is not null && reclaims.MoveNext() && reclaims.Current <= end ? reclaims.Current : null;

    /// <summary>Looks whether what it holds still fits.</summary>
    public void Judge(Instant at)
    {
        if (Room is not { } room)
            return;
        var free = room - Reserve - Used;
        if (free < 0)
            FullAt ??= at;
        if (free < Definition.NearlyFullBelow(Used, Math.Max(0, free)))
            NearlyFullAt ??= at;
    }

    public void Sample()
    {
        used.Add(Used);
        inBin.Add(Math.Max(0, (long)BinBytes));
    }

    public StoreSpace ToAnswer() => new(Definition.Name, [.. used], [.. inBin], Room, Reserve) { UsedNow = usedNow };
}
