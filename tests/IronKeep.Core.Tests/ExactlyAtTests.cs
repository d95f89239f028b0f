using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>
/// What holds exactly at a limit, and what one tick beyond it. Source: docs/semantics.md, sections 3 (Retention) and 6 (Watching).
/// </summary>
public sealed class ExactlyAtTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 9, 0);
    private static readonly Duration Tick = Duration.Epsilon;

    private static CopyFacts Copy(string id, Duration age, CopyState state = CopyState.Sound) => new(id, Now - age, state);

    private static Verdict VerdictOf(string id, string policy, RetentionGuards guards, params CopyFacts[] copies) =>
        RetentionRules.Decide(RetentionTests.Read(policy), guards, copies, Now).Copies.Single(c => c.Copy.Id == id).Verdict;

    [Fact]
    public void An_uncounted_copy_stays_until_it_is_older_than_seven_days_and_a_newer_one_is_good()
    {
        var guards = new RetentionGuards(DateTimeZone.Utc, 0);
        var good = Copy("good", Duration.FromDays(1));
        CopyFacts Bad(Duration age) => Copy("bad", age, CopyState.Unsound);
        Assert.Equal(Verdict.Uncounted, VerdictOf("bad", "newest 1", guards, good, Bad(Duration.FromDays(7))));
        Assert.Equal(Verdict.Expire, VerdictOf("bad", "newest 1", guards, good, Bad(Duration.FromDays(7) + Tick)));
        Assert.Equal(Verdict.Uncounted, VerdictOf("bad", "newest 1", guards, Bad(Duration.FromDays(30))));
        Assert.Equal(
            Verdict.Uncounted,
            VerdictOf("bad", "newest 1", guards, Copy("good", Duration.FromDays(31)), Bad(Duration.FromDays(30)))
        );
    }

    [Fact]
    public void A_copy_as_old_as_the_promise_is_fresh_and_one_tick_older_freezes_its_job()
    {
        var guards = new RetentionGuards(DateTimeZone.Utc, 0, new Span(2, SpanUnit.Days));
        var old = Copy("old", Duration.FromDays(9));
        Assert.Equal(Verdict.Expire, VerdictOf("old", "newest 1", guards, Copy("new", Duration.FromDays(2)), old));
        Assert.Equal(Verdict.Frozen, VerdictOf("old", "newest 1", guards, Copy("new", Duration.FromDays(2) + Tick), old));
    }

    /// <summary>Newfoundland set its clocks back a minute past midnight: the 29th came twice, with an hour of the 28th between.</summary>
    [Theory]
    [InlineData("newest 1 then 1 daily", "before-midnight newest")]
    [InlineData("newest 1 then 2 daily", "before-midnight newest")]
    [InlineData("2 daily", "before-midnight newest")]
    [InlineData("newest 2 then 2 daily", "before-midnight newest")]
    public void A_day_that_comes_twice_is_one_day(string keep, string kept)
    {
        CopyFacts[] copies =
        [
            At("first-29th", Instant.FromUtc(2006, 10, 29, 2, 30, 30)),
            At("before-midnight", Instant.FromUtc(2006, 10, 29, 3, 0)),
            At("newest", Instant.FromUtc(2006, 10, 29, 4, 0)),
        ];
        var guards = new RetentionGuards(DateTimeZoneProviders.Tzdb["America/St_Johns"], 1);
        var answer = RetentionRules.Decide(RetentionTests.Read(keep), guards, copies, Instant.FromUtc(2006, 10, 30, 0, 0));
        Assert.Equal(kept, string.Join(' ', answer.Copies.Where(c => c.Verdict == Verdict.Keep).Select(c => c.Copy.Id).Order()));

        static CopyFacts At(string id, Instant taken) => new(id, taken, CopyState.Sound);
    }

    [Fact]
    public void All_within_lets_go_at_its_very_end()
    {
        var guards = new RetentionGuards(DateTimeZone.Utc, 0);
        var newest = Copy("newest", Duration.Zero);
        Assert.Equal(
            Verdict.Keep,
            VerdictOf("it", "all within 3 days", guards, newest, Copy("it", Duration.FromDays(3) - Duration.FromSeconds(1)))
        );
        Assert.Equal(Verdict.Expire, VerdictOf("it", "all within 3 days", guards, newest, Copy("it", Duration.FromDays(3))));
    }

    [Theory]
    [InlineData(16, 4, false)]
    [InlineData(15, 4, true)]
    [InlineData(12, 3, false)]
    [InlineData(3, 3, false)]
    public void The_brake_holds_more_than_three_copies_that_are_more_than_a_quarter(int good, int go, bool holds)
    {
        CopyFacts[] copies = [.. Enumerable.Range(0, good).Select(i => Copy($"c{i:00}", Duration.FromDays(i)))];
        // Unsound ones are not among what is counted.
        CopyFacts[] all = [.. copies, .. Enumerable.Range(0, 9).Select(i => Copy($"u{i}", Duration.FromDays(i), CopyState.Unsound))];
        var plan = PrunePlan.Make(
            "job",
            "heron",
            "cellar",
            RetentionTests.Read($"newest {Math.Max(1, good - go)}"),
            new RetentionGuards(DateTimeZone.Utc, 0),
            all,
            Now
        );
        var reasons = Brake.Reasons(plan, new BrakeFacts(null, null, 1000, null));
        Assert.Equal(holds, reasons.Any(r => r.Contains("more than a quarter", StringComparison.Ordinal)));
    }

    [Fact]
    public void A_planned_run_has_its_limit_to_the_last_moment()
    {
        var limit = Duration.FromHours(1);
        Assert.Null(RunJudge.OfSilence(Now - limit, false, limit, null, Now));
        Assert.Equal(Outcome.Missed, RunJudge.OfSilence(Now - limit - Tick, false, limit, null, Now));
        Assert.Null(RunJudge.OfSilence(Now - limit, true, Duration.Zero, limit, Now));
        Assert.Equal(Outcome.TimedOut, RunJudge.OfSilence(Now - limit - Tick, true, Duration.Zero, limit, Now));
    }

    [Fact]
    public void A_run_at_the_edge_of_its_band_is_as_usual_and_the_first_runs_only_learn()
    {
        var band = new Band(50, new ByteSize(10));
        RunMeasure Of(long bytes) => new(10, bytes, Duration.FromMinutes(1));
        RunMeasure[] known = [Of(100), Of(100), Of(100)];
        Assert.Empty(Bands.Judge(band, known, Of(50)));
        Assert.Empty(Bands.Judge(band, known, Of(150)));
        Assert.Single(Bands.Judge(band, known, Of(49)));
        Assert.Single(Bands.Judge(band, known, Of(151)));
        Assert.Empty(Bands.Judge(band, known[1..], Of(1)));
        Assert.Single(Bands.Judge(band, known[1..], Of(0)));
        // Few bytes off are no sign, whatever their share.
        Assert.Empty(Bands.Judge(new Band(50, new ByteSize(100)), known, Of(1)));
    }
}
