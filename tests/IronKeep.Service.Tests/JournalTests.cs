using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Tests;

/// <summary>
/// What an agent did on its own while the service was away, and what the service makes of it. The clock begins at 2026-11-23 09:00Z; London
/// is on UTC then.
/// </summary>
public sealed class JournalTests
{
    private static readonly DateTimeOffset Due = new(2026, 11, 23, 11, 0, 0, TimeSpan.Zero);

    private static async Task<(Bench, TestAgent)> StartAsync()
    {
        var bench = await MachineTests.StartAsync();
        Directory.CreateDirectory(bench.Root + "/disk");
        await bench.ApplyAsync(
            bench
                .Charter("daily at 11:00", more: "on: curlew")
                .Replace(
                    "stores:",
                    $"machines: {{ curlew: {{}}, plover: {{}} }}\nstores:\n  disk: {{ folder: {bench.Root}/disk, via: agent, on: curlew }}",
                    StringComparison.Ordinal
                )
                .Replace("into: cellar", "into: disk", StringComparison.Ordinal)
        );
        return (bench, await TestAgent.JoinedAsync(bench, "curlew"));
    }

    private static JournalEntry Entry(
        DateTimeOffset? due = null,
        Outcome outcome = Outcome.Ok,
        string job = "register",
        double seconds = 60.5
    ) =>
        new(
            Guid.NewGuid().ToString("n"),
            job,
            due ?? Due,
            (due ?? Due).AddMinutes(2),
            (due ?? Due).AddMinutes(3),
            seconds,
            outcome,
            null,
            "copy x in store disk",
            [],
            new CopyFigures(7, 70, 7, 0, 1, 0, 0, 0, 1, 0),
            [new CopyLine(LogSeverity.Info, "a line\nof it")]
        );

    private static Task SayAsync(Bench bench, TestAgent agent, params JournalEntry[] entries) =>
        agent.SayAsync<CopyReportAnswer>("journal", new JournalRequest(bench.Clock.Now, entries));

    private static async Task<List<string>> PlannedAsync(Bench bench)
    {
        await using var db = await bench.KeepAsync();
        return [.. (await db.PlannedRuns.OrderBy(p => p.Due).ToListAsync()).Select(p => $"{p.Due:dd HH:mm} {p.Outcome.Word() ?? "open"}")];
    }

    private static async Task<IReadOnlyList<RunAnswer>> RunsAsync(Bench bench) => (await bench.GetAsync<Page<RunAnswer>>("runs")).Items;

    [Fact]
    public async Task What_waited_for_the_machine_was_done_by_it()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        await bench.TickAsync("2026-11-23T11:05:00Z");
        Assert.Equal(["23 11:00 open"], await PlannedAsync(bench));
        await SayAsync(bench, curlew, Entry());
        Assert.Equal(["23 11:00 ok"], await PlannedAsync(bench));
        var run = Assert.Single(await RunsAsync(bench));
        Assert.Equal(
            (Outcome.Ok, "curlew on its own", Due.AddMinutes(2), 7, 60.5),
            (run.Outcome, run.By.Words, run.Began, (int)run.Figures.Items, run.Figures.ElapsedSeconds)
        );
        Assert.StartsWith("Curlew did this on its own while the service was not reached", run.Sentence);
        var log = await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log");
        Assert.Equal("a lineof it", Assert.Single(log.Lines).Text);
        // Its answer was lost: said again it changes nothing, and nothing is planned twice.
        await SayAsync(bench, curlew, Entry());
        await bench.TickAsync("2026-11-23T11:40:00Z");
        Assert.Single(await RunsAsync(bench));
        Assert.Equal(["23 11:00 ok"], await PlannedAsync(bench));
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task What_was_called_missed_is_set_right_and_made_up_for_no_more()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        await bench.TickAsync("2026-11-23T11:31:00Z");
        Assert.Equal(["23 11:00 missed"], await PlannedAsync(bench));
        Assert.Equal("queued", Assert.Single(await RunsAsync(bench)).State.Word());
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Missed);
        await SayAsync(bench, curlew, Entry());
        await bench.IdleAsync();
        Assert.Equal(["23 11:00 ok"], await PlannedAsync(bench));
        Assert.Equal(["ok", "not-needed"], (await RunsAsync(bench)).OrderByDescending(r => r.Id).Select(r => r.Outcome.Word()));
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Missed);
    }

    [Fact]
    public async Task What_became_due_while_the_service_was_off_is_looked_for_before_it_is_called_missed()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        await bench.TickAsync("2026-11-23T10:00:00Z");
        await bench.RestartAsync(() => bench.Clock.Now = new DateTimeOffset(2026, 11, 25, 9, 0, 0, TimeSpan.Zero));
        await bench.TickAsync("2026-11-25T09:01:00Z");
        Assert.Equal(["23 11:00 open", "24 11:00 open"], await PlannedAsync(bench));
        using var back = new TestAgent(bench, curlew.Key);
        await SayAsync(bench, back, Entry(), Entry(Due.AddDays(1), Outcome.Failed));
        Assert.Equal(["23 11:00 ok", "24 11:00 failed"], await PlannedAsync(bench));
        await bench.TickAsync("2026-11-25T09:11:00Z");
        Assert.Equal(2, (await RunsAsync(bench)).Count);
        // It was said before it was planned: the planned run finds it.
        await bench.RestartAsync(() => bench.Clock.Now = new DateTimeOffset(2026, 11, 26, 9, 0, 0, TimeSpan.Zero));
        using var again = new TestAgent(bench, curlew.Key);
        await SayAsync(bench, again, Entry(Due.AddDays(2)));
        await bench.TickAsync("2026-11-26T09:01:00Z");
        Assert.Equal("25 11:00 ok", (await PlannedAsync(bench))[^1]);
        // Nothing comes: after its time it is missed.
        await bench.RestartAsync(() => bench.Clock.Now = new DateTimeOffset(2026, 11, 27, 9, 0, 0, TimeSpan.Zero));
        await bench.TickAsync("2026-11-27T09:09:00Z");
        Assert.Equal("26 11:00 open", (await PlannedAsync(bench))[^1]);
        await bench.TickAsync("2026-11-27T09:10:01Z");
        Assert.Equal("26 11:00 missed", (await PlannedAsync(bench))[^1]);
    }

    /// <summary>
    /// The service was only just away: a run that waits for the machine to be heard of is not needed, and nothing is done twice.
    /// </summary>
    [Fact]
    public async Task A_run_that_was_queued_for_it_and_has_not_begun_is_not_needed()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        await bench.TickAsync("2026-11-23T10:59:00Z");
        await curlew.HelloAsync();
        await bench.RestartAsync(() => bench.Clock.Now = new DateTimeOffset(2026, 11, 23, 11, 1, 0, TimeSpan.Zero));
        await bench.TickAsync("2026-11-23T11:01:00Z");
        Assert.Equal(RunState.Queued, Assert.Single(await RunsAsync(bench)).State);
        using var back = new TestAgent(bench, curlew.Key);
        await SayAsync(bench, back, Entry() with { Began = Due, Ended = Due.AddSeconds(30), Seconds = 30 });
        await back.HelloAsync();
        await bench.IdleAsync();
        Assert.Equal(["23 11:00 ok"], await PlannedAsync(bench));
        Assert.Equal(["ok", "not-needed"], (await RunsAsync(bench)).OrderByDescending(r => r.Id).Select(r => r.Outcome.Word()));
    }

    /// <summary>It is believed of its own jobs, at times that can be, and no more.</summary>
    [Fact]
    public async Task What_is_made_up_stands_for_nothing()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.TickAsync("2026-11-23T11:05:00Z");
        await SayAsync(bench, plover, Entry());
        await SayAsync(bench, curlew, Entry(job: "none"), Entry(job: "../x"));
        Assert.Empty(await RunsAsync(bench));
        // At no due time, or at one to come: it ran, and stands for no planned run.
        await SayAsync(bench, curlew, Entry(Due.AddMinutes(1), seconds: -5), Entry(Due.AddDays(1), seconds: double.MaxValue));
        Assert.Equal(["23 11:00 open"], await PlannedAsync(bench));
        Assert.All(await RunsAsync(bench), r => Assert.True(r.Due is null && r.Ended <= bench.Clock.Now && r.Began <= bench.Clock.Now));
        var none = Entry() with { Copies = [.. Enumerable.Range(0, 21).Select(i => new CopyThere("disk", $"{i}"))] };
        await curlew.RefusedAsync("journal", new JournalRequest(bench.Clock.Now, [none]), HttpStatusCode.BadRequest);
        var long_ = Entry() with { Lines = [.. Enumerable.Range(0, 1001).Select(i => new CopyLine(LogSeverity.Info, "x"))] };
        await curlew.RefusedAsync("journal", new JournalRequest(bench.Clock.Now, [long_]), HttpStatusCode.BadRequest);
        // Its clock is hours ahead: what it says is an hour ago was an hour ago.
        var ahead = Entry() with { Began = bench.Clock.Now.AddHours(3).AddMinutes(-4), Outcome = Outcome.Missed };
        await curlew.SayAsync<CopyReportAnswer>("journal", new JournalRequest(bench.Clock.Now.AddHours(3), [ahead]));
        var run = (await RunsAsync(bench)).MaxBy(r => r.Id)!;
        Assert.Equal((bench.Clock.Now.AddMinutes(-4), Outcome.Failed, FailureClass.Unknown), (run.Began, run.Outcome, run.Failure));
        Assert.Equal(["23 11:00 failed"], await PlannedAsync(bench));
        Assert.Empty(await bench.CopiesAsync());
    }

    [Fact]
    public async Task An_agent_hears_what_it_does_on_its_own_once_and_again_when_it_changes()
    {
        var (bench, curlew) = await StartAsync();
        await using var _ = bench;
        using var _1 = curlew;
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        async Task<StandingOrders?> StandingAsync(TestAgent agent, string? mark)
        {
            // An answer comes at once when there is something to do.
            var orders = bench.Services.GetService(typeof(Service.Machines.StandingBook)) as Service.Machines.StandingBook;
            await agent.HelloAsync();
            return orders!.Of(agent == curlew ? "curlew" : "plover", mark);
        }
        Assert.Empty((await StandingAsync(plover, null))!.Orders);
        var standing = (await StandingAsync(curlew, null))!;
        var order = Assert.Single(standing.Orders);
        Assert.Equal(("register", 1800.0, 600.0), (order.Job, order.StartSeconds, order.WaitSeconds));
        Assert.Equal([Due.AddDays(-0), Due.AddDays(1)], order.Dues.Where(d => d > bench.Clock.Now).Take(2));
        Assert.InRange(order.Dues.Count, 13, 16);
        Assert.Equal((bench.Root + "/disk", "curlew"), (order.Copies[0].Local!.Folder, order.Copies[0].Local!.Machine));
        Assert.Null(await StandingAsync(curlew, standing.Mark));
        await bench.ApplyAsync(bench.Charter());
        Assert.Empty((await StandingAsync(curlew, standing.Mark))!.Orders);
    }
}
