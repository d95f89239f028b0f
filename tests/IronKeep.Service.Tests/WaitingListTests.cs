using IronKeep.Contracts;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

/// <summary>What waits, for what, and what is run again where it failed. The clock begins at 2026-11-23 09:00Z.</summary>
public sealed class WaitingListTests
{
    private static string Charter(Bench bench) =>
        $$"""
            charter: 1
            zone: UTC
            machines: { heron: {}, curlew: { site: hides, importance: 5 }, plover: { site: hides } }
            lines: { ferry-link: { machines: site = hides, runs-at-once: 1 } }
            stores: { cellar: { folder: {{bench.StoreFolder}} } }
            policies: { few: { keep: newest 2 } }
            jobs:
              home: { on: all, takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 11:00 }
            """;

    private static Task<WaitingAnswer> WaitingAsync(Bench bench) => bench.GetAsync<WaitingAnswer>("runs/waiting");

    [Fact]
    public async Task Each_run_that_waits_says_for_what_and_about_when_it_begins()
    {
        await using var bench = await MachineTests.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(Charter(bench));
        Assert.Equal((0, 0), (await WaitingAsync(bench) is var none ? (none.AtWork, none.Count) : default));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/home/runs?on=plover");
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/home/runs?on=curlew");
        WaitingAnswer waiting = null!;
        await Until(async () => (waiting = await WaitingAsync(bench)) is { AtWork: 1, Runs: [{ WaitsFor: not "its turn" }] });
        var run = Assert.Single(waiting.Runs);
        Assert.Equal(
            ("home", "curlew", "line ferry-link, which has a ceiling of 1", 5),
            (run.Job, run.Machine, run.WaitsFor, run.Importance)
        );
        // Nothing is known of how long plover's run takes, so the usual five minutes are assumed.
        Assert.Equal(bench.Clock.Now.AddMinutes(5), run.AboutAt!.Value, TimeSpan.FromMinutes(1));
    }

    [Fact]
    public async Task A_run_whose_machine_is_away_waits_for_it_and_nobody_knows_how_long()
    {
        await using var bench = await MachineTests.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(Charter(bench).Replace("on: all", "on: plover", StringComparison.Ordinal));
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.TickAsync("2026-11-23T10:59:00Z");
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/home/runs");
        WaitingAnswer waiting = null!;
        await Until(async () => (waiting = await WaitingAsync(bench)).Runs is [{ WaitsFor: not "its turn" }]);
        Assert.Equal(("plover, which was last heard of 2026-11-23 09:00Z", null), (waiting.Runs[0].WaitsFor, waiting.Runs[0].AboutAt));
    }

    [Fact]
    public async Task What_failed_on_some_machines_is_run_again_there_and_nowhere_else()
    {
        await using var bench = await MachineTests.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(Charter(bench).Replace("when: daily at 11:00", "retries: 0", StringComparison.Ordinal));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.RunAsync("jobs/home/runs?on=heron");
        foreach (var (agent, machine) in new[] { (curlew, "curlew"), (plover, "plover") })
        {
            await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"jobs/home/runs?on={machine}");
            await FailAsync(agent);
            await bench.IdleAsync();
        }
        var again = await bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, "jobs/home/reruns");
        Assert.Equal(["curlew", "plover"], again.Runs.Select(r => r.Machine).Order());
        Assert.Empty(again.Refused);
        // One after the other: they share a line that carries one run.
        await FailAsync(curlew);
        await FailAsync(plover);
        await bench.IdleAsync();
        var one = await bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, "jobs/home/reruns?on=plover&settings=then");
        Assert.Equal(["plover"], one.Runs.Select(r => r.Machine));
        await FailAsync(plover);
        await bench.IdleAsync();
        var none = await bench.RawAsync(HttpMethod.Post, "jobs/home/reruns?on=heron");
        Assert.Equal(System.Net.HttpStatusCode.Conflict, none.StatusCode);
        Assert.Equal(System.Net.HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Post, "jobs/hom/reruns")).StatusCode);
    }

    /// <summary>The machine takes its order, and says that its data cannot be read.</summary>
    private static async Task FailAsync(TestAgent agent)
    {
        CopyOrder? order = null;
        await Until(async () =>
        {
            order = (await agent.SayAsync<OrdersAnswer>("orders", agent.Self())).Orders is [var first, ..] ? first : null;
            return order is not null;
        });
        var report = new CopyReportRequest(new CopyFigures(0, 0, 0, 0, 0, 0, 0, 0, 0, 0), 0, []);
        await agent.SayAsync<CopyBeginAnswer>($"copies/{order!.Token}/begin", new CopyBeginRequest([]));
        await agent.SayAsync<CopyReportAnswer>(
            $"copies/{order.Token}/fail",
            new CopyFailRequest(report, FailureClass.SourceUnreadable, "the disk is gone")
        );
    }

    private static async Task Until(Func<Task<bool>> holds)
    {
        for (var tries = 0; !await holds(); tries++)
        {
            Assert.True(tries < 300);
            await Task.Delay(100);
        }
    }
}
