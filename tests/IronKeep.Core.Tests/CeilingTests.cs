using IronKeep.Core.Ceilings;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>What one run takes at its begin it gives back at its end, all of it, and nothing more.</summary>
public sealed class CeilingTests
{
    private static RunClaim Claim(string job, string machine, string[] stores, string[] locks) =>
        new(job, machine, [.. stores], [.. locks], 0, Instant.MinValue);

    [Fact]
    public void A_run_waits_for_exactly_what_another_holds_and_for_nothing_once_it_has_ended()
    {
        var ceilings = new RunCeilings(3, new Dictionary<string, int> { ["heron"] = 1 }, new Dictionary<string, int> { ["cellar"] = 2 });
        var first = Claim("a", "heron", ["cellar"], ["database"]);
        (RunClaim Claim, string? Waits)[] others =
        [
            (Claim("a", "heron", [], []), "an earlier run of a"),
            (Claim("b", "heron", [], []), "machine heron, which has a ceiling of 1"),
            (Claim("b", "knot", ["cellar"], ["database"]), "lock database, which a has"),
            (Claim("b", "knot", ["cellar"], ["other"]), null),
            // The same job on another machine is another run.
            (Claim("a", "knot", ["attic"], []), null),
        ];
        for (var round = 0; round < 2; round++)
        {
            Assert.All(others, o => Assert.Null(ceilings.WaitsFor(o.Claim)));
            ceilings.Begin(first);
            Assert.All(others, o => Assert.Equal(o.Waits, ceilings.WaitsFor(o.Claim)));
            var second = Claim("c", "knot", ["cellar"], []);
            ceilings.Begin(second);
            Assert.Equal("store cellar, which has a ceiling of 2", ceilings.WaitsFor(Claim("d", "avocet", ["cellar"], [])));
            var third = Claim("e", "avocet", ["attic"], []);
            ceilings.Begin(third);
            Assert.Equal("the ceiling of 3 at once", ceilings.WaitsFor(Claim("f", "avocet", ["attic"], [])));
            foreach (var claim in (RunClaim[])[first, second, third])
                ceilings.End(claim);
            Assert.Equal(0, ceilings.AtWork);
        }
    }
}
