using CsCheck;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class WatchingTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 9, 0);

    [Theory]
    // Usual: 400 MB, 1000 items, two minutes. More than half off and at least 100 MB, 100 items, ten minutes.
    [InlineData(400, 1000, 2, 0)]
    [InlineData(200, 1000, 2, 0)]
    [InlineData(199, 1000, 2, 1)]
    [InlineData(600, 1000, 2, 0)]
    [InlineData(601, 1000, 2, 1)]
    [InlineData(400, 499, 2, 1)]
    [InlineData(400, 1501, 2, 1)]
    [InlineData(400, 1000, 11, 0)]
    [InlineData(400, 1000, 12, 1)]
    [InlineData(400, 1000, 0, 0)]
    [InlineData(100, 10, 60, 3)]
    [InlineData(0, 0, 2, 1)]
    public void A_run_is_suspect_when_it_is_far_off_what_is_usual(long megabytes, long items, int minutes, int reasons)
    {
        var usual = Enumerable.Range(0, 7).Select(i => Run(400 + (i == 3 ? 5000 : 0), 1000, 2)).ToList();
        Assert.Equal(reasons, Bands.Judge(Band.Usual, usual, Run(megabytes, items, minutes)).Length);
    }

    [Fact]
    public void The_first_three_runs_learn_and_only_an_empty_one_is_suspect_at_once()
    {
        RunMeasure[] known = [Run(1, 1, 1), Run(500, 5000, 30)];
        Assert.Empty(Bands.Judge(Band.Usual, known, Run(9000, 90_000, 600)));
        Assert.NotEmpty(Bands.Judge(Band.Usual, [], Run(0, 12, 1)));
        Assert.NotEmpty(Bands.Judge(Band.Usual, [.. known, Run(500, 5000, 30)], Run(9000, 90_000, 600)));
        // Small jobs go up and down: a tenth of what is usual is still less than the least difference.
        Assert.Empty(Bands.Judge(Band.Usual, Enumerable.Repeat(Run(90, 150, 1), 7).ToList(), Run(9, 60, 1)));
        Assert.True(Band.TryParse("25 % and 1 MB", out var narrow, out _));
        Assert.Single(Bands.Judge(narrow, Enumerable.Repeat(Run(90, 150, 1), 7).ToList(), Run(9, 150, 1)));
        Assert.Equal("25 % and 1 MB", narrow.ToString());
        foreach (var wrong in new[] { "", "50 %", "half", "50 % and 100", "0 % and 1 MB", "-5 % and 1 MB", "5000 % and 1 MB" })
            Assert.False(Band.TryParse(wrong, out _, out var problem) || problem.Length == 0, wrong);
    }

    [Fact]
    public void The_median_is_one_of_the_values_with_no_more_than_half_on_either_side() =>
        Gen.Long[0, 1000]
            .Array[1, 12]
            .Sample(values =>
            {
                var median = Bands.Median(values);
                return values.Contains(median)
                    && values.Count(v => v < median) * 2 <= values.Length
                    && values.Count(v => v > median) * 2 < values.Length + 1;
            });

    [Fact]
    public void A_run_limit_is_an_hour_or_three_times_what_is_usual()
    {
        Assert.Equal(Duration.FromHours(1), RunLimits.Usual([]));
        Assert.Equal(Duration.FromHours(1), RunLimits.Usual([Duration.FromMinutes(5), Duration.FromMinutes(19)]));
        Assert.Equal(Duration.FromHours(3), RunLimits.Usual([Duration.FromMinutes(5), Duration.FromHours(1), Duration.FromHours(9)]));
    }

    [Fact]
    public void The_brake_holds_what_is_unusual_and_nothing_else()
    {
        // Sixteen copies: four is a quarter, five is more; of eight, three are never too many.
        Assert.Empty(Reasons(16, "newest 12"));
        Assert.Contains("5 of 16", Assert.Single(Reasons(16, "newest 11")));
        Assert.Empty(Reasons(8, "newest 5"));
        Assert.Contains("4 of 8", Assert.Single(Reasons(8, "newest 4")));
        Assert.Contains("clock", Assert.Single(Reasons(8, "newest 7", doubt: "the clock jumped")));
        Assert.Contains("every good copy of machine heron", string.Join(' ', Reasons(8, "newest 7", onMachine: 1)));
        Assert.Empty(Reasons(8, "newest 8", doubt: "nothing goes, so nothing is braked"));
        // A policy that was shortened, and one that was changed but takes no more than before.
        Assert.Contains(
            "'newest 8', at least 2, became 'newest 6', at least 2, which takes 2 more copies",
            Assert.Single(Reasons(8, "newest 6", last: "newest 8"))
        );
        Assert.Empty(Reasons(8, "newest 7", last: "newest 5"));
        Assert.Contains("shortened", Assert.Single(Reasons(8, "newest 1", atLeast: 6, last: "newest 1", lastFloor: 8)));

        static IEnumerable<string> Reasons(
            int count,
            string policy,
            string? last = null,
            string? doubt = null,
            int onMachine = 100,
            int atLeast = 2,
            int lastFloor = 2
        )
        {
            var copies = Enumerable.Range(0, count).Select(i => new CopyFacts($"c{i:00}", Now - Duration.FromDays(i), CopyState.Sound));
            var plan = PrunePlan.Make(
                "job",
                "heron",
                "cellar",
                RetentionTests.Read(policy),
                new RetentionGuards(DateTimeZone.Utc, atLeast),
                copies,
                Now
            );
            return Brake.Reasons(
                plan,
                new BrakeFacts(
                    last is null ? null : RetentionTests.Read(last),
                    last is null ? null : new RetentionGuards(DateTimeZone.Utc, lastFloor),
                    onMachine,
                    doubt
                )
            );
        }
    }

    [Fact]
    public void A_suspect_copy_counts_and_holds_back_the_good_one_before_it_until_it_is_confirmed()
    {
        // Newest first: a suspect one, two good ones.
        CopyFacts[] copies =
        [
            .. Enumerable
                .Range(0, 6)
                .Select(i => new CopyFacts($"c{i}", Now - Duration.FromDays(i), CopyState.Sound, Doubted: i is 0 or 1 or 3)),
        ];
        var answer = RetentionRules.Decide(RetentionTests.Read("newest 1"), new RetentionGuards(DateTimeZone.Utc, 1), copies, Now);
        Assert.Equal(
            [Verdict.Keep, Verdict.Expire, Verdict.Held, Verdict.Expire, Verdict.Held, Verdict.Expire],
            answer.Copies.Select(c => c.Verdict)
        );
        Assert.Contains("c1, is suspect", string.Join(' ', answer.Copies[2].Reasons));
        var confirmed = RetentionRules.Decide(
            RetentionTests.Read("newest 1"),
            new RetentionGuards(DateTimeZone.Utc, 1),
            copies.Select(c => c with { Doubted = false }),
            Now
        );
        Assert.Equal(5, confirmed.Copies.Count(c => c.Verdict == Verdict.Expire));
    }

    [Fact]
    public void Doubt_only_ever_keeps_more_and_a_frozen_rule_expires_nothing() =>
        Gen.Select(Gen.Bool.Array[1, 25], Pick.Of("newest 2", "3 daily then 2 weekly", "all within 4 days"))
            .Sample(
                (doubted, policy) =>
                {
                    var copies = doubted
                        .Select((d, i) => new CopyFacts($"c{i:00}", Now - Duration.FromHours(i * 17), CopyState.Sound, Doubted: d))
                        .ToList();
                    var guards = new RetentionGuards(DateTimeZone.Utc, 1);
                    var with = Going(RetentionRules.Decide(RetentionTests.Read(policy), guards, copies, Now));
                    var without = Going(
                        RetentionRules.Decide(RetentionTests.Read(policy), guards, copies.Select(c => c with { Doubted = false }), Now)
                    );
                    var frozen = RetentionRules.Decide(
                        RetentionTests.Read(policy),
                        guards with
                        {
                            FrozenBecause = "the clock jumped",
                        },
                        copies,
                        Now
                    );
                    return with.IsSubsetOf(without)
                        && Going(frozen).Count == 0
                        && frozen.Frozen
                        && frozen
                            .Copies.Where(c => c.Verdict == Verdict.Frozen)
                            .All(c => c.Reasons[^1].Contains("the clock jumped", StringComparison.Ordinal));
                }
            );

    [Theory]
    [InlineData("newest 5", "daily at 12:00", 5, 5)]
    [InlineData("7 daily", "every 6 hours", 7, 8)]
    [InlineData("newest 3 then 7 daily then 4 weekly", "daily at 23:00", 14, 14)]
    [InlineData("all within 10 days", "every 12 hours", 20, 21)]
    [InlineData("12 monthly and 3 yearly", "daily at 01:00", 14, 15)]
    public void What_a_policy_comes_to_keep_is_found_by_playing_it(string policy, string when, int fewest, int most)
    {
        var keeps = SteadyState.Play(RetentionTests.Read(policy), 2, DateTimeZone.Utc, ScheduleSentence.Read(when).Schedule, Now);
        Assert.InRange(keeps.Fewest, fewest - 1, most);
        Assert.InRange(keeps.Most, fewest, most);
        Assert.True(keeps.IsWhole);
        Assert.Contains("will keep", keeps.Words);
        Assert.Contains("only grows", SteadyState.Play(RetentionTests.Read("forever"), 2, DateTimeZone.Utc, null, Now).Words);
    }

    private static HashSet<string> Going(RetentionAnswer answer) =>
        [.. answer.Copies.Where(c => c.Verdict == Verdict.Expire).Select(c => c.Copy.Id)];

    private static RunMeasure Run(long megabytes, long items, int minutes) =>
        new(items, megabytes * 1_000_000, Duration.FromMinutes(minutes));

    /// <summary>What was heard of a run, and what it comes to: what it says of itself never makes a bad end good.</summary>
    [Theory]
    [InlineData(0, null, null, null, null, null, Outcome.Ok, null)]
    [InlineData(3, null, null, null, null, null, Outcome.Failed, FailureClass.ExitCode)]
    [InlineData(0, 0L, null, null, null, null, Outcome.Suspect, null)]
    [InlineData(0, 5L, 0L, null, null, null, Outcome.Suspect, null)]
    [InlineData(0, 5L, 9L, 2L, null, null, Outcome.Warned, null)]
    [InlineData(0, 5L, 9L, 2L, 1L, null, Outcome.Failed, FailureClass.Reported)]
    [InlineData(0, 5L, 9L, null, null, false, Outcome.Failed, FailureClass.Unconfirmed)]
    [InlineData(0, 0L, null, null, null, false, Outcome.Failed, FailureClass.Unconfirmed)]
    [InlineData(3, 5L, 9L, null, null, true, Outcome.Failed, FailureClass.ExitCode)]
    [InlineData(null, null, null, null, null, true, Outcome.Ok, null)]
    [InlineData(null, null, 0L, null, null, true, Outcome.Suspect, null)]
    [InlineData(null, null, null, null, null, false, Outcome.Failed, FailureClass.Unconfirmed)]
    public void What_was_heard_of_a_run_comes_to_the_worst_that_it_says(
        int? code,
        long? items,
        long? bytes,
        long? skipped,
        long? errors,
        bool? left,
        Outcome outcome,
        FailureClass? failure
    )
    {
        var verdict = RunJudge.Of(
            LogRules.None,
            new HeardFacts
            {
                Code = code,
                Items = items,
                Bytes = bytes,
                Skipped = skipped,
                Errors = errors,
                LeftCopy = left,
            }
        );
        Assert.Equal((outcome, failure), (verdict.Outcome, verdict.Class));
    }

    /// <summary>Silence has no outcome up to the limit itself, and one from a moment after it.</summary>
    [Fact]
    public void Silence_is_missed_or_timed_out_only_after_its_limit()
    {
        var due = Instant.FromUtc(2026, 11, 23, 2, 0);
        var (start, run) = (Duration.FromHours(1), Duration.FromHours(3));
        Assert.Null(RunJudge.OfSilence(due, false, start, run, due + start));
        Assert.Equal(Outcome.Missed, RunJudge.OfSilence(due, false, start, run, due + start + Duration.Epsilon));
        Assert.Null(RunJudge.OfSilence(due, true, start, run, due + run));
        Assert.Equal(Outcome.TimedOut, RunJudge.OfSilence(due, true, start, run, due + run + Duration.Epsilon));
        Assert.Null(RunJudge.OfSilence(due, true, start, null, due + RunJudge.UsualLimit));
    }
}
