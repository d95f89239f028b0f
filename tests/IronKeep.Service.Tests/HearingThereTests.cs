using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Hearing;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>
/// Watched jobs that the agent of their machine hears of, and an agent that lies about it. The clock begins at 2026-11-23 09:00Z.
/// </summary>
public sealed class HearingThereTests
{
    private static async Task<Bench> StartAsync(string when = "daily at 10:00")
    {
        var bench = await MachineTests.StartAsync();
        await ApplyAsync(bench, when);
        return bench;
    }

    private static Task ApplyAsync(Bench bench, string when) =>
        bench.ApplyAsync(
            $$"""
            charter: 1
            zone: UTC
            machines: { curlew: {}, plover: {} }
            log-rules:
              tide: { begins: "tide copy started {time}", ends: "tide copy ended {time}", ok: all sent, failed: cannot send, figures: "{items} readings" }
            jobs:
              tide: { watched: yes, on: curlew, heard-by: [log, check-in], log: {{bench.Root}}/tide.log, log-rules: tide, when: "{{when}}", run-limit: 1 hours }
              wind: { watched: yes, on: curlew, heard-by: log, log: {{bench.Root}}/wind.log, log-rules: tide, when: "daily at 22:00" }
              rain: { watched: yes, on: plover, heard-by: [log, check-in], log: {{bench.Root}}/rain.log, log-rules: tide, when: "daily at 22:00" }
            """
        );

    private static CheckInRequest Ended(string id, string began, string at, bool fails = false) =>
        new(CheckInState.Ended)
        {
            Id = id,
            Began = DateTimeOffset.Parse(began),
            At = DateTimeOffset.Parse(at),
            Log = "tide copy started\nall sent\n",
            Read = new ReadLog(
                new EvidenceLine(2, fails ? LogList.Failed : LogList.Ok, fails ? "cannot send 3" : "all sent"),
                [],
                0,
                new CheckInFigures(710),
                null,
                3
            ),
        };

    private static CheckInRequest Started(string id, string at) => new(CheckInState.Started) { Id = id, At = DateTimeOffset.Parse(at) };

    private static Task SayAsync(Bench bench, TestAgent agent, double ahead, params HeardReport[] reports) =>
        agent.SayAsync<CopyReportAnswer>("heard", new HeardRequest(bench.Clock.Now.AddSeconds(ahead), reports, []));

    private static HeardReport Log(CheckInRequest said, string job = "tide") => new(job, EvidenceSource.Log, said);

    private static async Task<IReadOnlyList<RunAnswer>> RunsAsync(Bench bench) => (await bench.GetAsync<Page<RunAnswer>>("runs")).Items;

    [Fact]
    public async Task A_machine_is_told_of_its_own_watched_jobs_once_and_again_when_they_change()
    {
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await SayAsync(bench, curlew, 0, Log(Ended("one", "2026-11-23T08:00:00Z", "2026-11-23T08:10:00Z")));
        var self = curlew.Self() with { Instance = "one" };
        var told = (await curlew.SayAsync<OrdersAnswer>("orders", self)).Hears!;
        Assert.Equal(["tide", "wind"], told.Jobs.Select(j => j.Job));
        Assert.Equal(
            ($"{bench.Root}/tide.log", "UTC", new DateTimeOffset(2026, 11, 23, 8, 10, 0, TimeSpan.Zero)),
            (told.Jobs[0].Logs.Single(), told.Jobs[0].Zone, told.Jobs[0].HeardUntil)
        );
        Assert.Null(told.Jobs[1].HeardUntil);
        Assert.Contains("{items} readings", told.Jobs[0].Rules);
        var known = self with { Hears = told.Mark };
        Assert.Null((await curlew.SayAsync<OrdersAnswer>("orders", known)).Hears);
        var charter = (await bench.GetAsync<CharterAnswer>("charter")).Yaml;
        await bench.ApplyAsync(charter.Replace("all sent", "everything sent", StringComparison.Ordinal));
        Assert.NotEqual(told.Mark, (await curlew.SayAsync<OrdersAnswer>("orders", known)).Hears!.Mark);
    }

    [Fact]
    public async Task What_is_heard_there_makes_one_run_of_its_planned_run_however_often_it_is_said()
    {
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await bench.TickAsync("2026-11-23T10:01:00Z");
        await SayAsync(bench, curlew, 0, Log(Started("a", "2026-11-23T10:00:05Z")));
        Assert.Equal(RunState.Running, Assert.Single(await RunsAsync(bench)).State);
        await bench.TickAsync("2026-11-23T10:10:00Z");
        var end = Log(Ended("b", "2026-11-23T10:00:05Z", "2026-11-23T10:09:00Z", fails: true));
        await SayAsync(bench, curlew, 0, end);
        await SayAsync(bench, curlew, 0, Log(Started("a", "2026-11-23T10:00:05Z")), end);
        var run = Assert.Single(await RunsAsync(bench));
        Assert.Equal(
            ("curlew", Outcome.Failed, FailureClass.Reported, 710),
            (run.Machine, run.Outcome!.Value, run.Failure!.Value, (int)run.Figures.Items)
        );
        Assert.Equal(EvidenceSource.Log, run.Evidence!.Heard[^1].Source);
        Assert.Equal(new DateTimeOffset(2026, 11, 23, 10, 0, 0, TimeSpan.Zero), run.Due);
    }

    [Theory]
    [InlineData(1)]
    [InlineData(-1)]
    public async Task A_clock_that_is_off_is_corrected_and_begin_and_end_are_one_run_though_it_drifts(int hours)
    {
        string At(string time) => $"2026-11-23T{10 + hours:00}:{time}Z";
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await bench.TickAsync("2026-11-23T10:01:00Z");
        // An hour and 29 s ahead or behind, and then an hour and 31 s.
        await SayAsync(bench, curlew, hours * 3629, Log(Started("a", At("00:35"))));
        await bench.TickAsync("2026-11-23T10:10:00Z");
        await SayAsync(bench, curlew, hours * 3631, Log(Ended("b", At("00:35"), At("09:00"))));
        var run = Assert.Single(await RunsAsync(bench));
        Assert.Equal((RunState.Ended, Outcome.Ok), (run.State, run.Outcome!.Value));
        Assert.InRange(
            run.Ended!.Value,
            new DateTimeOffset(2026, 11, 23, 10, 7, 0, TimeSpan.Zero),
            new DateTimeOffset(2026, 11, 23, 10, 10, 0, TimeSpan.Zero)
        );
        Assert.Equal(new DateTimeOffset(2026, 11, 23, 10, 0, 0, TimeSpan.Zero), run.Due);
    }

    [Fact]
    public async Task What_was_called_missed_is_mended_when_its_machine_is_heard_of_again()
    {
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await bench.TickAsync("2026-11-23T19:00:00Z");
        Assert.Equal(AlertClass.Missed, Assert.Single(await bench.OpenAlertsAsync()).Class);
        await SayAsync(bench, curlew, 0, Log(Ended("b", "2026-11-23T10:00:05Z", "2026-11-23T10:09:00Z")));
        Assert.Equal("ok", (await bench.GetAsync<JobWhenAnswer>("jobs/tide/when")).Before[^1].Outcome.ToString()!.ToLowerInvariant());
    }

    [Fact]
    public async Task An_agent_that_says_what_it_may_not_makes_no_run_and_the_rest_is_taken()
    {
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        var good = Ended("b", "2026-11-23T08:00:00Z", "2026-11-23T08:09:00Z");
        await SayAsync(
            bench,
            curlew,
            0,
            // Another machine's, none at all, a source that this one has not, or that no agent speaks for, no id, too long an id.
            Log(good, "rain"),
            Log(good, "../../etc"),
            new HeardReport("wind", EvidenceSource.CheckIn, good),
            new HeardReport("tide", EvidenceSource.Folder, good),
            Log(good with { Id = null }),
            Log(good with { Id = new string('x', 101) }),
            Log(good with { Began = good.At!.Value.AddHours(1) })
        );
        Assert.Empty(await RunsAsync(bench));
        await curlew.SayAsync<CopyReportAnswer>(
            "heard",
            new HeardRequest(bench.Clock.Now, [Log(good with { Id = "c" }, "rain"), Log(good)], [new HeardProblem("rain", "lies")])
        );
        Assert.Equal(("tide", "curlew"), (Assert.Single(await RunsAsync(bench)) is var r ? r.Job : "", r.Machine));
        Assert.Empty(await bench.OpenAlertsAsync());
        // An id of one machine is none of another's.
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await SayAsync(bench, plover, 0, Log(good, "rain"));
        Assert.Equal(2, (await RunsAsync(bench)).Count);
    }

    [Fact]
    public async Task A_log_that_is_new_on_a_machine_that_just_joined_is_read_there_alone()
    {
        await using var bench = await MachineTests.StartAsync();
        var watching = bench.Services.GetRequiredService<LogWatching>();
        await watching.LookAsync(default);
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        const string night = "tide copy started 2026-11-23 08:00:00\nall sent\ntide copy ended 2026-11-23 08:05:00\n";
        foreach (var log in (string[])["tide", "rain"])
            await File.WriteAllTextAsync($"{bench.Root}/{log}.log", night);
        await ApplyAsync(bench, "daily at 08:00");
        await watching.LookAsync(default);
        await watching.LookAsync(default);
        // That of plover, which has no agent, is read here.
        Assert.Equal("rain", Assert.Single(await RunsAsync(bench)).Job);
    }

    [Fact]
    public async Task A_log_is_read_by_the_service_until_the_machine_has_an_agent_and_what_is_in_its_way_there_is_an_alert()
    {
        await using var bench = await StartAsync();
        var watching = bench.Services.GetRequiredService<LogWatching>();
        await File.WriteAllTextAsync(
            bench.Root + "/wind.log",
            "tide copy started 2026-11-23 08:00:00\n5 readings\nall sent\ntide copy ended 2026-11-23 08:01:00\n"
        );
        await watching.LookAsync(default);
        Assert.Equal("wind", Assert.Single(await RunsAsync(bench)).Job);
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await bench.TickAsync("2026-11-23T09:01:00Z");
        await File.AppendAllTextAsync(
            bench.Root + "/wind.log",
            "tide copy started 2026-11-23 09:00:00\n5 readings\nall sent\ntide copy ended 2026-11-23 09:00:30\n"
        );
        await watching.LookAsync(default);
        Assert.Single(await RunsAsync(bench));
        async Task ProblemAsync(string? what) =>
            await curlew.SayAsync<CopyReportAnswer>(
                "heard",
                new HeardRequest(bench.Clock.Now, [], [new HeardProblem("wind", what), new HeardProblem("tide", null)])
            );
        await ProblemAsync("wind.log cannot\nbe read");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(AlertClass.Unread, alert.Class);
        Assert.Contains("on curlew: wind.log cannot", alert.Message);
        Assert.DoesNotContain('\n', alert.Message);
        await ProblemAsync(null);
        Assert.Empty(await bench.OpenAlertsAsync());
    }
}
