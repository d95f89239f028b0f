using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Hearing;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Logs of watched jobs, from the file to the run.</summary>
public sealed class LogWatchingTests
{
    private static async Task<Bench> BeginAsync(string more = "")
    {
        var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            $$"""
            charter: 1
            log-rules:
              tide: { begins: "tide copy started {time}", ends: "tide copy ended {time}", ok: all sent, failed: cannot send, warned: slow, figures: "{items} readings, {size}" }
            jobs:
              tide: { watched: yes, heard-by: [log, check-in], log: {{bench.Root}}/tide.log, log-rules: tide, when: "daily at 10:00, 12:00, 14:00", run-limit: 1 hours {{more}} }
            """
        );
        return bench;
    }

    private static async Task LookAsync(Bench bench)
    {
        await bench.Services.GetRequiredService<LogWatching>().LookAsync(default);
        await bench.IdleAsync();
    }

    private static void Write(Bench bench, string lines) => File.AppendAllText(bench.Root + "/tide.log", lines);

    private static async Task<RunAnswer> LastAsync(Bench bench) => (await bench.GetAsync<JobAnswer>("jobs/tide")).LastRun!;

    /// <summary>Two machines have a log of that name; the file that lies here is that of the service's machine.</summary>
    [Fact]
    public async Task Of_a_job_on_several_machines_a_log_that_all_name_alike_is_heard_for_this_one_alone_and_nothing_of_before_twice()
    {
        await using var bench = await BeginAsync();
        Write(bench, "tide copy started 2026-11-22 10:00:05\n700 readings, 3 MB\nall sent\ntide copy ended 2026-11-22 10:04:05\n");
        await LookAsync(bench);
        var charter = (await bench.GetAsync<CharterAnswer>("charter")).Yaml;
        await bench.ApplyAsync(
            charter.Replace("  tide:\n    watched", "  tide:\n    on: all\n    watched", StringComparison.Ordinal)
                + "\nmachines:\n  heron: {}\n  knot: {}\n"
        );
        Assert.Equal(2, (await bench.GetAsync<List<JobAnswer>>("jobs")).Count);
        await bench.TickAsync("2026-11-23T10:04:00Z");
        Write(bench, "tide copy started 2026-11-23 10:00:10\n710 readings, 3 MB\nall sent\ntide copy ended 2026-11-23 10:03:10\n");
        await LookAsync(bench);
        await LookAsync(bench);
        Assert.Equal(
            ["heron 22", "heron 23"],
            (await bench.GetAsync<Page<RunAnswer>>("runs?job=tide")).Items.Select(r => $"{r.Machine} {r.Began:dd}").Order()
        );
    }

    [Fact]
    public async Task A_log_makes_runs_of_its_nights_with_the_lines_that_decided_and_no_restart_makes_one_twice()
    {
        await using var bench = await BeginAsync();
        // A night of before, and tonight's, half written.
        Write(bench, "tide copy started 2026-11-22 10:00:05\n700 readings, 3 MB\nall sent\ntide copy ended 2026-11-22 10:04:05\n");
        await bench.TickAsync("2026-11-23T10:01:00Z");
        Write(bench, "tide copy started 2026-11-23 10:00:10\nslow line\n");
        await LookAsync(bench);
        Assert.Equal(
            (RunState.Running, "2026-11-23T10:00:10"),
            ((await LastAsync(bench)).State, (await LastAsync(bench)).Began?.UtcDateTime.ToString("s"))
        );
        await bench.RestartAsync();
        Write(bench, "710 readings, 3.1 MB\nall sent\ntide copy ended 2026-11-23 10:03:10\n");
        await LookAsync(bench);
        await LookAsync(bench);
        await bench.RestartAsync();
        await LookAsync(bench);
        var run = await LastAsync(bench);
        Assert.Equal((Outcome.Warned, 710, 180.0), (run.Outcome!.Value, run.Figures.Items, run.Figures.ElapsedSeconds!.Value));
        Assert.Equal([(2, LogList.Warned), (4, LogList.Ok)], run.Evidence!.Lines.Select(l => ((int)l.Line, l.List)));
        Assert.Equal("slow line", (await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log")).Lines[2].Text);
        Assert.Equal(
            ["2026-11-23 Warned", "2026-11-22 Ok"],
            (await bench.GetAsync<Page<RunAnswer>>("runs?job=tide"))
                .Items.Select(r => $"{r.Began:yyyy-MM-dd} {r.Outcome}")
                .OrderDescending()
        );
        Assert.Equal("warned", (await bench.GetAsync<JobWhenAnswer>("jobs/tide/when")).Before[^1].Outcome.Word());
        await using var db = await bench.KeepAsync();
        // As if the service had died before it kept the place: what is read again has the same id.
        await db.KeptValues.Where(k => k.Key.StartsWith("log ")).ExecuteDeleteAsync();
        await bench.RestartAsync();
        await LookAsync(bench);
        Assert.Equal(2, (await bench.GetAsync<Page<RunAnswer>>("runs?job=tide")).Items.Count);
    }

    [Fact]
    public async Task What_a_check_in_and_the_log_say_is_one_run_and_the_worse_of_the_two()
    {
        await using var bench = await BeginAsync();
        await bench.TickAsync("2026-11-23T10:05:00Z");
        await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/tide/check-ins", new CheckInRequest(CheckInState.Ended));
        Write(bench, "tide copy started 2026-11-23 10:00:10\ncannot send 3 readings\ntide copy ended 2026-11-23 10:04:50\n");
        await LookAsync(bench);
        var run = Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?job=tide")).Items);
        Assert.Equal((Outcome.Failed, FailureClass.Reported), (run.Outcome!.Value, run.Failure!.Value));
        Assert.Equal([EvidenceSource.CheckIn, EvidenceSource.Log], run.Evidence!.Heard.Select(h => h.Source).Distinct());
        Assert.Contains("cannot send 3 readings", Assert.Single(await bench.OpenAlertsAsync()).Message);
        Assert.Equal("failed", (await bench.GetAsync<JobWhenAnswer>("jobs/tide/when")).Before[^1].Outcome.Word());
    }

    [Fact]
    public async Task A_log_that_cannot_be_read_is_an_alert_and_not_silence_and_one_without_end_fails()
    {
        await using var bench = await BeginAsync();
        File.WriteAllText(bench.Root + "/elsewhere", "tide copy started 2026-11-23 10:00:10\n");
        File.CreateSymbolicLink(bench.Root + "/tide.log", bench.Root + "/elsewhere");
        await LookAsync(bench);
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Unread, true), (alert.Class, alert.Message.Contains("symbolic link", StringComparison.Ordinal)));
        File.Delete(bench.Root + "/tide.log");
        await bench.TickAsync("2026-11-23T10:01:00Z");
        Write(bench, "tide copy started 2026-11-23 10:00:10\n");
        await LookAsync(bench);
        Assert.Empty(await bench.OpenAlertsAsync());
        await bench.TickAsync("2026-11-23T12:01:00Z");
        Write(bench, "tide copy started 2026-11-23 12:00:10\nall sent\ntide copy ended 2026-11-23 12:00:50\n");
        await LookAsync(bench);
        var runs = (await bench.GetAsync<Page<RunAnswer>>("runs?job=tide")).Items;
        Assert.Equal(
            ["ok", "failed"],
            runs.OrderByDescending(r => r.Began).Select(r => r.Outcome is Outcome.TimedOut ? "failed" : r.Outcome.Word())
        );
    }

    [Theory]
    [InlineData("watched: yes, when: daily at 10:00, heard-by: log", "needs the log")]
    [InlineData("watched: yes, when: daily at 10:00, heard-by: log, log: /var/log/x", "needs rules")]
    [InlineData("watched: yes, when: daily at 10:00, log: /var/log/x", "is not heard by it")]
    [InlineData("watched: yes, when: daily at 10:00, heard-by: log, log-rules: r, log: /var/*/x", "in its folder")]
    [InlineData("watched: yes, when: daily at 10:00, heard-by: log, log-rules: r, log: x.log", "not an absolute path")]
    [InlineData("takes: /x, into: s, policy: p, heard-by: check-in", "goes with a watched job")]
    [InlineData("watched: yes, when: daily at 10:00, heard-by: log, log-rules: nowhere, log: /x", "there is no log-rules 'nowhere'")]
    public void What_is_wrong_with_a_log_is_said(string job, string expected)
    {
        var reading = IronKeep.Yaml.CharterYaml.Read(
            $"charter: 1\nlog-rules: {{ r: {{ ok: x }} }}\nstores: {{ s: {{ folder: /s }} }}\npolicies: {{ p: {{ keep: newest 2 }} "
                + $"}}\njobs:\n  j: {{ {job} }}\n"
        );
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(expected, StringComparison.Ordinal));
    }
}
