using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Watching;

/// <summary>
/// How far a run may be off what its job usually takes: by more than <paramref name="Percent"/> of the median and by at least
/// <paramref name="Least"/> it is suspect. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed partial record Band(int Percent, ByteSize Least)
{
    public static Band Usual { get; } = new(50, new ByteSize(100_000_000));

    /// <summary>Reads "50 % and 100 MB".</summary>
    public static bool TryParse(string text, out Band band, out string problem)
    {
        band = Usual;
        problem = "";
        var match = Form().Match(text.Trim());
        if (
            !match.Success
            || !int.TryParse(match.Groups[1].Value, NumberStyles.None, CultureInfo.InvariantCulture, out var percent)
            || percent is < 1 or > 1000
        )
        {
            problem = $"'{text}' is not a band; write how far off a run may be, such as '50 % and 100 MB'";
            return false;
        }
        if (!ByteSize.TryParse(match.Groups[2].Value, out var least, out problem))
            return false;
        band = new Band(percent, least);
        return true;
    }

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Percent} % and {Least.ToExactText()}");

    [GeneratedRegex(@"^(\d+)\s*%\s+and\s+(.+)$")]
    private static partial Regex Form();
}

/// <summary>What a run took: items, bytes of all files, and how long it worked.</summary>
public sealed record RunMeasure(long Items, long Bytes, Duration Took);

/// <summary>Judges runs against the last good ones of their kind. Source: docs/semantics.md, section 6 (Watching).</summary>
public static class Bands
{
    /// <summary>How many good runs the median looks at.</summary>
    public const int Looks = 7;

    /// <summary>The first runs only learn.</summary>
    public const int Learns = 3;

    /// <summary>Fewer items off than this are no sign of anything.</summary>
    public const int LeastItems = 100;

    /// <summary>A run is judged slow only when it took at least this much longer.</summary>
    public static readonly Duration LeastSlower = Duration.FromMinutes(10);

    /// <summary>Why the run is suspect, one sentence a reason; empty when it is not. <paramref name="lastGood"/>: newest first.</summary>
    public static ImmutableArray<string> Judge(Band band, IReadOnlyList<RunMeasure> lastGood, RunMeasure run)
    {
        if (run.Bytes == 0)
            return ["it took no bytes at all"];
        var known = lastGood.Take(Looks).ToList();
        if (known.Count < Learns)
            return [];
        var reasons = ImmutableArray.CreateBuilder<string>();
        var bytes = Median(known.Select(k => k.Bytes));
        if (IsOff(run.Bytes, bytes, band.Least.Bytes))
            reasons.Add($"it took {new ByteSize(run.Bytes)}, where {new ByteSize(bytes)} are usual");
        var items = Median(known.Select(k => k.Items));
        if (IsOff(run.Items, items, LeastItems))
            reasons.Add($"it took {run.Items} items, where {items} are usual");
        var took = Median(known.Select(k => (long)k.Took.TotalSeconds));
        var seconds = (long)run.Took.TotalSeconds;
        if (seconds > took && IsOff(seconds, took, (long)LeastSlower.TotalSeconds))
            reasons.Add($"it worked for {seconds / 60} min, where {(took < 60 ? "less than one" : $"{took / 60}")} is usual");
        return reasons.ToImmutable();

        bool IsOff(long value, long median, long least) =>
            Math.Abs(value - median) > median * (band.Percent / 100.0) && Math.Abs(value - median) >= least;
    }

    /// <summary>The middle value; of an even number the larger of the two in the middle. At least one value is needed.</summary>
    public static long Median(IEnumerable<long> values)
    {
        var sorted = values.Order().ToList();
        return sorted[sorted.Count / 2];
    }
}

/// <summary>
/// How long a run may work when its job states no limit. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public static class RunLimits
{
    public static readonly Duration Least = Duration.FromHours(1);

    /// <summary>The larger of an hour and three times the median of the last good runs.</summary>
    public static Duration Usual(IReadOnlyCollection<Duration> lastGood) =>
        lastGood.Count == 0
            ? Least
            : Duration.Max(Least, Duration.FromSeconds(3 * Bands.Median(lastGood.Select(d => (long)d.TotalSeconds))));
}
