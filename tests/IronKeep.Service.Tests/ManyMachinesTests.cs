using System.Net;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Tests;

/// <summary>
/// One definition on several machines. The clock begins at 2026-11-23 09:00Z; London is on UTC then. The service's machine is heron.
/// </summary>
public sealed class ManyMachinesTests
{
    private static async Task<string> RefusedAsync(Bench bench, HttpMethod method, string path, HttpStatusCode status, object? body = null)
    {
        var answer = await bench.RawAsync(method, path, body);
        Assert.Equal(status, answer.StatusCode);
        return JsonDocument.Parse(await answer.Content.ReadAsStringAsync()).RootElement.GetProperty("detail").GetString()!;
    }

    [Fact]
    public async Task A_definition_is_planned_heard_of_and_missed_on_each_machine_and_a_new_one_is_taken_from_its_next_run_on()
    {
        await using var bench = await Bench.StartAsync();
        static string Yaml(string more = "") =>
            $$"""
                charter: 1
                zone: Europe/London
                machines: { tern-1: { site: hides }, tern-2: { site: hides }, knot: {}{{more}} }
                jobs:
                  tide: { watched: yes, on: site = hides, when: "daily at 11:00", start-limit: 30 minutes }
                """;
        await bench.ApplyAsync(Yaml());
        await bench.TickAsync("2026-11-23T11:00:30Z");
        var well = new CheckInRequest(CheckInState.Ended, 0);
        Assert.Contains(
            "on several machines: tern-1 and tern-2",
            await RefusedAsync(bench, HttpMethod.Post, "jobs/tide/check-ins", HttpStatusCode.BadRequest, well)
        );
        Assert.Contains(
            "is not on machine 'knot'",
            await RefusedAsync(bench, HttpMethod.Post, "jobs/tide/check-ins?on=knot", HttpStatusCode.NotFound, well)
        );
        Assert.Equal(Outcome.Ok, (await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/tide/check-ins?on=tern-1", well)).Outcome);
        await bench.TickAsync("2026-11-23T11:31:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Missed, "tide", "tern-2"), (alert.Class, alert.Subject.Job, alert.Subject.Machine));
        await bench.ApplyAsync(Yaml(", tern-3: { site: hides }"));
        await bench.TickAsync("2026-11-24T11:00:30Z");
        await using (var db = await bench.KeepAsync())
            Assert.Equal(
                ["tern-1 23", "tern-2 23", "tern-1 24", "tern-2 24", "tern-3 24"],
                (await db.PlannedRuns.OrderBy(p => p.Due).ThenBy(p => p.Machine).ToListAsync()).Select(p =>
                    $"{p.Machine} {p.Due.ToDateTimeUtc().Day}"
                )
            );
        // One that leaves is not planned any more, and what was open there is over.
        await bench.ApplyAsync(Yaml().Replace("tern-2: { site: hides }", "tern-2: {}", StringComparison.Ordinal));
        await bench.TickAsync("2026-11-25T11:00:30Z");
        await using (var db = await bench.KeepAsync())
            Assert.Equal("tern-1", Assert.Single(await db.PlannedRuns.Where(p => p.Outcome == null).ToListAsync()).Machine);
    }

    [Fact]
    public async Task The_machine_of_the_service_is_renamed_in_the_charter_too()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("heron/register.txt", "heron's");
        bench.Write("egret/register.txt", "egret's");
        await bench.ApplyAsync(Home(bench));
        await bench.RunAsync("jobs/home/runs?on=heron");
        Assert.Contains(
            "declares a machine 'curlew' already",
            await RefusedAsync(bench, HttpMethod.Post, "service/rename-machine", HttpStatusCode.Conflict, new RenameRequest("curlew"))
        );
        await bench.SendAsync<RenameAnswer>(HttpMethod.Post, "service/rename-machine", new RenameRequest("egret"));
        Assert.Equal(["curlew", "egret"], (await bench.GetAsync<List<JobAnswer>>("jobs")).Select(j => j.Machine));
        var charter = await bench.GetAsync<CharterAnswer>("charter");
        Assert.DoesNotContain("heron:", charter.Yaml);
        Assert.Equal((2L, "mira"), (charter.Revision, charter.By));
        // What the variant says of it holds, and its runs go on there.
        Assert.Contains((await bench.GetAsync<JobAnswer>("jobs/home?on=egret")).Values!, v =>
            v is { Key: "retries", From: "variant here" }
        );
        Assert.Equal(Outcome.Ok, (await bench.RunAsync("jobs/home/runs?on=egret")).Outcome);
        bench.Machine = "egret";
        await bench.RestartAsync();
        Assert.Equal(2, (await bench.GetAsync<JobAnswer>("jobs/home?on=egret")).Copies);
    }

    private static string Home(Bench bench, string on = "site = lighthouse") =>
        $$"""
            charter: 1
            zone: Europe/London
            machines: { heron: { site: lighthouse, importance: 5 }, curlew: { site: lighthouse } }
            stores:
              cellar: { folder: {{bench.StoreFolder}}, bin: 2 days }
            policies:
              few: { keep: newest 2 }
            job-groups:
              base: { into: cellar, policy: few, fresh-within: 2 days, retries: 3, prune: after-success }
            jobs:
              home: { like: base, on: "{{on}}", takes: "{{bench.Source}}/{machine}", when: daily at 23:00 }
            variants:
              here: { job: home, on: heron, retries: 1 }
            """;

    [Fact]
    public async Task Each_machine_has_its_own_values_runs_copies_and_plans_and_each_value_says_where_it_is_from()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("heron/register.txt", "heron's");
        await bench.ApplyAsync(Home(bench));
        var run = await bench.RunAsync("jobs/home/runs?on=heron");
        Assert.Equal((Outcome.Ok, "heron", 1L), (run.Outcome!.Value, run.Machine, run.Figures.Items));
        Assert.Equal(("home", "heron"), Assert.Single((await bench.CopiesAsync()).Select(c => (c.Job, c.Machine))));

        Assert.Equal(["curlew 0", "heron 1"], (await bench.GetAsync<List<JobAnswer>>("jobs")).Select(j => $"{j.Machine} {j.Copies}"));
        Assert.Contains("several machines", await RefusedAsync(bench, HttpMethod.Get, "jobs/home", HttpStatusCode.BadRequest));
        var here = await bench.GetAsync<JobAnswer>("jobs/home?on=heron");
        Assert.Equal(($"{bench.Source}/heron", 1, "site = lighthouse"), (here.Takes.Single(), here.Copies, here.OnSeveral));
        string Of(JobAnswer job, string key) => job.Values!.Single(v => v.Key == key) is var v ? $"{v.Text} ({v.From})" : "";
        Assert.Equal(
            ["1 (variant here)", "cellar (group base)", "5 (machine)"],
            new[] { "retries", "into", "importance" }.Select(k => Of(here, k))
        );
        var there = await bench.GetAsync<JobAnswer>("jobs/home?on=curlew");
        Assert.Equal(
            ["3 (group base)", "3 (usual)", "daily at 23:00 (job)"],
            new[] { "retries", "importance", "when" }.Select(k => Of(there, k))
        );
        Assert.Null(there.NewestGoodCopy);

        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/home/prune-plans?on=heron");
        Assert.Equal(("heron", 1), (plan.Machine, plan.Copies.Count));
        for (var more = 0; more < 2; more++)
        {
            bench.Write("heron/register.txt", $"heron's, {more}");
            await bench.RunAsync("jobs/home/runs?on=heron");
        }
        for (var tries = 0; ; tries++)
        {
            if ((await bench.GetAsync<Page<RunAnswer>>("runs?kind=prune")).Items is [{ Outcome: Outcome.Ok } prune])
            {
                Assert.Equal(("home", "heron"), (prune.Job, prune.Machine));
                break;
            }
            Assert.True(tries < 600, "nothing was pruned after a success");
            await Task.Delay(100);
        }
        Assert.Equal(2, (await bench.GetAsync<DutyAnswer>("duty")).Board.Count);
        var forecast = await bench.SendAsync<JsonElement>(HttpMethod.Post, "forecast", new ForecastRequest(Days: 3));
        Assert.Contains("home on heron", forecast.ToString());
        // The machine that is not there any more leaves its copies without a policy, and that is said first.
        Assert.Contains(
            "job home on heron is not on heron any more, and its ",
            await RefusedAsync(bench, HttpMethod.Put, "charter", HttpStatusCode.Conflict, new CharterText(Home(bench, "curlew")))
        );
    }
}
