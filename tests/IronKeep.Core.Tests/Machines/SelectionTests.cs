using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Yaml;
using Xunit;

namespace IronKeep.Core.Tests.Machines;

/// <summary>On which machines a job is, and with which values there.</summary>
public sealed class SelectionTests
{
    private const string Head = """
        charter: 1
        machines:
          curlew: { site: lighthouse, tags: [lab, disk-sdb], importance: 5 }
          heron: { site: lighthouse, owner: observatory }
          knot: { site: mainland, tags: [disk-sdc] }
          plover: { tags: lab }
          tern-1: { site: hides }
          tern-2: { site: hides, importance: 1 }
        stores:
          vault: { folder: /srv/vault }
          shed: { folder: /srv/shed }
          dumps: { folder: /srv/dumps, layout: dated-files, name: "{yyyy}-{MM}-{dd}.gz" }
        policies:
          few: { keep: newest 3 }
          many: { keep: newest 30 }

        """;

    // IS stands for what each job of these tests says.
    private static CharterReading Read(string more, string own = "heron") => CharterYaml.Read(Head + Whole(more), own);

    private static string Whole(string text) => text.Replace("IS", "into: vault, policy: few", StringComparison.Ordinal);

    private static string Machines(string on, string except = "")
    {
        var without = except.Length > 0 ? $", except: {except}" : "";
        var reading = Read($"jobs:\n  logs: {{ takes: /var/log, IS, on: \"{on}\"{without} }}\n");
        Assert.Empty(reading.Mistakes);
        var again = CharterYaml.Read(CharterWriter.Write(reading.Charter!), "heron");
        Assert.Equal(reading.Charter!.Jobs["logs"].Selection, again.Charter!.Jobs["logs"].Selection);
        return string.Join(' ', reading.Charter!.Placed.Named("logs").Select(j => j.Machine));
    }

    [Theory]
    [InlineData("site = lighthouse and not tag lab", "heron")]
    [InlineData("site = lighthouse or site = hides and importance < 3", "curlew heron tern-2")]
    [InlineData("(site = lighthouse or site = hides) and importance < 3", "tern-2")]
    [InlineData("not site = lighthouse", "knot plover tern-1 tern-2")]
    [InlineData("site != lighthouse", "knot plover tern-1 tern-2")]
    [InlineData("not not tag lab", "curlew plover")]
    [InlineData("name = tern-* and name != *-2", "tern-1")]
    [InlineData("name = *er*", "heron plover tern-1 tern-2")]
    [InlineData("importance >= 4 or owner=observatory", "curlew heron")]
    [InlineData("importance != 3", "curlew tern-2")]
    [InlineData("all", "curlew heron knot plover tern-1 tern-2")]
    [InlineData("site = nowhere", "")]
    [InlineData("curlew", "curlew")]
    public void An_expression_takes_the_machines_that_fit_it(string on, string machines) => Assert.Equal(machines, Machines(on));

    [Fact]
    public void Exceptions_are_left_out_by_name_or_by_what_they_are()
    {
        Assert.Equal("curlew heron knot plover", Machines("all", "[tern-1, tern-2]"));
        Assert.Equal("heron knot tern-1 tern-2", Machines("all", "\"tag lab\""));
        Assert.Equal("curlew heron knot plover tern-1", Machines("rest", "tern-2"));
    }

    [Theory]
    [InlineData("site lighthouse", 5, "needs '=' or '!='")]
    [InlineData("site =", 7, "the name is missing after '='")]
    [InlineData("sit = lighthouse", 1, "did you mean 'site'?")]
    [InlineData("site = lighthouse lab", 19, "'lab' is not expected here")]
    [InlineData("(site = lighthouse", 19, "a ')' is missing")]
    [InlineData("site = lighthouse and", 22, "a test is missing at the end")]
    [InlineData("importance >= 9", 15, "write one from 1 to 5")]
    [InlineData("tag Lab", 5, "cannot be a tag")]
    [InlineData("site = light*", 8, "cannot be a site")]
    public void A_mistake_in_an_expression_is_told_at_its_place(string on, int column, string says)
    {
        var problem = MachineExpression.Read(on).Problem!;
        Assert.Contains(says, problem.Message);
        Assert.Equal(column, problem.Position + 1);
    }

    [Fact]
    public void An_expression_without_end_is_refused_and_costs_nothing()
    {
        Assert.Contains("nested too deeply", MachineExpression.Read(new string('(', 900)).Problem!.Message);
        Assert.Contains(
            "nested too deeply",
            MachineExpression.Read(string.Concat(Enumerable.Repeat("not ", 200)) + "all").Problem!.Message
        );
        Assert.Contains("too long", MachineExpression.Read(new string('a', 5000)).Problem!.Message);
    }

    [Fact]
    public void The_rest_is_what_no_other_job_of_its_kind_takes_and_a_new_machine_is_in_it()
    {
        const string jobs = """
            jobs:
              web: { takes: /srv/web, IS, on: [knot, tern-1] }
              own: { takes: /etc, IS }
              lab: { watched: yes, on: tag lab, when: daily at 03:00 }
              home: { takes: "/home/{machine}", IS, on: rest, except: tern-2 }

            """;
        var charter = Read(jobs).Charter!;
        // What is only watched there is not carried out, so the lab's machines are in the rest.
        Assert.Equal("curlew plover", string.Join(' ', charter.Placed.Named("home").Select(j => j.Machine)));
        Assert.Equal("heron", charter.Placed.Named("own").Single().Machine);
        Assert.Equal("/home/plover", charter.Placed.Find("home", "plover")!.Takes.Single());
        var grown = CharterYaml
            .Read((Head + Whole(jobs)).Replace("stores:", "  snipe: {}\nstores:", StringComparison.Ordinal), "heron")
            .Charter!;
        Assert.Equal("curlew plover snipe", string.Join(' ', grown.Placed.Named("home").Select(j => j.Machine)));
        Assert.Equal(["home"], grown.Placed.At("snipe").Select(j => j.Name));
    }

    private const string Layered = """
        jobs-like: everyone
        job-groups:
          everyone: { IS, retries: 2, fresh-within: 2 days, locks: [dock] }
          loggers: { when: daily at 23:00, retries: 5, run-limit: 2 hours, policy: many }
        jobs:
          hides: { like: loggers, takes: "/srv/{site}/{machine}", on: site = hides, run-limit: none, locks: none }
          register: { takes: /srv/register, into: shed, retries: 0 }
          sweep: { watched: yes, when: daily at 04:00, on: knot }
        variants:
          slow: { job: hides, on: tern-2, when: "daily at 05:00", retries: 9, fresh-within: none }

        """;

    [Fact]
    public void Values_come_from_the_uppermost_layer_that_says_them_and_each_says_where_it_is_from()
    {
        var reading = Read(Layered);
        Assert.Empty(reading.Mistakes);
        var placed = reading.Charter!.Placed;
        var (usual, slow, register) = (placed.Find("hides", "tern-1")!, placed.Find("hides", "tern-2")!, placed.Find("register", "heron")!);
        Assert.Equal(("daily at 23:00", 5, "many", "vault"), (usual.When!.ToSentence(), usual.Retries, usual.Policy, usual.Into.Single()));
        Assert.Null(usual.RunLimit);
        Assert.Empty(usual.Locks);
        Assert.Equal(("daily at 05:00", 9), (slow.When!.ToSentence(), slow.Retries));
        Assert.Null(slow.FreshWithin);
        Assert.Equal(("/srv/hides/tern-1", "/srv/hides/tern-2"), (usual.Takes.Single(), slow.Takes.Single()));
        Assert.Equal((0, "shed", new Span(2, SpanUnit.Days)), (register.Retries, register.Into.Single(), register.FreshWithin!.Value));
        Assert.Equal(["dock"], register.Locks.AsEnumerable());
        Assert.Equal(("group loggers", "charter"), (usual.From["retries"], usual.From["into"]));
        Assert.Equal(("variant slow", "group loggers"), (slow.From["retries"], slow.From["policy"]));
        Assert.False(usual.From.ContainsKey("takes") || slow.From.ContainsKey("takes") || register.From.ContainsKey("retries"));
        // What goes with copies means nothing to a job that is only watched, and is no mistake of it.
        Assert.Empty(placed.Find("sweep", "knot")!.Into);
    }

    [Fact]
    public void What_is_written_again_says_the_same_and_what_it_has_from_elsewhere_is_not_written_down()
    {
        var charter = Read(Layered).Charter!;
        var text = CharterWriter.Write(charter);
        var again = CharterYaml.Read(text, "heron").Charter!;
        Assert.Empty(CharterDiff.Compare(charter, again));
        Assert.Equal(charter.Placed.All.AsEnumerable(), again.Placed.All);
        Assert.Equal(text, CharterWriter.Write(again));
        var register = text[text.IndexOf("  register:", StringComparison.Ordinal)..];
        // The charter's group says two, so that it says none is no default; that it goes into the vault is not its own word.
        Assert.Contains("retries: 0", register[..register.IndexOf("  sweep:", StringComparison.Ordinal)]);
        Assert.DoesNotContain("policy", register[..register.IndexOf("  sweep:", StringComparison.Ordinal)]);
    }

    [Theory]
    [InlineData("jobs:\n  a: { takes: /a, IS, run-limit: none }", "nothing below says 'run-limit'", true)]
    [InlineData("jobs:\n  a: { takes: /a, IS, on: heron, except: knot }", "'except' goes with an expression", false)]
    [InlineData("jobs:\n  a: { takes: \"/a/{machin}\", IS }", "did you mean '{machine}'?", false)]
    [InlineData("jobs:\n  a: { takes: \"/a/{tag disk}\", IS, on: all }", "needs one tag of heron that begins with 'disk-'", false)]
    [InlineData("jobs:\n  a: { takes: \"/a/{site}\", IS, on: plover }", "needs the site of plover", false)]
    [InlineData("jobs:\n  a: { takes: \"/a/{\", IS }", "has a '{' without a '}'", false)]
    [InlineData(
        "jobs:\n  a: { watched: yes, when: daily at 01:00, on: all, leaves-copy-in: dumps, policy: few }",
        "put {machine} into",
        false
    )]
    [InlineData("machines:\n  rest: {}", "no machine can be called that", false)]
    [InlineData("job-groups:\n  g: { on: heron }", "unknown key 'on'", false)]
    [InlineData(
        "job-groups:\n  g: { retries: many }\njobs:\n  a: { like: g, takes: /a, IS }\n  b: { like: g, takes: /b, IS }",
        "'many' is not",
        false
    )]
    [InlineData(
        "jobs:\n  a: { takes: /a, IS, on: all }\n  b: { takes: /b, IS, after: a, on: [heron, snipe] }\nmachines:\n  snipe: {}",
        "",
        false
    )]
    [InlineData(
        "jobs:\n  a: { takes: /a, IS, on: heron, when: daily at 01:00 }\n  b: { takes: /b, IS, after: a, on: [heron, knot] }",
        "follows a, which is not on knot",
        false
    )]
    [InlineData(
        "jobs:\n  a: { takes: /a, IS, on: all }\nvariants:\n  x: { job: a, on: knot, note: v }\n  y: { job: a, on: name = k*, note: w }",
        "variant x says 'note' of job a on knot as well",
        false
    )]
    [InlineData("jobs:\n  a: { takes: /a, IS, on: all }\nvariants:\n  x: { job: a, on: rest, retries: 1 }", "not on the rest", false)]
    public void What_cannot_be_meant_is_a_mistake_that_is_told_once(string text, string says, bool inGroup)
    {
        var all =
            text.StartsWith("machines", StringComparison.Ordinal) || text.EndsWith("snipe: {}", StringComparison.Ordinal)
                ? CharterYaml.Read(
                    (
                        Head
                        + text.Replace("\nmachines:\n  snipe: {}", "", StringComparison.Ordinal)
                            .Replace("machines:\n  rest: {}", "", StringComparison.Ordinal)
                    ).Replace("stores:", $"  {(says.Length > 0 ? "rest" : "snipe")}: {{}}\nstores:", StringComparison.Ordinal),
                    "heron"
                )
                : Read((inGroup ? "job-groups:\n  g: { retries: 1 }\njobs-like: g\n" : "") + text);
        if (says.Length == 0)
            Assert.DoesNotContain(all.Mistakes, m => m.Message.Contains("is not on", StringComparison.Ordinal));
        else
            Assert.Single(all.Mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));
    }

    [Fact]
    public void A_brace_that_is_meant_is_written_twice_and_a_tag_gives_its_end()
    {
        var charter = Read("jobs:\n  a: { takes: [\"/mnt/{tag disk}/{machine}\", \"/a/{{machine}}\"], IS, on: [curlew, knot] }").Charter!;
        Assert.Equal(["/mnt/sdb/curlew", "/a/{machine}"], charter.Placed.Find("a", "curlew")!.Takes.AsEnumerable());
        Assert.Equal("/mnt/sdc/knot", charter.Placed.Find("a", "knot")!.Takes[0]);
    }

    [Fact]
    public void Flat_each_machine_has_a_job_of_its_own_and_what_is_on_one_keeps_its_name()
    {
        var charter = Read(
            "jobs:\n  a: { takes: \"/a/{machine}\", IS, on: tag lab, when: daily at 01:00 }\n"
                + "  b: { takes: /b, IS, after: a, on: tag lab }\n  c: { takes: /c, IS }"
        ).Charter!;
        var flat = charter.Flat();
        Assert.Equal(["a on curlew", "a on plover", "b on curlew", "b on plover", "c"], flat.Jobs.Keys);
        Assert.Equal(("a on plover", "/a/plover"), (flat.Jobs["b on plover"].After, flat.Jobs["a on plover"].Takes.Single()));
        Assert.Equal(["curlew", "plover", "curlew", "plover", "heron"], flat.Placed.All.Select(j => j.Machine));
        Assert.Equal("a on curlew", flat.HeadOf(flat.Placed.Find("b on curlew", "curlew")!).Name);
    }
}
