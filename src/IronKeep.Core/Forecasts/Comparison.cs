using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// The copies of one job in one store on one date: how many under the one charter and the other, and which only under one, by the start of
/// capture.
/// </summary>
public sealed record PlaceOn(
    string Job,
    string Store,
    int Before,
    int After,
    ImmutableArray<Instant> OnlyBefore,
    ImmutableArray<Instant> OnlyAfter
);

/// <summary>A store on one date: bytes used under the one charter and the other; null where the charter has no such store.</summary>
public sealed record StoreOn(string Store, long? Before, long? After);

/// <summary>One date of a comparison. Places where nothing differs are left out.</summary>
public sealed record ComparedDate(Instant At, ImmutableArray<PlaceOn> Places, ImmutableArray<StoreOn> Stores);

/// <summary>A copy that exists now and would expire at the first prune under the other charter, but not under this one.</summary>
public sealed record ExpiresAtOnce(string Job, string Store, string CopyId, Instant Taken, ImmutableArray<string> Reasons);

/// <summary>
/// The media of a rotation set: how many are written over the span and how many nights are short, under the one and the other.
/// </summary>
public sealed record MediaUse(string Set, int Before, int After, int ShortBefore, int ShortAfter);

/// <summary>What differs between two charters played over the same facts.</summary>
public sealed record Comparison(
    ImmutableArray<ComparedDate> Dates,
    ImmutableArray<ExpiresAtOnce> AtOnce,
    ImmutableArray<MediaUse> Media,
    ImmutableArray<Finding> OnlyBefore,
    ImmutableArray<Finding> OnlyAfter
)
{
    /// <summary>The spans ahead that are looked at when nobody says which.</summary>
    public static ImmutableArray<Span> UsualDates { get; } =
    [new(1, SpanUnit.Weeks), new(1, SpanUnit.Months), new(3, SpanUnit.Months), new(1, SpanUnit.Years)];

    /// <summary>
    /// Compares two forecasts of one as-of instant and span at the instants <paramref name="at"/>. Both are best played with prunes
    /// by hand too, so that the policies show and not who carries them out.
    /// </summary>
    public static Comparison Of(Forecast before, Forecast after, IEnumerable<Instant> at) =>
        new(
            [.. at.Where(t => t <= before.End && t <= after.End).Distinct().Order().Select(t => On(before, after, t))],
            AtOnceOf(before.Input, after.Input),
            MediaOf(before, after),
            Only(before.Findings, after.Findings),
            Only(after.Findings, before.Findings)
        );

    private static ComparedDate On(Forecast before, Forecast after, Instant at)
    {
        var (was, becomes) = (ByPlace(before, after.Input, at), ByPlace(after, before.Input, at));
        var places = was
            .Keys.Union(becomes.Keys)
            .OrderBy(k => k.Job, StringComparer.Ordinal)
            .ThenBy(k => k.Store, StringComparer.Ordinal)
            .Select(key =>
            {
                var (a, b) = (was.GetValueOrDefault(key) ?? [], becomes.GetValueOrDefault(key) ?? []);
                return new PlaceOn(key.Job, key.Store, a.Count, b.Count, [.. a.Except(b).Order()], [.. b.Except(a).Order()]);
            });
        var day = Math.Clamp(Period.DaysBetween(before.Dates[0], at.InZone(before.Input.Charter.Zone).Date), 0, before.Dates.Length - 1);
        var stores = before
            .Stores.Select(s => s.Store)
            .Union(after.Stores.Select(s => s.Store))
            .Order(StringComparer.Ordinal)
            .Select(s => new StoreOn(s, UsedOn(before, s, day), UsedOn(after, s, day)));
        return new ComparedDate(at, [.. places.Where(p => p.OnlyBefore.Length + p.OnlyAfter.Length > 0)], [.. stores]);
    }

    private static Dictionary<LedgerKey, List<Instant>> ByPlace(Forecast forecast, ForecastInput other, Instant at) =>
        forecast
            .AliveAt(at)
            .GroupBy(c => forecast.Ledgers[c.Ledger])
            .ToDictionary(g => g.Key with { Job = Spelled(forecast.Input, other, g.Key.Job) }, g => g.Select(c => c.Taken).ToList());

    /// <summary>
    /// A job under the name by which both know it: one that has its only machine on the one side, and several on the other, is called by
    /// its machine on both.
    /// </summary>
    private static string Spelled(ForecastInput input, ForecastInput other, string job)
    {
        if (!input.Charter.Jobs.TryGetValue(job, out var known))
            return job;
        var full = PlacedJob.WordsOn(job, known.Selection.One ?? input.OwnMachine);
        return other.Charter.Jobs.ContainsKey(full) ? full : job;
    }

    private static long? UsedOn(Forecast forecast, string store, int day) =>
        forecast.Stores.FirstOrDefault(s => s.Store == store) is { } space ? space.Used[Math.Min(day, space.Used.Length - 1)] : null;

    private static ImmutableArray<ExpiresAtOnce> AtOnceOf(ForecastInput before, ForecastInput after)
    {
        var found = ImmutableArray.CreateBuilder<ExpiresAtOnce>();
        var calledBefore = before.Charter.Jobs.Keys.ToDictionary(j => Spelled(before, after, j));
        foreach (var place in after.Copies.Where(c => c.BinnedAt is null).GroupBy(c => (c.Job, c.Store)).OrderBy(g => g.Key))
        {
            var becomes = Decide(after, place.Key.Job, place);
            var name = Spelled(after, before, place.Key.Job);
            var was = Decide(before, calledBefore.GetValueOrDefault(name, name), place)
                .Where(v => v.Verdict == Verdict.Expire)
                .Select(v => v.Copy.Id)
                .ToHashSet();
            found.AddRange(
                becomes
                    .Where(v => v.Verdict == Verdict.Expire && !was.Contains(v.Copy.Id))
                    .Select(v => new ExpiresAtOnce(name, place.Key.Store, v.Copy.Id, v.Copy.Taken, v.Reasons))
            );
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<CopyVerdict> Decide(ForecastInput input, string jobName, IEnumerable<KnownCopy> copies)
    {
        // A job that a charter does not have any more keeps its copies: nobody prunes them.
        if (!input.Charter.Jobs.TryGetValue(jobName, out var job) || job.Into.Length == 0)
            return [];
        var policy = input.Charter.Policies[job.Policy];
        return RetentionRules
            .Decide(
                policy.Keep,
                new RetentionGuards(policy.Zone ?? input.Charter.Zone, policy.AtLeast, job.FreshWithin),
                copies.Select(c => c.Facts),
                input.AsOf
            )
            .Copies;
    }

    private static ImmutableArray<MediaUse> MediaOf(Forecast before, Forecast after)
    {
        var names = before.Rotations.Select(r => r.Set).Union(after.Rotations.Select(r => r.Set)).Order(StringComparer.Ordinal);
        return [.. names.Select(n => new MediaUse(n, Media(before, n), Media(after, n), Short(before, n), Short(after, n)))];

        static int Media(Forecast f, string set) =>
            f.Rotations.FirstOrDefault(r => r.Set == set)?.Nights.Select(n => n.Medium).OfType<string>().Distinct().Count() ?? 0;
        static int Short(Forecast f, string set) =>
            f.Rotations.FirstOrDefault(r => r.Set == set)?.Nights.Count(n => n.Shortage is not null) ?? 0;
    }

    private static ImmutableArray<Finding> Only(ImmutableArray<Finding> these, ImmutableArray<Finding> others)
    {
        var known = others.Select(f => (f.Kind, f.Subject)).ToHashSet();
        return [.. these.Where(f => !known.Contains((f.Kind, f.Subject)))];
    }
}
