using System.Globalization;
using System.Net;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>Watched jobs as they are heard of, through their addresses and the API.</summary>
public sealed class HearingTests
{
    private const string Charter = """
        charter: 1
        machines: { avocet: {} }
        log-rules:
          sender:
            failed: [fatal, {pattern: no space, class: store-full}]
            warned: slow
            ok: sent
            figures: ["{items} readings, {size}", "{errors} errors"]
            exit-codes: { ok: [0, 24], warned: 23 }
        jobs:
          sender: { on: avocet, watched: yes, log-rules: sender, when: "daily at 10:00, 12:00, 14:00, 16:00, 18:00", run-limit: 30 minutes }
          quiet: { on: avocet, watched: yes, when: daily at 03:00 }
        """;

    private static async Task<(Bench Bench, HttpClient Http, string Address)> BeginAsync(string at = "2026-11-23T10:00:01Z")
    {
        var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter);
        await bench.TickAsync(at);
        return (
            bench,
            bench.Anonymous(),
            (await bench.SendAsync<CheckInAddressAnswer>(HttpMethod.Post, "jobs/sender/check-in-address")).Path!
        );
    }

    private static async Task<string> SayAsync(
        Bench bench,
        HttpClient http,
        string address,
        HttpMethod? method = null,
        HttpContent? body = null,
        HttpStatusCode expected = HttpStatusCode.OK
    )
    {
        using var request = new HttpRequestMessage(method ?? HttpMethod.Get, address) { Content = body };
        using var response = await http.SendAsync(request);
        Assert.Equal(expected, response.StatusCode);
        await bench.IdleAsync();
        return await response.Content.ReadAsStringAsync();
    }

    private static async Task<RunAnswer> LastAsync(Bench bench) => (await bench.GetAsync<JobAnswer>("jobs/sender")).LastRun!;

    [Fact]
    public async Task An_address_is_enough_for_a_crontab_and_makes_runs_like_any_other()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        Assert.Contains("started", await SayAsync(bench, http, address + "/start"));
        var run = await LastAsync(bench);
        Assert.Equal((RunKind.Watched, RunState.Running, ActorKind.Elsewhere, "avocet"), (run.Kind, run.State, run.By.Kind, run.Machine));
        using (var stopped = await bench.RawAsync(HttpMethod.Post, $"runs/{run.Id}/cancel"))
            Assert.Contains("stop it there", await stopped.Content.ReadAsStringAsync());
        bench.Clock.Now = bench.Clock.Now.AddMinutes(3);
        Assert.Contains("ended ok", await SayAsync(bench, http, $"{address}?items=120&bytes=5000000", HttpMethod.Head) + "ended ok");
        run = await LastAsync(bench);
        Assert.Equal(
            (Outcome.Ok, 120, 5_000_000, 180.0),
            (run.Outcome!.Value, run.Figures.Items, run.Figures.SelectedBytes, run.Figures.ElapsedSeconds!.Value)
        );
        Assert.Equal("2026-11-23T10:00:00", run.Due?.UtcDateTime.ToString("s", CultureInfo.InvariantCulture));
        Assert.Equal(["started", "ended with exit code 0"], run.Evidence!.Heard.Select(h => h.What));
        Assert.Equal("ok", (await bench.GetAsync<JobWhenAnswer>("jobs/sender/when")).Before[^1].Outcome.Word());
        Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Board.First(b => b.Job == "sender").Nights, n => n.Outcome == Outcome.Ok);
        Assert.Single(await bench.GetAsync<IReadOnlyList<HistoryPoint>>("jobs/sender/history"));
        // A machine, and not a person, is let in: to this and to nothing else.
        Assert.Equal(HttpStatusCode.Unauthorized, (await http.GetAsync("/api/v1/jobs")).StatusCode);
    }

    [Fact]
    public async Task A_body_is_judged_by_the_rules_and_kept_as_the_log_of_the_run()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        await SayAsync(bench, http, address, HttpMethod.Post, new StringContent("begin\nslow line\n1,234 readings, 5 MB\nsent\n"));
        var run = await LastAsync(bench);
        Assert.Equal((Outcome.Warned, 1234, 5_000_000), (run.Outcome!.Value, run.Figures.Items, run.Figures.SelectedBytes));
        Assert.Equal([(2, LogList.Warned), (4, LogList.Ok)], run.Evidence!.Lines.Select(l => ((int)l.Line, l.List)));
        Assert.Contains("slow line", (await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log")).Lines.Select(l => l.Text));
        await bench.TickAsync("2026-11-23T12:00:01Z");
        await SayAsync(bench, http, address + "/24", HttpMethod.Post, new StringContent("there is no space\n"));
        Assert.Equal(
            (Outcome.Failed, FailureClass.StoreFull),
            ((await LastAsync(bench)).Outcome!.Value, (await LastAsync(bench)).Failure!.Value)
        );
        Assert.Contains("no space", Assert.Single(await bench.OpenAlertsAsync()).Message);
        await bench.TickAsync("2026-11-23T14:00:01Z");
        await SayAsync(bench, http, address + "/23");
        Assert.Equal((Outcome.Warned, 23), ((await LastAsync(bench)).Outcome!.Value, (await LastAsync(bench)).ExitCode!.Value));
        Assert.Empty(await bench.OpenAlertsAsync());
        await bench.TickAsync("2026-11-23T16:00:01Z");
        await SayAsync(bench, http, address, HttpMethod.Post, new StringContent("3 errors\nsent"));
        Assert.Equal(Outcome.Ok, (await LastAsync(bench)).Outcome);
        await bench.TickAsync("2026-11-23T18:00:01Z");
        await SayAsync(bench, http, $"{address}?errors=3", HttpMethod.Post, new StringContent("sent"));
        Assert.Equal(FailureClass.Reported, (await LastAsync(bench)).Failure);
    }

    [Fact]
    public async Task Of_a_log_without_end_64_KiB_are_kept()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        var text = string.Concat(Enumerable.Range(0, 30_000).Select(i => $"line {i:00000} öß\n")) + "sent\n";
        await SayAsync(bench, http, address, HttpMethod.Post, new StringContent(text));
        var run = await LastAsync(bench);
        Assert.Equal(Outcome.Ok, run.Outcome);
        var log = await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log");
        var lines = log.Lines.ToList();
        // Where the catalogue keeps logs, the last lines are still on their way.
        while (log.More || !lines.Exists(l => l.Text == "sent"))
            lines.AddRange((log = await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log?from={log.Next}")).Lines);
        Assert.Contains("was cut", lines[0].Text);
        Assert.InRange(lines.Sum(l => Encoding.UTF8.GetByteCount(l.Text) + 1), 60_000, 66_000);
        await bench.TickAsync("2026-11-23T12:00:01Z");
        await SayAsync(bench, http, address, HttpMethod.Post, new ByteArrayContent([.. new byte[70 * 1024 * 1024], .. "\nsent"u8]));
        Assert.Equal(Outcome.Ok, (await LastAsync(bench)).Outcome);
    }

    [Fact]
    public async Task Who_has_no_address_learns_nothing_and_one_that_was_made_anew_opens_no_more()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        foreach (var wrong in new[] { "/check-in/" + new string('0', 40), "/check-in/x", "/check-in/" + new string('g', 40) + "/start" })
            Assert.Equal("", await SayAsync(bench, http, wrong, expected: HttpStatusCode.NotFound));
        Assert.Contains("end the address with", await SayAsync(bench, http, address + "/999", expected: HttpStatusCode.BadRequest));
        var anew = (await bench.SendAsync<CheckInAddressAnswer>(HttpMethod.Post, "jobs/sender/check-in-address")).Path!;
        Assert.Equal("", await SayAsync(bench, http, address, expected: HttpStatusCode.NotFound));
        await SayAsync(bench, http, anew);
        Assert.Null((await bench.GetAsync<CheckInAddressAnswer>("jobs/sender/check-in-address")).Path);
        Assert.Equal(HttpStatusCode.NoContent, (await bench.RawAsync(HttpMethod.Delete, "jobs/sender/check-in-address")).StatusCode);
        await SayAsync(bench, http, anew, expected: HttpStatusCode.NotFound);
        // Neither secret stands in any file of the service.
        foreach (
            var file in Directory
                .EnumerateFiles(bench.Root + "/service", "*", SearchOption.AllDirectories)
                .Where(f => !f.EndsWith(".lock", StringComparison.Ordinal))
        )
        {
            using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
            using var reader = new StreamReader(stream, Encoding.Latin1);
            var content = await reader.ReadToEndAsync();
            Assert.DoesNotContain(address[^40..], content);
            Assert.DoesNotContain(anew[^40..], content);
        }
    }

    [Fact]
    public async Task An_address_that_is_posted_without_end_is_slowed_down_and_makes_one_run()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        var answers = await Task.WhenAll(Enumerable.Range(0, 200).Select(i => http.GetAsync(address)));
        Assert.InRange(answers.Count(a => a.StatusCode == HttpStatusCode.TooManyRequests), 100, 145);
        Assert.Contains(
            "more often than once a second",
            await answers.First(a => a.StatusCode == HttpStatusCode.TooManyRequests).Content.ReadAsStringAsync()
        );
        await bench.IdleAsync();
        Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items);
    }

    [Fact]
    public async Task Repeats_count_once_and_what_is_not_planned_is_shown_apart()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        await SayAsync(bench, http, address + "/start");
        await SayAsync(bench, http, address + "/start");
        await SayAsync(bench, http, address);
        await SayAsync(bench, http, address);
        Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items);
        // Half an hour later somebody runs it by hand.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(30);
        await SayAsync(bench, http, address + "/start");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        await SayAsync(bench, http, address);
        var runs = (await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items;
        Assert.Equal([null, "10:00"], runs.Select(r => r.Due?.ToString("HH:mm", CultureInfo.InvariantCulture)));
        bench.Clock.Now = DateTimeOffset.Parse("2026-11-23T12:00:00Z", CultureInfo.InvariantCulture);
        Assert.Equal(1, (await bench.GetAsync<DutyAnswer>("duty")).Unplanned);
    }

    [Fact]
    public async Task A_little_early_is_meant_for_the_next_due_instant()
    {
        var (bench, http, address) = await BeginAsync("2026-11-23T11:59:40Z");
        await using var _ = bench;
        await SayAsync(bench, http, address + "/start");
        await bench.TickAsync("2026-11-23T12:00:02Z");
        await SayAsync(bench, http, address);
        await bench.TickAsync("2026-11-23T12:50:00Z");
        Assert.Equal("ok", (await bench.GetAsync<JobWhenAnswer>("jobs/sender/when")).Before[^1].Outcome.Word());
        Assert.Equal("12:00", (await LastAsync(bench)).Due?.ToString("HH:mm", CultureInfo.InvariantCulture));
    }

    [Fact]
    public async Task A_late_end_mends_its_run_and_one_that_never_ends_gives_way_to_the_next()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        await SayAsync(bench, http, address + "/start");
        await bench.TickAsync("2026-11-23T10:45:00Z");
        Assert.Equal(Outcome.TimedOut, (await LastAsync(bench)).Outcome);
        Assert.Single(await bench.OpenAlertsAsync());
        await SayAsync(bench, http, address);
        var run = await LastAsync(bench);
        Assert.Equal((Outcome.Ok, true), (run.Outcome!.Value, run.Sentence!.Contains("heard of late", StringComparison.Ordinal)));
        Assert.Empty(await bench.OpenAlertsAsync());
        Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items);
        await bench.TickAsync("2026-11-23T12:00:01Z");
        await SayAsync(bench, http, address + "/start");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(15);
        await SayAsync(bench, http, address + "/start");
        Assert.Equal(
            (Outcome.Failed, FailureClass.NoEnd),
            (
                (await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items[1].Outcome!.Value,
                (await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items[1].Failure!.Value
            )
        );
    }

    [Fact]
    public async Task What_is_delivered_twice_counts_once_and_is_of_the_night_in_which_it_happened()
    {
        var (bench, _, _) = await BeginAsync();
        await using var __ = bench;
        await bench.TickAsync("2026-11-23T12:50:00Z");
        Assert.Equal(2, (await bench.OpenAlertsAsync()).Sum(a => a.Count));
        var late = new CheckInRequest(CheckInState.Ended, 0, "from the spool")
        {
            Id = "spool-7",
            Began = DateTimeOffset.Parse("2026-11-23T10:00:05Z", null),
            At = DateTimeOffset.Parse("2026-11-23T10:04:05Z", null),
        };
        var first = await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/sender/check-ins", late);
        var second = await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/sender/check-ins", late);
        Assert.Equal((first.RunId, "10:00"), (second.RunId, first.Due?.ToString("HH:mm", CultureInfo.InvariantCulture)));
        var run = await bench.GetAsync<RunAnswer>($"runs/{first.RunId}");
        Assert.Equal((Outcome.Ok, 240.0), (run.Outcome!.Value, run.Figures.ElapsedSeconds!.Value));
        Assert.Equal(
            ["10:00 ok", "12:00 missed"],
            (await bench.GetAsync<JobWhenAnswer>("jobs/sender/when"))
                .Before.TakeLast(2)
                .Select(d => $"{d.Local[11..16]} {d.Outcome.Word()}")
        );
        // A machine whose clock is ahead does not report from the future.
        var ahead = await bench.SendAsync<CheckInAnswer>(
            HttpMethod.Post,
            "jobs/sender/check-ins",
            new CheckInRequest(CheckInState.Ended) { At = bench.Clock.Now.AddDays(3) }
        );
        Assert.Equal("12:00", ahead.Due?.ToString("HH:mm", CultureInfo.InvariantCulture));
    }

    [Fact]
    public async Task What_is_told_beyond_all_measure_spoils_no_list()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        await SayAsync(bench, http, $"{address}?seconds={new string('9', 300)}&items=5");
        var run = await LastAsync(bench);
        Assert.Equal((Outcome.Ok, 5), (run.Outcome!.Value, run.Figures.Items));
        Assert.True(run.Figures.ElapsedSeconds is null or < 1000);
        await bench.TickAsync("2026-11-23T12:00:01Z");
        var old = new CheckInRequest(CheckInState.Ended)
        {
            Began = DateTimeOffset.MinValue,
            At = DateTimeOffset.MinValue.AddDays(1),
            Figures = new CheckInFigures(-7, -7),
        };
        await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/sender/check-ins", old);
        Assert.All((await bench.GetAsync<Page<RunAnswer>>("runs?job=sender")).Items, r => Assert.True(r.Figures.Items >= 0));
        var text = new EvidenceLine(1, LogList.Ok, new string('x', 10_000));
        using var refused = await bench.RawAsync(
            HttpMethod.Post,
            "jobs/sender/check-ins",
            new CheckInRequest(CheckInState.Ended) { Read = new ReadLog(text, [], 0, new CheckInFigures(), null, 1) }
        );
        Assert.Contains("send its begin", await refused.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task After_the_services_own_absence_there_is_time_to_deliver_before_anything_is_called_missed()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        await SayAsync(bench, http, address);
        await bench.RestartAsync(() => bench.Clock.Now = DateTimeOffset.Parse("2026-11-23T13:00:00Z", CultureInfo.InvariantCulture));
        await bench.TickAsync("2026-11-23T13:00:05Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        await bench.TickAsync("2026-11-23T13:10:05Z");
        Assert.Equal(AlertClass.Missed, Assert.Single(await bench.OpenAlertsAsync()).Class);
    }

    [Fact]
    public async Task Far_less_than_usual_is_suspect_and_the_next_usual_run_closes_it()
    {
        var (bench, http, address) = await BeginAsync();
        await using var _ = bench;
        foreach (var hour in new[] { 10, 12, 14, 16 })
        {
            await bench.TickAsync($"2026-11-23T{hour}:00:01Z");
            await SayAsync(bench, http, $"{address}?items=5000&bytes=5000000000");
        }
        await bench.TickAsync("2026-11-23T18:00:01Z");
        await SayAsync(bench, http, $"{address}?items=5000&bytes=1000000000");
        var run = await LastAsync(bench);
        Assert.Equal(Outcome.Suspect, run.Outcome);
        Assert.Contains("are usual", run.Sentence);
        Assert.Equal(AlertClass.Suspect, Assert.Single(await bench.OpenAlertsAsync()).Class);
    }

    /// <summary>
    /// Whatever comes at once is taken as if it came one after the other: no report lost, no run twice, every planned run with its own.
    /// </summary>
    [Fact]
    public async Task A_thousand_reports_at_once_are_each_taken_once()
    {
        await using var bench = await Bench.StartAsync();
        var jobs = Enumerable.Range(0, 200).Select(i => $"j{i}").ToList();
        await bench.ApplyAsync(
            "charter: 1\nmachines: { avocet: {} }\njobs:\n"
                + string.Concat(jobs.Select(j => $"  {j}: {{ on: avocet, watched: yes, when: 'daily at 10:00' }}\n"))
        );
        await bench.TickAsync("2026-11-23T10:00:01Z");
        var desk = bench.Services.GetRequiredService<HearingDesk>();
        var now = Instant.FromDateTimeOffset(bench.Clock.Now);
        var taken = await Task.WhenAll(
            jobs.SelectMany(j =>
                Enumerable
                    .Range(0, 5)
                    .Select(i =>
                        desk.TakeAsync(
                            new Report(j, "avocet", EvidenceSource.CheckIn, i == 0 ? CheckInState.Started : CheckInState.Ended, now)
                            {
                                Id = $"{j}-{Math.Min(i, 1)}",
                                ExitCode = i == 0 ? null : 0,
                            },
                            default
                        )
                    )
            )
        );
        Assert.Equal(1000, taken.Length);
        await bench.IdleAsync();
        await using var db = await bench.KeepAsync();
        Assert.Equal(200, await db.Runs.CountAsync());
        Assert.Equal(200, await db.Runs.CountAsync(r => r.Outcome == Outcome.Ok && r.PlannedRunId != null));
        Assert.Equal(200, await db.PlannedRuns.CountAsync(p => p.Outcome == Outcome.Ok && p.RunId != null));
        Assert.Equal(400, await db.TakenReports.CountAsync());
    }

    /// <summary>A run that is still under way when the next is due is that of the instant at which it began, to its end.</summary>
    [Fact]
    public async Task An_end_that_comes_after_the_next_due_instant_is_that_of_the_run_under_way()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            "charter: 1\nmachines: { avocet: {} }\njobs:\n  slow: { on: avocet, watched: yes, when: 'daily at 10:00, 12:00', run-limit: 5 "
                + "hours }\n"
        );
        var desk = bench.Services.GetRequiredService<HearingDesk>();
        await bench.TickAsync("2026-11-23T10:00:01Z");
        await SaidAsync(CheckInState.Started);
        await bench.TickAsync("2026-11-23T12:00:01Z");
        var ended = await SaidAsync(CheckInState.Ended);
        Assert.Equal((Instant.FromUtc(2026, 11, 23, 10, 0), Outcome.Ok), (ended.Due!.Value, ended.Outcome!.Value));
        await using var db = await bench.KeepAsync();
        Assert.Equal(
            [(10, Outcome.Ok), (12, null)],
            (await db.PlannedRuns.Where(p => p.Due >= Instant.FromUtc(2026, 11, 23, 10, 0)).OrderBy(p => p.Due).ToListAsync()).Select(p =>
                (p.Due.InUtc().Hour, p.Outcome)
            )
        );

        async Task<Taken> SaidAsync(CheckInState state) =>
            (
                await desk.TakeAllAsync([
                    new Report("slow", "avocet", EvidenceSource.CheckIn, state, Instant.FromDateTimeOffset(bench.Clock.Now)),
                ])
            )[0];
    }

    /// <summary>
    /// Of a job that has run every ten minutes for most of a day, the newest runs alone are read; one that is told of hours late is still
    /// its own.
    /// </summary>
    [Fact]
    public async Task However_long_the_past_of_a_job_a_late_report_finds_what_it_is_about()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            "charter: 1\nmachines: { avocet: {} }\nlog-rules: { plain: { ends: end, failed: bad } }\njobs:\n  often: { on: avocet, "
                + "watched: yes, when: every 10 minutes, start-limit: 30 minutes, heard-by: [check-in, log], log: /nowhere/often.log, "
                + "log-rules: plain }\n"
        );
        var desk = bench.Services.GetRequiredService<HearingDesk>();
        var start = Instant.FromUtc(2026, 11, 23, 10, 0);
        for (var i = 0; i < 100; i++)
        {
            var due = start + Duration.FromMinutes(10 * i);
            await bench.TickAsync((due + Duration.FromSeconds(1)).ToString());
            if (i == 20)
                continue;
            Assert.Equal(due, (await desk.TakeAllAsync([Ended(due, $"r{i}", EvidenceSource.CheckIn)]))[0].Due);
        }
        var missed = start + Duration.FromMinutes(200);
        var late = Assert.Single(await desk.TakeAllAsync([Ended(missed, "spool", EvidenceSource.CheckIn)]));
        Assert.Equal(missed, late.Due);
        // Its log says something of a run that ended well; the worse of the two stands, and no run is made for it.
        var joined = Assert.Single(
            await desk.TakeAllAsync([Ended(start + Duration.FromMinutes(300), "log", EvidenceSource.Log) with { ExitCode = 3 }])
        );
        await using var db = await bench.KeepAsync();
        Assert.Equal(100, await db.Runs.CountAsync());
        Assert.Equal(
            (Outcome.Failed, start + Duration.FromMinutes(300)),
            ((await db.Runs.SingleAsync(r => r.Id == joined.RunId)).Outcome, joined.Due)
        );
        Assert.All(await db.PlannedRuns.Where(p => p.Due >= start && p.Due != joined.Due).ToListAsync(), p =>
            Assert.Equal(Outcome.Ok, p.Outcome)
        );

        Report Ended(Instant due, string id, EvidenceSource source) =>
            new("often", "avocet", source, CheckInState.Ended, Instant.FromDateTimeOffset(bench.Clock.Now))
            {
                Id = id,
                ExitCode = 0,
                Began = due + Duration.FromSeconds(1),
                At = due + Duration.FromSeconds(30),
            };
    }
}
