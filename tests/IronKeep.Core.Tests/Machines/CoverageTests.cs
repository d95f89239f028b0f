using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Yaml;
using Xunit;

namespace IronKeep.Core.Tests.Machines;

/// <summary>How machines are protected: docs/semantics.md, section 13.</summary>
public sealed class CoverageTests
{
    private const string Text = """
        charter: 1
        machines:
          heron: { site: lighthouse }
          curlew: { site: lighthouse, tags: lab }
          knot: { site: mainland }
          gannet: { site: lighthouse, retired: 2026-11-01, copies-until: 2028-01-31, copies-owner: maud, decide-by: 2027-12-01 }
        stores: { vault: { folder: /srv/vault } }
        policies: { few: { keep: newest 3 } }
        jobs:
          logs: { takes: /var/log, into: vault, policy: few, on: "site = lighthouse", except: "tag lab" }
        """;

    private static readonly Charter charter = CharterYaml.Read(Text, "heron").Charter!;

    private static MachineCoverage Of(string machine, string? silent = null, params CoveredJob[] jobs) =>
        MachineCoverage.Of(charter, machine, silent, jobs);

    private static CoveredJob Job(string name, string? late = null, string? paused = null) => new(name, late, paused);

    [Theory]
    [InlineData("gannet", "retired", "its copies are kept until 2028-01-31")]
    [InlineData("curlew", "excepted", "job logs leaves it out, and no other takes it")]
    [InlineData("knot", "uncovered", "no job takes it")]
    [InlineData("stranger", "uncovered", "no job takes it, and the charter does not declare it")]
    public void Without_a_job_the_reason_counts(string machine, string word, string why) =>
        // A silence changes nothing where there is nothing to do.
        Assert.Equal((word, why), (Kebab(Of(machine, "yesterday").Class), Of(machine, "yesterday").Why));

    [Fact]
    public void A_retired_machine_is_retired_whatever_its_jobs_say() =>
        Assert.Equal(Coverage.Retired, Of("gannet", "yesterday", Job("logs", "fails")).Class);

    [Fact]
    public void Silence_is_worse_than_late_and_late_worse_than_paused()
    {
        CoveredJob[] all = [Job("a"), Job("b", paused: "by maud until Friday"), Job("c", late: "fails"), Job("d", late: "was missed")];
        Assert.Equal(Coverage.Silent, Of("heron", "yesterday", all).Class);
        Assert.Equal((Coverage.Late, "job c fails, and 1 more of its jobs"), (Of("heron", null, all).Class, Of("heron", null, all).Why));
        Assert.Equal("job b is paused by maud until Friday", Of("heron", null, all[..2]).Why);
        Assert.Equal(Coverage.Paused, Of("heron", null, all[..2]).Class);
        Assert.Equal((Coverage.Covered, "job a protects it"), (Of("heron", null, all[0]).Class, Of("heron", null, all[0]).Why));
    }

    [Fact]
    public void What_nobody_protects_is_bad_and_what_a_person_wants_is_not()
    {
        var bad = Enum.GetValues<Coverage>().Where(MachineCoverage.IsBadClass);
        Assert.Equal([Coverage.Late, Coverage.Uncovered, Coverage.Excepted, Coverage.Silent], bad.Order());
    }

    [Fact]
    public void A_retired_machine_is_taken_by_no_job_and_naming_it_is_noted()
    {
        Assert.Equal(["heron"], charter.Placed.Named("logs").Select(j => j.Machine));
        var named = CharterYaml.Read(Text + "\n  more: { takes: /srv, into: vault, policy: few, on: [gannet, knot] }\n", "heron");
        Assert.Equal(["knot"], named.Charter!.Placed.Named("more").Select(j => j.Machine));
        Assert.Contains("gannet is retired since 2026-11-01", Assert.Single(named.Notes).Message, StringComparison.Ordinal);
        var rest = CharterYaml.Read(Text + "\n  more: { takes: /srv, into: vault, policy: few, on: rest }\n", "heron");
        Assert.Equal(["curlew", "knot"], rest.Charter!.Placed.Named("more").Select(j => j.Machine));
    }

    [Theory]
    [InlineData("retired: 2026-11-01", "'copies-until' is missing")]
    [InlineData("copies-until: 2028-01-31", "'copies-until' goes with 'retired: DATE'")]
    [InlineData(
        "retired: 2026-11-01, copies-until: 2027-01-31, copies-owner: maud, decide-by: 2027-12-01",
        "2027-12-01 is after 2027-01-31, until when the copies are kept"
    )]
    [InlineData("retired: yesterday, copies-until: 2027-01-31, copies-owner: maud, decide-by: 2027-01-01", "yesterday")]
    public void What_becomes_of_the_copies_has_to_be_said(string fields, string mistake)
    {
        var reading = CharterYaml.Read($"charter: 1\nmachines:\n  knot: {{ {fields} }}\n", "heron");
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(mistake, StringComparison.Ordinal));
    }

    [Fact]
    public void The_machine_of_the_service_cannot_be_retired()
    {
        var reading = CharterYaml.Read(Text, "gannet");
        Assert.Contains("the service runs on gannet", Assert.Single(reading.Mistakes).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_retired_machine_is_written_and_read_again()
    {
        var again = CharterYaml.Read(CharterWriter.Write(charter), "heron").Charter!;
        Assert.Equal(charter.Machines["gannet"].Retired, again.Machines["gannet"].Retired);
        Assert.NotNull(again.Machines["gannet"].Retired);
    }

    private static string Kebab(Coverage c) => Quantities.Kebab.Of(c);
}
