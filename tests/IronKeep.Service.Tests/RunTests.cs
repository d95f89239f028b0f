using System.Net;
using System.Net.ServerSentEvents;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Alerts;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

public sealed class RunTests
{
    [Fact]
    public async Task Events_tell_of_a_run_from_queued_to_ended_to_everybody_who_listens()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        var listeners = new List<Task<List<string>>>();
        var listening = new SemaphoreSlim(0);
        for (var i = 0; i < 2; i++)
            listeners.Add(ListenAsync());
        for (var i = 0; i < 2; i++)
            await listening.WaitAsync(limit.Token);
        var run = await bench.BackUpAsync();
        foreach (var seen in await Task.WhenAll(listeners))
            Assert.Equal([$"{run.Id} queued", $"{run.Id} running", $"{run.Id} ended"], seen.Distinct());

        async Task<List<string>> ListenAsync()
        {
            var seen = new List<string>();
            using var response = await bench.Http.GetAsync("/api/v1/events", HttpCompletionOption.ResponseHeadersRead, limit.Token);
            await foreach (var item in SseParser.Create(await response.Content.ReadAsStreamAsync(limit.Token)).EnumerateAsync(limit.Token))
            {
                var happened = JsonSerializer.Deserialize<KeepEvent>(item.Data, ContractJson.Options)!;
                if (happened.Topic == Topic.Hello)
                    listening.Release();
                if (happened.Run is { } told)
                    seen.Add($"{told.Id} {told.State.Word()}");
                if (happened.Run?.State == RunState.Ended)
                    return seen;
            }
            return seen;
        }
    }

    [Fact]
    public async Task A_queued_run_can_be_cancelled_and_a_job_runs_once_at_a_time()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.IdleAsync();
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        // A run that waits because nothing begins.
        await bench.Services.GetRequiredService<Dispatch>().HoldAsync();
        var waiting = new Run
        {
            Kind = RunKind.Backup,
            Job = "register",
            Machine = "heron",
            Store = "cellar",
            By = Actor.Person("mira"),
            Queued = Instant.FromDateTimeOffset(bench.Clock.Now),
        };
        db.Runs.Add(waiting);
        await db.SaveChangesAsync();
        using (var second = await bench.RawAsync(HttpMethod.Post, "jobs/register/runs"))
        {
            Assert.Equal(HttpStatusCode.Conflict, second.StatusCode);
            Assert.Contains($"run {waiting.Id}", await second.Content.ReadAsStringAsync());
        }
        var cancelled = await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{waiting.Id}/cancel");
        Assert.Equal(("ended", "cancelled"), (cancelled.State.Word(), cancelled.Outcome.Word()));
        using (var again = await bench.RawAsync(HttpMethod.Post, $"runs/{waiting.Id}/cancel"))
            Assert.Equal(HttpStatusCode.Conflict, again.StatusCode);
        bench.Services.GetRequiredService<Dispatch>().Release();
        await bench.BackUpAsync();
        Assert.Single(await bench.CopiesAsync());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_run_that_was_at_work_when_the_service_died_ends_as_interrupted_at_the_next_start()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        long id;
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
        {
            var planned = new PlannedRun
            {
                Job = "register",
                Machine = "heron",
                Due = Instant.FromDateTimeOffset(bench.Clock.Now),
            };
            db.PlannedRuns.Add(planned);
            await db.SaveChangesAsync();
            var run = new Run
            {
                Kind = RunKind.Backup,
                State = RunState.Running,
                Job = "register",
                Machine = "heron",
                Store = "cellar",
                By = Actor.Schedule,
                PlannedRunId = planned.Id,
                Queued = planned.Due,
                Began = planned.Due,
            };
            db.Runs.Add(run);
            await db.SaveChangesAsync();
            planned.RunId = id = run.Id;
            await db.SaveChangesAsync();
        }
        await bench.RestartAsync();
        var ended = await bench.GetAsync<RunAnswer>($"runs/{id}");
        Assert.Equal(("failed", "interrupted"), (ended.Outcome.Word(), ended.Failure.Word()));
        Assert.Contains("interrupted", Assert.Single((await bench.GetAsync<RunLogAnswer>($"runs/{id}/log")).Lines).Text);
        Assert.Equal("failed", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
        Assert.Equal(1, (await bench.GetAsync<DutyAnswer>("duty")).Board[0].Nights.Sum(n => n.Outcome == Outcome.Failed ? 1 : 0));
        await bench.BackUpAsync();
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [FileCatalogueFact]
    public async Task A_log_is_read_while_it_is_written_and_kept_within_limits()
    {
        await using var bench = await Bench.StartAsync();
        var logs = bench.Services.GetRequiredService<IRunLogs>();
        RunLogAnswer Read(int from) => logs.ReadAsync(77, from, LogSeverity.Info, default).Result;
        using (var file = logs.Open(77))
        {
            file.Write(LogSeverity.Info, "first \"quoted\" \n line");
            var first = Read(0);
            Assert.Equal("first \"quoted\" \n line", Assert.Single(first.Lines).Text);
            Assert.Empty(Read(first.Next).Lines);
            // Half a line, as a reader sees it in the middle of a write: it comes whole the next time.
            var path = Directory.EnumerateFiles(bench.Root, "77.jsonl", SearchOption.AllDirectories).Single();
            await File.AppendAllTextAsync(path, "{\"at\":\"2026-11-23T09:0");
            Assert.Equal(first.Next, Read(first.Next).Next);
            await File.AppendAllTextAsync(path, "0:00Z\",\"severity\":\"error\",\"text\":\"second\"}\n");
            Assert.Equal("second", Assert.Single(Read(first.Next).Lines).Text);
            Parallel.For(0, 12_000, i => file.Write(LogSeverity.Warning, $"line {i}"));
        }
        var all = new List<RunLogLine>();
        for (var next = 0; ; )
        {
            var part = Read(next);
            if (part.Lines.Count == 0)
                break;
            all.AddRange(part.Lines);
            next = part.Next;
        }
        Assert.InRange(all.Count, 10_000, 10_010);
        Assert.Contains("lines were not kept", all[^1].Text);
    }

    [Fact]
    public async Task An_alert_counts_closes_reopens_within_the_hour_and_starts_anew_after_it()
    {
        await using var bench = await Bench.StartAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        Task Raise(AlertClass kind = AlertClass.Failed) =>
            book.RaiseAsync(new Matter(Subject.OfJob("x", "heron"), kind, "it failed", "mend it"), default);
        await Raise();
        await Raise();
        await Raise(AlertClass.Missed);
        var open = await bench.OpenAlertsAsync();
        Assert.Equal([("missed", 1), ("failed", 2)], open.Select(a => (a.Class.Word(), a.Count)));
        Assert.True(await book.AcknowledgeAsync(open[1].Id, "mira", default));
        await book.CloseAsync(Subject.OfJob("x", "heron"), [AlertClass.Failed], default);
        Assert.Equal("missed", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
        Assert.False(await book.AcknowledgeAsync(open[1].Id, "mira", default));

        bench.Clock.Now = bench.Clock.Now.AddMinutes(59);
        await Raise();
        var reopened = (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "failed");
        Assert.Equal((open[1].Id, 3, "open", null), (reopened.Id, reopened.Count, reopened.State.Word(), reopened.AcknowledgedBy));
        await book.CloseAsync(Subject.OfJob("x", "heron"), [AlertClass.Failed], default);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(61);
        await Raise();
        var anew = (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "failed");
        Assert.Equal((true, 1), (anew.Id > reopened.Id, anew.Count));
    }

    [Fact]
    public async Task Lists_come_in_pages_that_neither_repeat_nor_leave_out()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
        {
            var at = Instant.FromDateTimeOffset(bench.Clock.Now);
            for (var i = 0; i < 250; i++)
            {
                db.Copies.Add(
                    new Copy
                    {
                        Id = $"c{i:000}",
                        Origin = $"c{i:000}",
                        Job = i % 2 == 0 ? "register" : "other",
                        Machine = "heron",
                        Store = "cellar",
                        Taken = at - Duration.FromMinutes(i),
                        Ended = at,
                    }
                );
                db.Runs.Add(
                    new Run
                    {
                        Kind = RunKind.Check,
                        State = RunState.Ended,
                        Machine = "heron",
                        Store = "cellar",
                        By = Actor.Person("mira"),
                        Queued = at,
                    }
                );
            }
            await db.SaveChangesAsync();
        }
        foreach (
            var (path, count) in new[]
            {
                ("copies?job=register&limit=40", 125),
                ("copies?limit=100", 250),
                ("runs?kind=check&limit=33", 250),
            }
        )
        {
            var seen = new List<string>();
            string? next = null;
            do
            {
                var page = await bench.GetAsync<Page<JsonElement>>($"{path}{(next is null ? "" : $"&cursor={next}")}");
                seen.AddRange(page.Items.Select(i => i.GetProperty("id").ToString()));
                next = page.Next;
            } while (next is not null);
            Assert.Equal((count, count), (seen.Count, seen.Distinct().Count()));
        }
    }

    [Fact]
    public void A_run_that_has_just_ended_is_left_alone_by_who_would_stop_it()
    {
        var log = Path.GetTempFileName();
        var live = new LiveRun(
            new Run { Machine = "heron", By = Actor.Person("mira") },
            new RunLogFile(log, TimeProvider.System, Microsoft.Extensions.Logging.Abstractions.NullLogger.Instance),
            TimeProvider.System,
            default
        );
        live.Dispose();
        live.TimeOut();
        live.Cancel();
        Assert.False(live.StopAsked.IsCompleted);
        File.Delete(log);
    }
}
