using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Yaml;
using NodaTime;
using Xunit;

namespace IronKeep.Core.Tests.Machines;

/// <summary>Lines that machines share, and who waits for them.</summary>
public sealed class SharedLineTests
{
    private static readonly Instant now = Instant.FromUtc(2026, 12, 1, 23, 0);

    private const string Text = """
        charter: 1
        machines:
          tern-1: { site: hides, line: 1 MB/s }
          tern-2: { site: hides }
          tern-3: { site: hides }
          knot: { site: mainland }
        lines:
          ferry-link: { machines: "site = hides", runs-at-once: 2, bandwidth: [6 MB/s, 3 MB/s from 22:00 to 06:00] }
          uplink: { machines: [tern-2, knot], bandwidth: 12 MB/s }
        """;

    private static readonly Charter charter = CharterYaml.Read(Text, "heron").Charter!;

    private static RunClaim Claim(string machine, int importance = 3, int minute = 0) =>
        new("job", machine, [], [], importance, now + Duration.FromMinutes(minute));

    [Fact]
    public void A_line_takes_so_many_runs_of_its_machines_and_others_pass()
    {
        var ceilings = RunCeilings.Of(charter, 8);
        ceilings.Begin(Claim("tern-1"));
        Assert.True(ceilings.CanBegin(Claim("tern-2")));
        ceilings.Begin(Claim("tern-2"));
        Assert.Equal("line ferry-link, which has a ceiling of 2", ceilings.WaitsFor(Claim("tern-3")));
        Assert.True(ceilings.CanBegin(Claim("knot")));
        ceilings.End(Claim("tern-1"));
        Assert.True(ceilings.CanBegin(Claim("tern-3")));
    }

    [Theory]
    // At night the ferry's 3 MB/s are divided; by day its 6 MB/s.
    [InlineData(23, "tern-3", 1, 3_000_000L)]
    [InlineData(23, "tern-3", 2, 1_500_000L)]
    [InlineData(12, "tern-3", 3, 2_000_000L)]
    // The machine's own line is less than its share, and the uplink more than the ferry.
    [InlineData(12, "tern-1", 2, 1_000_000L)]
    [InlineData(12, "tern-2", 1, 6_000_000L)]
    [InlineData(12, "knot", 4, 3_000_000L)]
    public void Runs_over_a_line_divide_what_it_carries(int hour, string machine, int atWork, long share) =>
        Assert.Equal(share, SharedLines.ShareOf(charter, machine, Instant.FromUtc(2026, 12, 1, hour, 0), _ => atWork));

    [Fact]
    public void A_machine_on_no_line_takes_what_it_can() => Assert.Null(SharedLines.ShareOf(charter, "heron", now, _ => 5));

    [Theory]
    [InlineData("{ bandwidth: 1 MB/s }", "'machines' is missing")]
    [InlineData("{ machines: knot }", "'bandwidth' is missing")]
    [InlineData("{ machines: rest, runs-at-once: 2 }", "'rest' goes with jobs")]
    [InlineData("{ machines: knoth, runs-at-once: 2 }", "did you mean 'knot'?")]
    [InlineData("{ machines: site = hides and, runs-at-once: 2 }", "a test is missing at the end")]
    [InlineData("{ machines: knot, bandwidth: fast }", "'fast' is no rate")]
    public void A_line_says_whose_it_is_and_what_it_carries(string line, string mistake)
    {
        var reading = CharterYaml.Read($"charter: 1\nmachines: {{ knot: {{}} }}\nlines: {{ ferry: {line} }}\n", "heron");
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(mistake, StringComparison.Ordinal));
    }

    [Fact]
    public void Lines_are_written_and_read_again()
    {
        var again = CharterYaml.Read(CharterWriter.Write(charter), "heron");
        Assert.Empty(again.Mistakes);
        Assert.Equal(charter.Lines.Values, again.Charter!.Lines.Values);
        Assert.Equal(["tern-1", "tern-2", "tern-3"], SharedLines.Of(again.Charter).MachinesOf("ferry-link").AsEnumerable());
    }

    [Fact]
    public void Who_waits_is_told_about_when_its_turn_comes()
    {
        var (ten, five) = (Duration.FromMinutes(10), Duration.FromMinutes(5));
        var begins = WaitEstimate.Of(
            RunCeilings.Of(charter, 8),
            now,
            [new RunAtWork(Claim("tern-1"), ten), new RunAtWork(Claim("tern-2"), five)],
            [
                // The second of the ferry's machines waits until the first is through; what is important goes before what is older.
                new RunInLine(Claim("tern-3"), now, five),
                new RunInLine(Claim("tern-3", importance: 5, minute: 1) with { Job = "other" }, now, ten),
                new RunInLine(Claim("knot"), now, five),
                new RunInLine(Claim("knot") with { Job = "later" }, now + Duration.FromHours(1), five),
            ]
        );
        Assert.Equal([now + ten, now + five, now, now + Duration.FromHours(1)], begins.AsEnumerable());
    }

    [Fact]
    public void A_job_that_is_due_on_many_machines_at_once_waits_in_order_of_machine()
    {
        var minute = Duration.FromMinutes(1);
        var line = new[] { "tern-3", "knot", "tern-2", "tern-1" }.Select(m => new RunInLine(Claim(m), now, minute)).ToList();
        var begins = WaitEstimate.Of(RunCeilings.Of(charter, 1), now, [], line);
        Assert.Equal([now + 3 * minute, now, now + 2 * minute, now + minute], begins.AsEnumerable());
    }

    [Fact]
    public void One_whose_turn_never_comes_has_no_time()
    {
        var closed = new RunCeilings(1, new Dictionary<string, int> { ["knot"] = 0 }, new Dictionary<string, int>());
        Assert.Equal([(Instant?)null], WaitEstimate.Of(closed, now, [], [new RunInLine(Claim("knot"), now, Duration.Zero)]).AsEnumerable());
    }
}
