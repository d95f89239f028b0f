using CsCheck;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Tests;

public sealed class RetentionTests
{
    private static readonly DateTimeZone Berlin = DateTimeZoneProviders.Tzdb["Europe/Berlin"];

    [Theory]
    [InlineData("newest 2 and 2 daily and 2 weekly and 2 monthly", "07-15 07-14 07-12 06-30")]
    [InlineData("newest 2 then 2 daily then 2 weekly then 2 monthly", "07-15 07-14 07-13 07-12 07-05 06-28")]
    [InlineData("newest 3", "07-15 07-14 07-13")]
    [InlineData("1 yearly, 3 monthly", "07-15 07-14 06-30")]
    [InlineData("all within 3 days", "07-15 07-14 07-13")]
    public void Keeps_as_worked_out_by_hand(string policy, string kept)
    {
        var noons = Enumerable
            .Range(0, 45)
            .Select(i => new CopyFacts($"{i:00}", Instant.FromUtc(2026, 6, 1, 12, 0) + Duration.FromDays(i), CopyState.Unchecked));
        var answer = RetentionRules.Decide(Read(policy), new RetentionGuards(DateTimeZone.Utc), noons, Instant.FromUtc(2026, 7, 15, 18, 0));
        Assert.Equal(
            kept,
            string.Join(' ', answer.Copies.Where(c => c.Verdict == Verdict.Keep).Select(c => c.Copy.Taken.ToString("MM-dd", null)))
        );
        Assert.All(answer.Copies, c => Assert.NotEmpty(c.Reasons));
    }

    [Fact]
    public void A_copy_leaves_at_the_same_wall_clock_time_and_days_have_23_or_25_hours()
    {
        var taken = InstantPattern.General.Parse("2027-03-27T12:00:00Z").Value;
        var copies = new[]
        {
            new CopyFacts("a", taken, CopyState.Sound),
            new CopyFacts("b", taken + Duration.FromDays(1), CopyState.Sound),
        };
        var guards = new RetentionGuards(Berlin, AtLeast: 1);
        RetentionAnswer At(string asOf, string policy) =>
            RetentionRules.Decide(Read(policy), guards, copies, InstantPattern.General.Parse(asOf).Value);

        // 13:00 in winter time; two days later 13:00 is 11:00Z, in summer time. Hours are elapsed time.
        Assert.Equal("2027-03-29T11:00:00Z", At("2027-03-29T10:59:59Z", "all within 2 days").Copies[1].LeavesAt.ToString());
        Assert.Equal(Verdict.Expire, At("2027-04-05T12:00:00Z", "all within 2 days").Copies[1].Verdict);
        Assert.Equal("2027-03-29T12:00:00Z", At("2027-03-29T10:59:59Z", "all within 48 hours").Copies[1].LeavesAt.ToString());
    }

    [Fact]
    public void Hours_are_told_apart_by_their_offset()
    {
        var first = InstantPattern.General.Parse("2027-10-31T00:30:00Z").Value;
        var copies = new[]
        {
            new CopyFacts("a", first, CopyState.Sound),
            new CopyFacts("b", first + Duration.FromHours(1), CopyState.Sound),
        };
        var answer = RetentionRules.Decide(
            Read("5 hourly"),
            new RetentionGuards(Berlin, AtLeast: 1),
            copies,
            first + Duration.FromHours(2)
        );
        Assert.All(answer.Copies, c => Assert.Equal(Verdict.Keep, c.Verdict));
    }

    [Fact]
    public void When_copies_stop_nothing_is_lost_to_age_and_everything_freezes()
    {
        var copies = Enumerable
            .Range(0, 20)
            .Select(i => new CopyFacts($"{i:00}", Instant.FromUtc(2026, 1, 1, 0, 0) + Duration.FromDays(i), CopyState.Sound))
            .ToList();
        var late = Instant.FromUtc(2036, 1, 1, 0, 0);
        var answer = RetentionRules.Decide(Read("7 daily"), new RetentionGuards(DateTimeZone.Utc), copies, late);
        Assert.Equal(7, answer.Copies.Count(c => c.Verdict == Verdict.Keep));
        var byAge = RetentionRules.Decide(
            Read("all within 7 days"),
            new RetentionGuards(DateTimeZone.Utc, 2, new Span(3, SpanUnit.Days)),
            copies,
            late
        );
        Assert.True(byAge.Frozen);
        Assert.DoesNotContain(byAge.Copies, c => c.Verdict == Verdict.Expire);
        Assert.Equal(18, byAge.Copies.Count(c => c.Verdict == Verdict.Frozen));
    }

    [Fact]
    public void Agrees_with_brute_force_and_keeps_its_laws()
    {
        Gen.Select(GenCopies, GenPolicy, Gen.Int[1, 4], Pick.Of("UTC", "Europe/Berlin", "Australia/Lord_Howe"), Gen.Int[0, 90])
            .Sample(
                (copies, policy, atLeast, zone, days) =>
                {
                    var guards = new RetentionGuards(DateTimeZoneProviders.Tzdb[zone], atLeast);
                    var asOf = Start + Duration.FromDays(days);
                    var answer = RetentionRules.Decide(policy, guards, copies, asOf);
                    var verdicts = answer.Copies.ToDictionary(c => c.Copy.Id, c => c.Verdict);
                    var expected = BruteForce.Keeps(policy, guards, copies, asOf);
                    var kept = verdicts.Where(v => v.Value == Verdict.Keep).Select(v => v.Key).ToHashSet();
                    if (!kept.SetEquals(expected))
                        Assert.Fail(
                            $"'{policy}' as of {asOf}: keeps {string.Join(' ', kept.Order())}, brute force "
                                + $"{string.Join(' ', expected.Order())}"
                        );

                    // Evaluating what stays gives the same again; no needed copy goes; the floor holds; a hold changes nobody else's fate.
                    var staying = copies.Where(c => verdicts[c.Id] != Verdict.Expire).ToList();
                    var again = RetentionRules.Decide(policy, guards, staying, asOf).Copies.ToDictionary(c => c.Copy.Id, c => c.Verdict);
                    if (staying.Any(c => again[c.Id] != verdicts[c.Id]))
                        Assert.Fail("a second evaluation of what stays differs");
                    foreach (var copy in staying.Where(c => verdicts[c.Id] is Verdict.Keep or Verdict.Held))
                        if (copy.Base is { } needed && verdicts.TryGetValue(needed, out var below) && below == Verdict.Expire)
                            Assert.Fail($"{copy.Id} stays but its base {needed} goes");
                    var counted = BruteForce.Counted(copies, asOf);
                    if (counted.Take(atLeast).Any(c => verdicts[c.Id] != Verdict.Keep))
                        Assert.Fail("the floor does not hold");
                    if (counted.Count == 0 && verdicts.ContainsValue(Verdict.Expire))
                        Assert.Fail("something expires although nothing counts");
                    if (copies.Count > 0)
                    {
                        var held = copies[days % copies.Count];
                        var withHold = RetentionRules
                            .Decide(policy, guards, copies.Select(c => c == held ? c with { Held = "by mira" } : c), asOf)
                            .Copies.ToDictionary(c => c.Copy.Id, c => c.Verdict);
                        if (withHold[held.Id] == Verdict.Expire)
                            Assert.Fail("a held copy expires");
                        var chain = BruteForce.ChainOf(held, copies);
                        if (copies.Any(c => c != held && !chain.Contains(c.Id) && withHold[c.Id] != verdicts[c.Id]))
                            Assert.Fail("a hold changed the fate of another copy");
                    }
                },
                iter: 4000
            );
    }

    // Not for "all within … then …": a new copy there represents its period, and the next rung looks one period further back.
    [Fact]
    public void A_newer_copy_never_brings_an_expired_one_back()
    {
        var policies = GenPolicy.Where(p => p.Connective == RungConnective.And || !p.Rungs.Any(r => r is WithinRung));
        Gen.Select(GenCopies.Where(c => c.Count > 0), policies, Gen.Int[0, 60])
            .Sample(
                (copies, policy, days) =>
                {
                    var guards = new RetentionGuards(DateTimeZone.Utc);
                    var asOf = Start + Duration.FromDays(days);
                    var before = RetentionRules.Decide(policy, guards, copies, asOf);
                    var newer = new CopyFacts("zz", asOf, CopyState.Unchecked);
                    var after = RetentionRules
                        .Decide(policy, guards, copies.Append(newer), asOf)
                        .Copies.ToDictionary(c => c.Copy.Id, c => c.Verdict);
                    return before.Copies.All(c => c.Verdict != Verdict.Expire || after[c.Copy.Id] == Verdict.Expire);
                }
            );
    }

    /// <summary>
    /// Since when a copy is no longer kept: the referee asks at every moment at which anything changes, one after the other.
    /// </summary>
    [Fact]
    public void Since_when_a_copy_goes_is_the_first_moment_from_which_it_is_not_kept()
    {
        var policies = GenPolicy.Where(p => p.Connective == RungConnective.And || !p.Rungs.Any(r => r is WithinRung));
        Gen.Select(GenCopies.Where(c => c.Count > 0), policies, Gen.Int[0, 60], Gen.Int[0, 59])
            .Sample(
                (copies, policy, days, pick) =>
                {
                    // Chains and states would let a copy come back; here only time and newer copies move.
                    copies = [.. copies.Select(c => c with { State = CopyState.Sound, Base = null })];
                    var guards = new RetentionGuards(Berlin, 1);
                    var asOf = Start + Duration.FromDays(days);
                    copies.RemoveAll(c => c.Taken > asOf);
                    if (copies.Count == 0)
                        return;
                    var id = copies[pick % copies.Count].Id;
                    bool Goes(Instant at) =>
                        RetentionRules
                            .Decide(policy, guards, copies.Where(c => c.Taken <= at), at)
                            .Copies.Single(c => c.Copy.Id == id)
                            .Verdict == Verdict.Expire;
                    var taken = copies.Single(c => c.Id == id).Taken;
                    var moments = copies
                        .Select(c => c.Taken)
                        .Concat(policy.Rungs.OfType<WithinRung>().SelectMany(r => copies.Select(c => r.Span.After(c.Taken, Berlin))))
                        .Append(asOf)
                        .Where(t => t >= taken && t <= asOf)
                        .Distinct()
                        .Order();
                    var expected = Goes(asOf) ? moments.First(Goes) : (Instant?)null;
                    var since = RetentionRules.ExpiresSince(policy, guards, copies, id, asOf);
                    Assert.True(expected == since, $"'{policy}', copy of {taken}: {since}, one by one {expected}");
                    // What the verdict itself says is the same.
                    var said = RetentionRules.Decide(policy, guards, copies, asOf).Copies.Single(c => c.Copy.Id == id).Reasons[^1];
                    if (since is { } at && policy.Connective == RungConnective.And && at < asOf)
                        Assert.EndsWith($"since {at.InZone(Berlin).LocalDateTime:uuuu-MM-dd HH:mm}", said);
                },
                iter: 1000
            );
    }

    [Theory]
    [InlineData("", 0, "a rung is missing")]
    [InlineData("newest 3 and", 0, "is not a rung")]
    [InlineData("newest 0", 0, "keeps nothing")]
    [InlineData("0 daily and 0 weekly", 0, "keeps nothing")]
    [InlineData("newest 3 then 7 daily and 4 weekly", 22, "never both")]
    [InlineData("daily 7", 0, "the count comes first")]
    [InlineData("7 dayly", 0, "did you mean 'daily'")]
    [InlineData("newest three", 0, "not a whole number")]
    [InlineData("newest 3, all within 10", 10, "is not a rung")]
    [InlineData("all within 10 minutes", 0, "use hours, days")]
    [InlineData("newest 9999999", 0, "not a whole number")]
    public void A_bad_policy_is_refused_with_its_place_and_the_way_out(string sentence, int position, string message)
    {
        var (policy, problem) = RetentionSentence.Read(sentence);
        Assert.Null(policy);
        Assert.Equal(position, problem!.Position);
        Assert.Contains(message, problem.Message);
    }

    private static readonly Instant Start = Instant.FromUtc(2026, 2, 10, 9, 0);

    private static readonly Gen<List<CopyFacts>> GenCopies = Gen.Select(
            Gen.Int[0, 80 * 24 * 60],
            Gen.Frequency((8, Gen.Const(CopyState.Unchecked)), (4, Gen.Const(CopyState.Sound)), (1, Gen.Enum<CopyState>())),
            Gen.Int[0, 9]
        )
        .List[0, 60]
        .Select(list =>
            list.Select(
                    (c, i) =>
                        new CopyFacts(
                            $"c{i:00}",
                            Start + Duration.FromMinutes(c.Item1),
                            c.Item2,
                            c.Item3 < 3 && i > 0 ? $"c{i * c.Item3 / 4:00}" : null
                        )
                )
                .ToList()
        );

    private static readonly Gen<Rung> GenRung = Gen.OneOf<Rung>(
        Gen.Int[0, 6].Select(n => (Rung)new NewestRung(n)),
        Gen.Select(Gen.Int[0, 6], Gen.Enum<RungPeriod>()).Select((n, p) => (Rung)new PeriodRung(n, p)),
        Gen.Select(Gen.Int[1, 40], Pick.Of(SpanUnit.Hours, SpanUnit.Days, SpanUnit.Weeks))
            .Select((n, u) => (Rung)new WithinRung(new Span(n, u)))
    );

    private static readonly Gen<RetentionPolicy> GenPolicy = Gen.Select(GenRung.Array[1, 4], Gen.Enum<RungConnective>())
        .Select((rungs, how) => new RetentionPolicy([.. rungs], how));

    internal static RetentionPolicy Read(string sentence) =>
        RetentionSentence.Read(sentence).Policy ?? throw new InvalidOperationException(RetentionSentence.Read(sentence).Problem!.Message);
}

/// <summary>The referee: goes by the words of the rules, copy by copy, with no thought for speed.</summary>
internal static class BruteForce
{
    public static List<CopyFacts> Counted(IReadOnlyList<CopyFacts> copies, Instant asOf) =>
        [
            .. copies
                .Where(c => Sound(c, copies, asOf, 0))
                .OrderByDescending(c => c.Taken)
                .ThenByDescending(c => c.Id, StringComparer.Ordinal),
        ];

    public static HashSet<string> ChainOf(CopyFacts copy, IReadOnlyList<CopyFacts> copies)
    {
        var chain = new HashSet<string>();
        for (var at = copy.Base; at is not null && chain.Add(at); )
            at = copies.FirstOrDefault(c => c.Id == at)?.Base;
        return chain;
    }

    public static HashSet<string> Keeps(RetentionPolicy policy, RetentionGuards guards, IReadOnlyList<CopyFacts> copies, Instant asOf)
    {
        var counted = Counted(copies, asOf);
        var kept = counted.Take(guards.AtLeast).Select(c => c.Id).ToHashSet();
        var represented = new List<CopyFacts>();
        foreach (var rung in policy.Rungs)
        {
            var seen = policy.Connective == RungConnective.Then ? represented.ToList() : [];
            var picks = counted
                .Where(c =>
                    rung switch
                    {
                        NewestRung n => !seen.Contains(c) && counted.Where(o => !seen.Contains(o)).ToList().IndexOf(c) < n.Count,
                        PeriodRung p => PicksOf(p, counted, seen, guards.Zone).Contains(c),
                        WithinRung w => asOf < w.Span.After(c.Taken, guards.Zone),
                        _ => true,
                    }
                )
                .ToList();
            represented.AddRange(picks);
            kept.UnionWith(picks.Select(c => c.Id));
        }
        return kept;
    }

    private static List<CopyFacts> PicksOf(PeriodRung rung, List<CopyFacts> counted, List<CopyFacts> seen, DateTimeZone zone)
    {
        var taken = seen.Select(c => Period(c, rung.Period, zone)).ToHashSet();
        return
        [
            .. counted
                .GroupBy(c => Period(c, rung.Period, zone))
                .Where(g => !taken.Contains(g.Key))
                .OrderByDescending(g => g.Max(c => c.Taken))
                .Take(rung.Count)
                .Select(g => g.OrderByDescending(c => c.Taken).ThenByDescending(c => c.Id, StringComparer.Ordinal).First()),
        ];
    }

    private static (int, int, int) Period(CopyFacts copy, RungPeriod period, DateTimeZone zone)
    {
        var at = copy.Taken.InZone(zone);
        return period switch
        {
            RungPeriod.Hour => ((int)((copy.Taken.ToUnixTimeSeconds() + at.Offset.Seconds) / 3600), at.Offset.Seconds, 0),
            RungPeriod.Day => (at.Year, at.Month, at.Day),
            // ISO weeks, counted from a Monday long ago.
            RungPeriod.Week => (NodaTime.Period.DaysBetween(new LocalDate(1990, 1, 1), at.Date) / 7, 0, 0),
            RungPeriod.Month => (at.Year, at.Month, 0),
            _ => (at.Year, 0, 0),
        };
    }

    private static bool Sound(CopyFacts copy, IReadOnlyList<CopyFacts> copies, Instant asOf, int depth) =>
        depth <= copies.Count
        && copy.State is CopyState.Unchecked or CopyState.Sound
        && copy.Taken <= asOf + Duration.FromMinutes(10)
        && (copy.Base is null || (copies.FirstOrDefault(c => c.Id == copy.Base) is { } below && Sound(below, copies, asOf, depth + 1)));
}
