using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Service.Timetable;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>What is told of services that jobs watch, here and on other machines. The clock begins at 2026-11-23 09:00Z.</summary>
public sealed class DownServiceTests
{
    private const string Steps = """

        steps:
          register-up: { command: [sh, -c, "test -e ROOT/up"] }
          start-register: { command: [sh, -c, "touch ROOT/up; echo once >> ROOT/trace"] }
        """;

    private static string Watching(Bench bench, string more) =>
        bench.Charter("daily at 23:00", more: "watches-service: register-up\n    starts-service: start-register\n    " + more)
        + Steps.Replace("ROOT", bench.Root, StringComparison.Ordinal);

    [Fact]
    public async Task An_agent_hears_what_to_keep_up_and_what_it_says_is_told_until_it_is_well_for_an_hour()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(
            Watching(bench, "on: curlew\n    starts-at-most: 2 in 30 minutes")
                .Replace("stores:", "machines: { curlew: {} }\nstores:", StringComparison.Ordinal)
        );
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        var keeps = Assert.Single((await OrdersAsync(bench, curlew)).KeepsUp!);
        Assert.Equal(
            ("register", "register-up", "start-register", 2, 1800.0),
            (keeps.Job, keeps.Up.Name, keeps.Start.Name, keeps.Times, keeps.WithinSeconds)
        );
        await SayAsync(bench, curlew, "2026-11-23T10:00:00Z", null);
        Assert.Empty(await bench.OpenAlertsAsync());
        var began = DateTimeOffset.Parse("2026-11-23T09:58:00Z", System.Globalization.CultureInfo.InvariantCulture);
        await SayAsync(bench, curlew, "2026-11-23T10:01:30Z", new ServiceStanding("register", true, began, [began]));
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Down, "register", "curlew", 1), (alert.Class, alert.Subject.Job, alert.Subject.Machine, alert.Count));
        Assert.Contains("was down on curlew and was started again 2026-11-23 09:58Z", alert.Message);
        await SayAsync(bench, curlew, "2026-11-23T10:05:00Z", new ServiceStanding("register", false, began, [began], "it is down\nagain"));
        alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Contains("is down on curlew since 2026-11-23 09:58Z: it is down", alert.Message);
        Assert.DoesNotContain("\n", alert.Message);
        // While the machine is not heard of nothing new is known; then it is up, and has been for an hour.
        await bench.TickAsync("2026-11-23T11:30:00Z");
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Down);
        await SayAsync(bench, curlew, "2026-11-23T11:31:30Z", new ServiceStanding("register", true, began, [began]));
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Down);
        Assert.Equal(true, Assert.Single((await bench.GetAsync<MachineAnswer>("machines/curlew")).Services).Up);
        // What a machine says of jobs that are not its own is nobody's matter.
        await SayAsync(bench, curlew, "2026-11-23T11:33:00Z", new ServiceStanding("another", false, began, []));
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Down);
        await SayAsync(bench, curlew, "2026-11-23T11:35:00Z", new ServiceStanding("register", null, began, [], "is not allowed"));
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Message.Contains("cannot be told: is not allowed", StringComparison.Ordinal));
        // A job that watches nothing any more has nothing to be told.
        await bench.ApplyAsync(bench.Charter());
        await bench.TickAsync("2026-11-23T11:37:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Down);
    }

    [Fact]
    public async Task A_service_of_the_own_machine_is_started_again_as_the_machine_allows()
    {
        await using var bench = await Bench.StartAsync();
        var allows = bench.Root + "/agent.yaml";
        await File.WriteAllTextAsync(allows, "allows: { any: { command: [sh, -c, '*'] } }\n");
        bench.More = [$"--IronKeep:AllowedCommands={allows}"];
        await bench.RestartAsync();
        await bench.ApplyAsync(Watching(bench, "locks: [a]"));
        for (var tries = 0; !File.Exists(bench.Root + "/trace"); tries++)
        {
            Assert.True(tries < 300, "it was not started");
            await Task.Delay(50);
        }
        for (var tries = 0; !(await bench.OpenAlertsAsync()).Any(a => a.Class == AlertClass.Down); tries++)
        {
            Assert.True(tries < 300, "it was not told");
            bench.Clock.Now = bench.Clock.Now.AddSeconds(61);
            await bench.Services.GetRequiredService<ClockLoop>().TickAsync();
        }
        Assert.Contains("was started again", (await bench.OpenAlertsAsync()).Single(a => a.Class == AlertClass.Down).Message);
        Assert.Equal("once\n", await File.ReadAllTextAsync(bench.Root + "/trace"));
    }

    private static async Task<OrdersAnswer> OrdersAsync(Bench bench, TestAgent agent)
    {
        // An answer comes at once when there is an order.
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        var answer = await agent.SayAsync<OrdersAnswer>("orders", agent.Self());
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{answer.Orders[0].Run}/cancel");
        await bench.IdleAsync();
        return answer;
    }

    private static async Task SayAsync(Bench bench, TestAgent agent, string utc, ServiceStanding? standing)
    {
        bench.Clock.Now = DateTimeOffset.Parse(utc, System.Globalization.CultureInfo.InvariantCulture);
        agent.Services = standing is null ? null : [standing];
        await agent.HelloAsync();
        await bench.TickAsync(utc);
    }
}
