using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>
/// What becomes of runs while their machine is away or does not give what they need. The clock begins at 2026-11-23 09:00Z; London is on
/// UTC then.
/// </summary>
public sealed class AwayMachineTests
{
    private static string OnCurlew(Bench bench, string more = "", string machine = "") =>
        bench
            .Charter("daily at 11:00", more: "on: curlew" + more)
            .Replace("stores:", $"machines: {{ curlew: {{ {machine} }} }}\nstores:", StringComparison.Ordinal);

    private static async Task<List<string>> PlannedAsync(Bench bench)
    {
        await using var db = await bench.KeepAsync();
        return [.. (await db.PlannedRuns.OrderBy(p => p.Due).ToListAsync()).Select(p => $"{p.Outcome.Word() ?? "open"}: {p.Reason}")];
    }

    private static async Task<RunAnswer> LastRunAsync(Bench bench) => (await bench.GetAsync<Page<RunAnswer>>("runs")).Items[0];

    /// <summary>A machine that comes back has an order within the next looks.</summary>
    private static async Task<CopyOrder> OrderAsync(TestAgent agent)
    {
        for (var tries = 0; ; tries++)
        {
            if ((await agent.SayAsync<OrdersAnswer>("orders", agent.Self())).Orders is [var order])
                return order;
            Assert.True(tries < 5);
        }
    }

    [Fact]
    public async Task A_machine_that_is_away_is_waited_for_then_missed_and_made_up_for_when_it_is_back()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        Assert.False((await bench.GetAsync<MachineAnswer>("machines/curlew")).Away);
        await bench.TickAsync("2026-11-23T11:00:30Z");
        Assert.True((await bench.GetAsync<MachineAnswer>("machines/curlew")).Away);
        Assert.Equal(["open: waits: curlew was last heard of 2026-11-23 09:00Z"], await PlannedAsync(bench));
        await bench.TickAsync("2026-11-23T11:30:00Z");
        Assert.StartsWith("open", Assert.Single(await PlannedAsync(bench)));
        await bench.TickAsync("2026-11-23T11:30:01Z");
        Assert.Equal(["missed: not started within 30 minutes: curlew was last heard of 2026-11-23 09:00Z"], await PlannedAsync(bench));
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Contains("curlew was last heard of", alert.Message);
        Assert.Contains("See that curlew is on", alert.Remedy);
        // What makes up for it waits as long as the machine is away.
        var catchUp = await LastRunAsync(bench);
        await bench.TickAsync("2026-11-23T20:00:00Z");
        catchUp = await bench.GetAsync<RunAnswer>($"runs/{catchUp.Id}");
        Assert.Equal((RunState.Queued, "curlew, which was last heard of 2026-11-23 09:00Z"), (catchUp.State, catchUp.WaitsFor));
        // Back, but only just woken: it has its ten minutes.
        curlew.Stands = new MachineState(AwakeSeconds: 599);
        await curlew.HelloAsync();
        await bench.TickAsync("2026-11-23T20:00:02Z");
        await Until(async () =>
            (await bench.GetAsync<RunAnswer>($"runs/{catchUp.Id}")).WaitsFor == "curlew, which has not been awake for 10 minutes yet"
        );
        curlew.Stands = new MachineState(AwakeSeconds: 600);
        await curlew.HelloAsync();
        Assert.Equal(catchUp.Id, (await OrderAsync(curlew)).Run);
    }

    /// <summary>What was asked for by hand waits as long as a planned run would, and then says what is wrong.</summary>
    [Fact]
    public async Task A_run_by_hand_waits_for_its_machine_for_a_while()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench, "\n    needs: mains power"));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(10);
        var waits = await bench.RunAsync("jobs/register/runs");
        Assert.Equal(RunState.Queued, waits.State);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(29);
        await bench.IdleAsync();
        Assert.Equal(RunState.Queued, (await bench.GetAsync<RunAnswer>($"runs/{waits.Id}")).State);
        // A person does not wait for what a job needs when it begins by itself.
        curlew.Stands = new MachineState(OnMains: false);
        Assert.Equal(waits.Id, (await OrderAsync(curlew)).Run);
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{waits.Id}/cancel");
        await bench.IdleAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(10);
        waits = await bench.RunAsync("jobs/register/runs");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(30).AddSeconds(1);
        await Until(async () => (await bench.GetAsync<RunAnswer>($"runs/{waits.Id}")).State == RunState.Ended);
        var ended = await bench.GetAsync<RunAnswer>($"runs/{waits.Id}");
        Assert.Equal((Outcome.Failed, FailureClass.MachineAway), (ended.Outcome, ended.Failure));
        Assert.Contains("did not come for it within 30 minutes", ended.Sentence);
    }

    [Fact]
    public async Task A_job_begins_by_itself_when_its_machine_gives_what_it_needs_or_is_missed()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench, "\n    needs: [mains power, 5 GB free at /srv]"));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        curlew.Stands = new MachineState(OnMains: false);
        await TickWithAsync(bench, curlew, "2026-11-23T11:00:30Z");
        Assert.Equal(["open: waits: curlew runs on battery"], await PlannedAsync(bench));
        curlew.Stands = new MachineState(OnMains: true, Rooms: [new("/", 1)]);
        await TickWithAsync(bench, curlew, "2026-11-23T11:10:00Z");
        Assert.Equal(["open: waits: curlew has less than 5 GB free at /srv"], await PlannedAsync(bench));
        await TickWithAsync(bench, curlew, "2026-11-23T11:30:01Z");
        Assert.Equal(["missed: not started within 30 minutes: curlew has less than 5 GB free at /srv"], await PlannedAsync(bench));
        // Its catch-up run needs the same.
        await TickWithAsync(bench, curlew, "2026-11-23T12:00:00Z");
        await Until(async () => (await LastRunAsync(bench)).WaitsFor == "curlew, which has less than 5 GB free at /srv");
        curlew.Stands = curlew.Stands with { Rooms = [new("/", 1), new("/srv", 5_000_000_000)] };
        Assert.Equal("register", (await OrderAsync(curlew)).Job);
    }

    [Fact]
    public async Task A_job_of_the_services_own_machine_needs_the_same()
    {
        await using var bench = await Bench.StartAsync();
        MachineState state = new(OnMains: false);
        bench.Change = b => b.Services.AddSingleton(new IronKeep.Runs.Surroundings.MachineStanding(() => state, bench.Clock));
        await bench.RestartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 11:00", more: "needs: mains power"));
        await bench.TickAsync("2026-11-23T11:00:30Z");
        await Until(async () =>
        {
            await bench.TickAsync("2026-11-23T11:00:40Z");
            return await PlannedAsync(bench) is ["open: waits: heron runs on battery"];
        });
        state = new(OnMains: true);
        await Until(async () =>
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(31);
            await bench.Services.GetRequiredService<ClockLoop>().TickAsync();
            await bench.IdleAsync();
            return (await PlannedAsync(bench))[0].StartsWith("ok", StringComparison.Ordinal);
        });
    }

    /// <summary>The silence of an agent is told once, at its machine's own time, until it is heard of again or shut out.</summary>
    [Fact]
    public async Task A_silent_agent_is_told_of_until_it_is_heard_of_again()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench, machine: "silent-after: 4 hours").Replace("when: daily at 11:00", "when: daily at 08:00"));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.TickAsync("2026-11-23T13:00:00Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        await bench.TickAsync("2026-11-23T13:01:01Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Silent, "curlew"), (alert.Class, alert.Subject.Machine));
        Assert.Contains("has not been heard of since 2026-11-23 09:00Z", alert.Message);
        await bench.TickAsync("2026-11-23T14:00:00Z");
        Assert.Equal(1, Assert.Single(await bench.OpenAlertsAsync()).Count);
        await curlew.HelloAsync();
        await bench.TickAsync("2026-11-23T14:01:30Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        // One that the charter does not name has a day.
        await bench.TickAsync("2026-11-24T07:59:00Z");
        await curlew.HelloAsync();
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Subject.Machine == "plover");
        await bench.TickAsync("2026-11-24T09:01:30Z");
        Assert.Contains(await bench.OpenAlertsAsync(), a => a is { Class: AlertClass.Silent, Subject.Machine: "plover" });
        await bench.SendAsync<MachineAnswer>(HttpMethod.Post, "machines/plover/shut-out", new ShutOutRequest("sold"));
        await bench.TickAsync("2026-11-24T09:03:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Subject.Machine == "plover");
    }

    [Fact]
    public async Task An_agent_hears_when_its_jobs_are_due_and_what_it_says_of_itself_is_bounded()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        curlew.Stands = new MachineState(
            IdleSeconds: -1,
            AwakeSeconds: 1e300,
            Networks: [.. Enumerable.Range(0, 1000).Select(n => new string('n', 300) + "\r\n\u001b[31m" + n)],
            Rooms: [.. Enumerable.Range(0, 1000).Select(n => new RoomAt("/m" + n, n - 1))]
        );
        var run = bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        var answer = await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self());
        await run;
        Assert.Equal([new NextDue("register", bench.Clock.Now.AddHours(2))], answer.Next);
        var stands = (await bench.GetAsync<MachineAnswer>("machines/curlew")).Stands!;
        Assert.Equal(
            (null, MachineState.MostNetworks, MachineState.MostRooms),
            (stands.IdleSeconds, stands.Networks!.Count, stands.Rooms!.Count)
        );
        Assert.All(stands.Networks, n => Assert.True(n.Length <= 200 && n.All(c => !char.IsControl(c))));
        Assert.DoesNotContain(stands.Rooms, r => r.Free < 0);
    }

    private static async Task TickWithAsync(Bench bench, TestAgent agent, string utc)
    {
        bench.Clock.Now = DateTimeOffset.Parse(utc, System.Globalization.CultureInfo.InvariantCulture);
        await agent.HelloAsync();
        await bench.TickAsync(utc);
    }

    private static async Task Until(Func<Task<bool>> holds)
    {
        for (var tries = 0; !await holds(); tries++)
        {
            Assert.True(tries < 300, "it did not become so");
            await Task.Delay(50);
        }
    }
}
