using System.Net;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>
/// Whether every machine is protected. The clock begins at 2026-11-23 09:00Z; London is on UTC then. The service's machine is heron.
/// Source: docs/semantics.md, section 13 (Coverage).
/// </summary>
public sealed class CoverageTests
{
    private static string Charter(Bench bench, string machines = "", string more = "") =>
        $$"""
            charter: 1
            zone: Europe/London
            machines: { heron: { site: lighthouse }, curlew: { tags: lab }, knot: {}{{machines}} }
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
            policies:
              few: { keep: newest 2 }
            jobs:
              home: { on: "site = lighthouse", except: tag lab, takes: {{bench.Source}}, into: cellar, policy: few, fresh-within: 2 days }
            {{more}}
            """;

    private static async Task<Dictionary<string, string>> ClassesAsync(Bench bench)
    {
        var all = (await bench.GetAsync<MachinesAnswer>("machines")).Machines;
        var duty = (await bench.GetAsync<DutyAnswer>("duty")).Coverage;
        // Each machine is in one class, and the sums are those of the list.
        Assert.Equal(all.Count, duty.Classes.Values.Sum());
        foreach (var c in Enum.GetValues<Coverage>())
        {
            var word = Core.Quantities.Kebab.Of(c);
            var only = (await bench.GetAsync<MachinesAnswer>($"machines?coverage={word}")).Machines;
            Assert.Equal(all.Where(m => m.Coverage.Class == c).Select(m => m.Name), only.Select(m => m.Name));
            Assert.Equal(only.Count, duty.Classes[word]);
        }
        return all.ToDictionary(m => m.Name, m => Core.Quantities.Kebab.Of(m.Coverage.Class));
    }

    private static Dictionary<string, string> Are(params (string, string)[] all) => all.ToDictionary(a => a.Item1, a => a.Item2);

    [Fact]
    public async Task Every_machine_is_in_one_class_and_what_comes_into_a_bad_one_is_told_for_a_day()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(Charter(bench));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        Assert.Equal(Are(("curlew", "excepted"), ("heron", "late"), ("knot", "uncovered")), await ClassesAsync(bench));
        Assert.Equal("job home has no good copy yet", (await bench.GetAsync<MachineAnswer>("machines/heron")).Coverage.Why);
        Assert.Equal(["home"], (await bench.GetAsync<MachineAnswer>("machines/curlew")).ExceptedFrom);
        await bench.RunAsync("jobs/home/runs?on=heron");
        Assert.Equal("covered", (await ClassesAsync(bench))["heron"]);
        await bench.SendAsync<JsonElement>(
            HttpMethod.Put,
            "jobs/home/pause?on=heron",
            new PauseRequest("a new disk comes", new DateTimeOffset(2026, 11, 30, 9, 0, 0, TimeSpan.Zero))
        );
        Assert.Equal("paused", (await ClassesAsync(bench))["heron"]);
        Assert.Contains("by mira until 2026-11-30", (await bench.GetAsync<MachineAnswer>("machines/heron")).Coverage.Why);
        await bench.RawAsync(HttpMethod.Delete, "jobs/home/pause?on=heron");
        // A day later the first news are old, and the machine that failed meanwhile is new.
        await bench.TickAsync("2026-11-25T08:00:00Z");
        var news = (await bench.GetAsync<DutyAnswer>("duty")).Coverage;
        Assert.Empty(news.News);
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.RunAsync("jobs/home/runs?on=heron");
        await bench.TickAsync("2026-11-25T08:02:00Z");
        news = (await bench.GetAsync<DutyAnswer>("duty")).Coverage;
        var late = Assert.Single(news.News);
        Assert.Equal(
            ("heron", Coverage.Late, Coverage.Covered, "job home fails"),
            (late.Machine, late.Class, late.Before!.Value, late.Why)
        );
        Assert.Equal(new DateTimeOffset(2026, 11, 25, 8, 2, 0, TimeSpan.Zero), late.Since);
        // It is stale on top of it when its promise is over.
        await bench.TickAsync("2026-11-26T10:00:00Z");
        Assert.StartsWith("job home promises a copy within 2 days", (await bench.GetAsync<MachineAnswer>("machines/heron")).Coverage.Why);
    }

    [Fact]
    public async Task A_machine_that_an_expression_takes_later_is_told_and_one_with_which_the_job_began_is_not()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        Assert.Empty((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Taken);
        await bench.TickAsync("2026-11-24T10:00:00Z");
        await bench.ApplyAsync(Charter(bench, ", plover: { site: lighthouse }"));
        var taken = Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Taken);
        Assert.Equal(("home", "plover"), (taken.Job, taken.Machine));
        await bench.TickAsync("2026-11-25T10:00:01Z");
        Assert.Empty((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Taken);
    }

    [Fact]
    public async Task A_silent_machine_is_silent_until_it_is_heard_of_or_retired()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(Charter(bench, ", plover: { site: lighthouse, silent-after: 2 hours }"));
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.TickAsync("2026-11-23T12:00:00Z");
        Assert.Equal("silent", (await ClassesAsync(bench))["plover"]);
        Assert.Contains("not been heard of since 2026-11-23 09:00Z", (await bench.GetAsync<MachineAnswer>("machines/plover")).Coverage.Why);
        await plover.HelloAsync();
        await bench.TickAsync("2026-11-23T12:01:30Z");
        Assert.Equal("late", (await ClassesAsync(bench))["plover"]);
        await bench.TickAsync("2026-11-23T18:00:00Z");
        Assert.Equal("silent", (await ClassesAsync(bench))["plover"]);
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Silent);
        const string retired = "retired: 2026-11-23, copies-until: 2027-11-23, copies-owner: maud, decide-by: 2026-11-24";
        await bench.ApplyAsync(Charter(bench, $", plover: {{ site: lighthouse, silent-after: 2 hours, {retired} }}"));
        await bench.TickAsync("2026-11-23T18:02:00Z");
        Assert.Equal("retired", (await ClassesAsync(bench))["plover"]);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Silent);
    }

    [Fact]
    public async Task A_retired_machines_copies_stay_and_somebody_is_asked_in_time()
    {
        await using var bench = await Bench.StartAsync();
        var charter = Charter(bench, ", plover: { site: lighthouse }").Replace("newest 2", "newest 1", StringComparison.Ordinal);
        await bench.ApplyAsync(charter);
        await using (var db = await bench.KeepAsync())
        {
            db.Copies.AddRange(Enumerable.Range(1, 3).Select(i => OfPlover($"c{i}", i)));
            await db.SaveChangesAsync();
        }
        var retired = charter.Replace(
            "plover: { site: lighthouse }",
            "plover: { site: lighthouse, retired: 2026-11-23, copies-until: 2026-12-24, copies-owner: maud, decide-by: 2026-12-01 }",
            StringComparison.Ordinal
        );
        var refused = await bench.RawAsync(HttpMethod.Put, "charter", new CharterText(retired));
        Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
        var said = JsonDocument.Parse(await refused.Content.ReadAsStringAsync()).RootElement.GetProperty("consequences");
        // One sentence for the machine, none for each of its jobs.
        Assert.Equal(
            "machine plover is retired: its 3 copies stay until 2026-12-24, and maud says by 2026-12-01 what becomes of them",
            Assert.Single(said.EnumerateArray().Select(s => s.GetString()))
        );
        await bench.SendAsync<CharterDiffAnswer>(HttpMethod.Put, "charter?confirm=true", new CharterText(retired));
        Assert.Equal(3, (await bench.GetAsync<List<CopyCountAnswer>>("copies/counts?machine=plover")).Single().Count);
        // No plan of anybody's lets one of them go.
        var plan = await bench.RawAsync(HttpMethod.Post, "jobs/home/prune-plans?on=plover");
        Assert.Equal(HttpStatusCode.NotFound, plan.StatusCode);
        Assert.Empty((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Decisions);
        await bench.TickAsync("2026-12-01T09:00:00Z");
        var due = Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Decisions);
        Assert.Equal(
            ("plover", "maud", "2026-12-01", "2026-12-24", false),
            (due.Machine, due.CopiesOwner, due.DecideBy, due.CopiesUntil, due.Over)
        );
        await bench.TickAsync("2026-12-25T09:00:00Z");
        Assert.True(Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Coverage.Decisions).Over);
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_machine_that_comes_with_anothers_key_is_asked_about(bool renamed)
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        var join = new JoinRequest(await TestAgent.SecretAsync(bench, "whimbrel"), curlew.Self());
        Assert.Contains("key is that of machine curlew", await curlew.RefusedAsync("join", join));
        var asked = Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Coverage.CameBack);
        Assert.Equal(("curlew", "whimbrel"), (asked.Machine, asked.CameAs));
        Assert.Equal("whimbrel", (await bench.GetAsync<MachineAnswer>("machines/curlew")).CameAs);
        var settled = await bench.RawAsync(HttpMethod.Post, "machines/curlew/came-back", new CameBackRequest(renamed));
        Assert.Equal(HttpStatusCode.NoContent, settled.StatusCode);
        Assert.Empty((await bench.GetAsync<DutyAnswer>("duty")).Coverage.CameBack);
        var again = await bench.RawAsync(HttpMethod.Post, "machines/curlew/came-back", new CameBackRequest(renamed));
        Assert.Equal(HttpStatusCode.Conflict, again.StatusCode);
        var known = await bench.GetAsync<MachinesAnswer>("machines");
        if (renamed)
        {
            // The same key speaks for the new name alone, and the code is still good.
            Assert.Equal("whimbrel", (await curlew.SayAsync<AgentAnswer>("hello", curlew.Self())).Machine);
            Assert.Equal("whimbrel", (await curlew.SayAsync<AgentAnswer>("join", join)).Machine);
            Assert.Equal(AgentState.None, known.Machines.Single(m => m.Name == "curlew").State);
        }
        else
        {
            Assert.Equal("curlew", (await curlew.SayAsync<AgentAnswer>("hello", curlew.Self())).Machine);
            Assert.Contains("key is that of machine curlew", await curlew.RefusedAsync("join", join));
        }
    }

    private static Copy OfPlover(string id, int day) =>
        new()
        {
            Id = id,
            Origin = id,
            Store = "cellar",
            Job = "home",
            Machine = "plover",
            Taken = Instant.FromUtc(2026, 11, day, 3, 0),
            Ended = Instant.FromUtc(2026, 11, day, 3, 1),
            State = CopyState.Sound,
        };
}
