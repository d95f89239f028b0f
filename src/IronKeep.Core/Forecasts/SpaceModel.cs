using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// The bytes that a chain of copies of one job comes to in a store that keeps equal chunks once. Data is taken to be replaced evenly
/// and never to come back: of the bytes of one copy, exp(-rate × days) are still there in a later one, which so adds its size less
/// that. What a set of copies occupies is then the oldest one's size plus what each adds to the one before it; taking a copy out of
/// the middle frees what neither neighbour shares. Exact under that assumption; docs/semantics.md, section 7 (Figures) has the derivation.
/// </summary>
internal sealed class SpaceModel
{
    private readonly Instant asOf;
    private readonly double whole,
        growth,
        rate;

    /// <param name="assumed">The job's assumptions.</param>
    /// <param name="period">The usual time between two runs.</param>
    /// <param name="asOf">When the assumptions hold.</param>
    public SpaceModel(JobAssumptions assumed, Duration period, Instant asOf)
    {
        this.asOf = asOf;
        whole = assumed.WholeBytes;
        growth = assumed.GrowthPerDay;
        // Of a run's new bytes, growth is not replacement.
        var days = Math.Max(period.TotalDays, 1.0 / 1440);
        var replaced = Math.Max(0, assumed.ChangeBytes - Math.Max(0, growth) * days);
        var share = whole <= 0 ? 0 : Math.Min(0.999, replaced / whole);
        rate = -Math.Log(1 - share) / days;
    }

    /// <summary>What a copy taken at an instant would occupy alone.</summary>
    public double Alone(Instant taken) => Math.Max(0, whole + growth * (taken - asOf).TotalDays);

    /// <summary>What a copy adds to the one before it.</summary>
    public double Adds(Instant before, Instant taken) =>
        Math.Max(0, Alone(taken) - Alone(before) * Math.Exp(-rate * (taken - before).TotalDays));
}

/// <summary>
/// A row of copies in order of time whose bytes are known at every moment; adding at the end and taking out anywhere cost the same.
/// </summary>
internal sealed class ByteChain(SpaceModel model)
{
    private readonly Dictionary<int, (Instant Taken, int Before, int After)> links = [];
    private int last = -1;

    /// <summary>Bytes that all copies of the row come to.</summary>
    public double Bytes { get; private set; }

    public void Add(int copy, Instant taken)
    {
        Bytes += last < 0 ? model.Alone(taken) : model.Adds(links[last].Taken, taken);
        if (last >= 0)
            links[last] = links[last] with { After = copy };
        links[copy] = (taken, last, -1);
        last = copy;
    }

    public void Remove(int copy)
    {
        if (!links.Remove(copy, out var link))
            return;
        Bytes -= link.Before < 0 ? model.Alone(link.Taken) : model.Adds(links[link.Before].Taken, link.Taken);
        if (link.After >= 0)
        {
            var after = links[link.After];
            Bytes -= model.Adds(link.Taken, after.Taken);
            Bytes += link.Before < 0 ? model.Alone(after.Taken) : model.Adds(links[link.Before].Taken, after.Taken);
            links[link.After] = after with { Before = link.Before };
        }
        else
            last = link.Before;
        if (link.Before >= 0)
            links[link.Before] = links[link.Before] with { After = link.After };
        if (links.Count == 0)
            Bytes = 0;
    }
}
