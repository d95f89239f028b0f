using IronKeep.Core.Prunes;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class PrunePlanTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 9, 0);
    private static readonly RetentionGuards Guards = new(DateTimeZone.Utc);
    private static readonly CopyFacts[] Copies =
    [
        .. Enumerable.Range(0, 6).Select(i => new CopyFacts($"c{i}", Now - Duration.FromDays(6 - i), CopyState.Sound)),
    ];

    [Fact]
    public void The_fingerprint_moves_with_everything_that_the_decision_rests_on()
    {
        var plan = Plan(Copies);
        PrunePlan[] others =
        [
            Plan(Copies, "newest 4"),
            Plan(Copies[1..]),
            Plan([.. Copies[1..], Copies[0] with { State = CopyState.Unsound }]),
            Plan([.. Copies[1..], Copies[0] with { Held = "by mira" }]),
            Make(Copies, "newest 3", Guards with { AtLeast = 5 }),
        ];
        // The newest stays whatever is said of it, so only the facts differ and no verdict.
        PrunePlan[] ofNewest =
        [
            plan,
            Plan([.. Copies[..5], Copies[5] with { Held = "by mira" }]),
            Plan([.. Copies[..5], Copies[5] with { Held = "by tom" }]),
        ];
        Assert.Equal(3, ofNewest.Select(p => p.Fingerprint()).Distinct().Count());
        // A doubted copy holds back the good one before it, which stays here by the rule anyway.
        var doubted = Plan([.. Copies[..5], Copies[5] with { Doubted = true }]);
        Assert.NotEqual(plan.Fingerprint(), doubted.Fingerprint());
        Assert.Equal(plan.Fingerprint(), Plan(Copies.Reverse()).Fingerprint());
        Assert.Equal(6, others.Append(plan).Select(p => p.Fingerprint()).Distinct().Count());
    }

    [Fact]
    public void Copies_that_came_later_do_not_matter_and_everything_else_does()
    {
        var shown = Plan(Copies);
        Assert.Equal(["c2", "c1", "c0"], shown.Going.Select(c => c.Copy.Id));
        Assert.Null(shown.DriftAgainst(Plan(Copies)));
        Assert.Null(shown.DriftAgainst(Plan([.. Copies, new CopyFacts("c9", Now, CopyState.Unchecked)])));

        Assert.Contains("policy", shown.DriftAgainst(Plan(Copies, "newest 2")));
        Assert.Contains("no longer there", shown.DriftAgainst(Plan(Copies[1..])));
        Assert.Contains("held by mira", shown.DriftAgainst(Plan([.. Copies[1..], Copies[0] with { Held = "by mira" }])));
        Assert.Contains("unsound", shown.DriftAgainst(Plan([.. Copies[..5], Copies[5] with { State = CopyState.Unsound }])));
        // The same facts later: the job has frozen meanwhile.
        var limit = Guards with { FreshWithin = new Quantities.Span(2, Quantities.SpanUnit.Days) };
        var before = Make(Copies, "newest 3", limit);
        var later = PrunePlan.Make("job", "heron", "cellar", RetentionTests.Read("newest 3"), limit, Copies, Now + Duration.FromDays(9));
        Assert.Contains("would not expire any more", before.DriftAgainst(later));
    }

    private static PrunePlan Plan(IEnumerable<CopyFacts> copies, string policy = "newest 3") => Make(copies, policy, Guards);

    private static PrunePlan Make(IEnumerable<CopyFacts> copies, string policy, RetentionGuards guards) =>
        PrunePlan.Make("job", "heron", "cellar", RetentionTests.Read(policy), guards, copies, Now);
}
