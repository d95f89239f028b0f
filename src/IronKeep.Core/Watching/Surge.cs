using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Watching;

/// <summary>
/// What a run found of the files of the copy before: how many are here still, how many of those have another content, how many are gone,
/// and how many files are here that it did not have.
/// </summary>
public readonly record struct Churn(long Known, long Altered, long Gone, long Added)
{
    /// <summary>How many files the copy before had.</summary>
    public long Before => Known + Gone;
}

/// <summary>What a run changed, and what its new bytes came to when compressed.</summary>
public sealed record ChurnMeasure(Churn Churn, long NewBytes, long StoredBytes);

/// <summary>
/// Whether a run changed so much at once that somebody should look before anything expires: most files have another content, most names are
/// others, or what is new does not shrink any more where it used to. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public static class Surges
{
    /// <summary>How many good runs are looked at, and how many there must be.</summary>
    public const int Looks = 7;
    public const int Learns = 3;

    /// <summary>Fewer files than this are no sign of anything.</summary>
    public const long LeastFiles = 50;

    /// <summary>The share of files from which on most have changed, and how many times the usual share it must be.</summary>
    public const double Most = 0.5;
    public const double TimesUsual = 3;

    /// <summary>
    /// New bytes say something of how they shrink from this many on; what usually saved this share and now saves a quarter of that has
    /// collapsed.
    /// </summary>
    public const long LeastBytes = 5_000_000;
    public const double LeastSaving = 0.15;
    public const double Collapsed = 0.25;

    /// <summary>
    /// Why somebody should look, a sentence a reason with its numbers; empty when nobody need. <paramref name="lastGood"/>: newest first.
    /// </summary>
    public static ImmutableArray<string> Judge(IReadOnlyList<ChurnMeasure> lastGood, ChurnMeasure run)
    {
        var known = lastGood.Take(Looks).ToList();
        if (known.Count < Learns)
            return [];
        var reasons = ImmutableArray.CreateBuilder<string>();
        var usual = known.Where(k => k.Churn.Before > 0).Select(k => k.Churn).ToList();
        var now = run.Churn;
        if (usual.Count >= Learns && IsMost(now.Altered, now.Before, usual.Select(u => Share(u.Altered, u.Before))))
            reasons.Add(
                $"{now.Altered} of {now.Before} files have another content ({Percent(Share(now.Altered, now.Before))}), where "
                    + $"{Percent(Median(usual.Select(u => Share(u.Altered, u.Before))))} are usual"
            );
        if (usual.Count >= Learns && IsMost(Renamed(now), now.Before, usual.Select(u => Share(Renamed(u), u.Before))))
            reasons.Add(
                $"{now.Gone} of {now.Before} names are gone and {now.Added} others are there, where "
                    + $"{Percent(Median(usual.Select(u => Share(Renamed(u), u.Before))))} are usual"
            );
        var (bytes, stored) = (known.Sum(k => k.NewBytes), known.Sum(k => k.StoredBytes));
        if (run.NewBytes >= LeastBytes && bytes >= LeastBytes)
        {
            var (saves, saved) = (1 - (double)run.StoredBytes / run.NewBytes, 1 - (double)stored / bytes);
            if (saved >= LeastSaving && saves < saved * Collapsed)
                reasons.Add(
                    $"{new ByteSize(run.NewBytes)} of new content shrank by {Percent(Math.Max(0, saves))}, where {Percent(saved)} are usual"
                );
        }
        return reasons.ToImmutable();
    }

    /// <summary>Names that went and came: the lesser of the two, so that neither clearing up nor a harvest counts.</summary>
    private static long Renamed(Churn churn) => Math.Min(churn.Gone, churn.Added);

    private static bool IsMost(long count, long before, IEnumerable<double> usual) =>
        count >= LeastFiles && Share(count, before) > Most && Share(count, before) > TimesUsual * Median(usual);

    private static double Share(long count, long of) => of == 0 ? 0 : Math.Min(1, (double)count / of);

    private static double Median(IEnumerable<double> values)
    {
        var sorted = values.Order().ToList();
        return sorted.Count == 0 ? 0 : sorted[sorted.Count / 2];
    }

    private static string Percent(double share) => string.Create(CultureInfo.InvariantCulture, $"{share * 100:0} %");
}
