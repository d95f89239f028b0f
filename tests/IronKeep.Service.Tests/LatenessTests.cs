using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>
/// Late, missed, overlapping, following, paused: what becomes of planned runs. The clock begins at 2026-11-23 09:00Z; London is on UTC
/// then.
/// </summary>
public sealed class LatenessTests
{
    [Fact]
    public async Task Everything_missed_is_made_up_for_by_one_run_after_the_wait()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 11:00, 13:00, 23:00"));
        // Away over two due instants, back at 14:00: the next is nine hours away.
        await bench.TickAsync("2026-11-23T14:00:00Z");
        var waits = Assert.Single(await RunsAsync(bench));
        Assert.Equal(
            ("queued", "catch-up", "2026-11-23T14:10:00Z"),
            (waits.State.Word(), waits.By.Words, waits.NotBefore?.ToString("yyyy-MM-ddTHH:mm:ssZ"))
        );
        await bench.TickAsync("2026-11-23T14:09:00Z");
        Assert.Equal("queued", Assert.Single(await RunsAsync(bench)).State.Word());
        Assert.Contains(" makes up for it, from ", Assert.Single(await bench.OpenAlertsAsync()).Message);
        await bench.TickAsync("2026-11-23T14:10:01Z");
        var ran = Assert.Single(await RunsAsync(bench));
        Assert.Equal("ok", ran.Outcome.Word());
        Assert.Equal(["11:00 missed by 1", "13:00 missed by 1"], await PlannedAsync(bench));
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_planned_run_that_is_near_serves_in_place_of_a_catch_up_and_none_means_none()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 11:00, 13:00"));
        await bench.TickAsync("2026-11-23T11:40:00Z");
        Assert.Empty(await RunsAsync(bench));
        Assert.Contains("the run due 2026-11-23 13:00Z makes up for it", Assert.Single(await bench.OpenAlertsAsync()).Message);
        await bench.TickAsync("2026-11-23T13:00:00Z");
        Assert.Equal(["11:00 missed by 1", "13:00 ok"], await PlannedAsync(bench));

        await bench.ApplyAsync(bench.Charter("daily at 11:00, 13:00", more: "catch-up: none"));
        await bench.TickAsync("2026-11-24T15:00:00Z");
        Assert.Single(await RunsAsync(bench));
        Assert.Contains("nothing makes up for it", Assert.Single(await bench.OpenAlertsAsync()).Message);
        // A long wait after the return: the planned run overtakes it, and a person can ask for it at once.
        await bench.ApplyAsync(bench.Charter("daily at 11:00, 13:00", more: "wait-after-return: 30 hours"));
        await bench.TickAsync("2026-11-25T14:00:00Z");
        Assert.Equal("queued", (await RunsAsync(bench))[0].State.Word());
        await bench.TickAsync("2026-11-26T11:00:00Z");
        Assert.Equal(
            ["schedule ok", "catch-up not-needed"],
            (await RunsAsync(bench)).Take(2).Select(r => $"{r.By.Words} {r.Outcome.Word()}")
        );
        await bench.TickAsync("2026-11-27T14:00:00Z");
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        Assert.DoesNotContain(await RunsAsync(bench), r => r.State.Word() == "queued");
    }

    [Theory]
    [InlineData("skip", "not-needed not-needed", 0)]
    [InlineData("wait", "ok not-needed", 1)]
    public async Task A_job_that_is_still_at_work_skips_or_lets_one_run_wait(string overlap, string ends, int copies)
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 1 hours", more: $"overlap: {overlap}"));
        await using var db = await Db(bench);
        // An earlier run that stays at work over two due instants.
        db.Workers.Add(
            new Worker
            {
                Id = "another",
                Host = "heron",
                BeatAt = long.MaxValue / 2,
            }
        );
        var busy = new Run
        {
            Kind = RunKind.Backup,
            State = RunState.Running,
            Worker = "another",
            Job = "register",
            Machine = "heron",
            Store = "cellar",
            By = Actor.Person("mira"),
            Queued = NodaTime.Instant.FromDateTimeOffset(bench.Clock.Now),
        };
        db.Runs.Add(busy);
        await db.SaveChangesAsync();
        var loop = bench.Services.GetRequiredService<Timetable.ClockLoop>();
        foreach (var hour in new[] { 10, 11 })
        {
            bench.Clock.Now = new DateTimeOffset(2026, 11, 23, hour, 0, 1, TimeSpan.Zero);
            await loop.TickAsync();
        }
        bench.Clock.Now = bench.Clock.Now.AddMinutes(40);
        await db.Runs.Where(r => r.Id == busy.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.State, RunState.Ended));
        await loop.TickAsync();
        await bench.IdleAsync();
        Assert.Equal(ends.Split(' '), (await PlannedAsync(bench)).Select(p => p.Split(' ')[1]));
        Assert.Equal(copies, (await bench.CopiesAsync()).Count);
    }

    [Fact]
    public async Task A_follower_runs_after_success_and_is_held_back_visibly_after_a_failure()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench.Charter("daily at 10:00")
                + $"\n  second: {{ takes: {bench.Source}, into: cellar, policy: few, after: register }}\n  third: {{ takes: "
                + $"{bench.Source}, into: cellar, policy: few, after: second }}\n"
        );
        await bench.TickAsync("2026-11-23T10:00:00Z");
        await bench.TickAsync("2026-11-23T10:00:02Z");
        await bench.TickAsync("2026-11-23T10:00:04Z");
        Assert.Equal(
            ["register ok", "second ok", "third ok"],
            (await bench.GetAsync<Page<RunAnswer>>("runs")).Items.OrderBy(r => r.Id).Select(r => $"{r.Job} {r.Outcome.Word()}")
        );
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-24T10:00:00Z");
        await bench.TickAsync("2026-11-24T10:00:02Z");
        await bench.TickAsync("2026-11-24T10:00:04Z");
        await using var db = await Db(bench);
        var held = await db.PlannedRuns.Where(p => p.Outcome == Core.Watching.Outcome.HeldBack).OrderBy(p => p.Job).ToListAsync();
        Assert.Equal(
            ["second: job register, which it follows, ended as failed", "third: job second, which it follows, ended as held-back"],
            held.Select(p => $"{p.Job}: {p.Reason}")
        );
        var duty = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal(duty.Planned, duty.Outcomes.Values.Sum() + duty.StillRunning);
        Assert.Equal(6, (await bench.GetAsync<List<TimetableEntry>>("timetable?hours=48")).Count);
    }

    [Fact]
    public async Task A_paused_job_is_held_back_until_its_day_and_says_by_whom_and_why()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours", more: "fresh-within: 20 hours"));
        await bench.BackUpAsync();
        await bench.SendAsync<JobAnswer>(
            HttpMethod.Put,
            "jobs/register/pause",
            new PauseRequest("the disk is being moved", bench.Clock.Now.AddHours(24))
        );
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T12:00:00Z");
        await bench.TickAsync("2026-11-24T08:00:00Z");
        Assert.All(await PlannedAsync(bench), p => Assert.EndsWith("held-back", p));
        // Its copies grow old all the same, and that is said.
        Assert.Equal("stale", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
        Assert.Equal("mira", (await bench.GetAsync<JobAnswer>("jobs/register")).Pause?.By);
        await bench.TickAsync("2026-11-24T12:00:00Z");
        Assert.Null((await bench.GetAsync<JobAnswer>("jobs/register")).Pause);
        Assert.EndsWith("ok", (await PlannedAsync(bench))[^1]);
        Assert.Empty(await bench.OpenAlertsAsync());
        foreach (
            var (request, says) in new[]
            {
                (new PauseRequest("x", bench.Clock.Now.AddDays(1)), "few words"),
                (new PauseRequest("because", bench.Clock.Now), "not in the future"),
                (new PauseRequest("because", bench.Clock.Now.AddYears(3)), "days away"),
            }
        )
        {
            using var refused = await bench.RawAsync(HttpMethod.Put, "jobs/register/pause", request);
            Assert.Contains(says, await refused.Content.ReadAsStringAsync());
        }
    }

    [Fact]
    public async Task A_passing_cause_is_tried_again_with_growing_pauses_and_told_only_at_the_last()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 10:00", more: "retries: 2"));
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        await bench.TickAsync("2026-11-23T10:00:00Z");
        // That the store is away is told at once, by whoever looks after it; of the run nothing is told before its last try.
        Assert.Null(Assert.Single(await bench.OpenAlertsAsync()).RunId);
        await bench.TickAsync("2026-11-23T10:01:01Z");
        await bench.TickAsync("2026-11-23T10:03:00Z");
        Assert.Equal(
            ["0 failed", "1 failed", "2 "],
            (await RunsAsync(bench)).OrderBy(r => r.Id).Select(r => $"{r.Attempt} {r.Outcome.Word()}")
        );
        await bench.TickAsync("2026-11-23T10:03:02Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("store cellar", "failed", 2), (alert.Subject.Words, alert.Class.Word(), alert.Count));
        Assert.NotNull(alert.RunId);
        Assert.Equal(["10:00 failed"], await PlannedAsync(bench));
        // What does not pass by itself is not tried again.
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-24T10:00:00Z");
        Assert.Equal(4, (await RunsAsync(bench)).Count);
    }

    [Fact]
    public async Task One_store_that_is_away_is_one_matter_however_many_jobs_it_stops()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        var jobs = string.Concat(
            Enumerable.Range(1, 4).Select(i => $"\n  job-{i}: {{ takes: {bench.Source}, into: cellar, policy: few, when: daily at 10:00 }}")
        );
        await bench.ApplyAsync(bench.Charter("daily at 10:00") + jobs);
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        await bench.TickAsync("2026-11-23T10:00:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("store cellar", 5), (alert.Subject.Words, alert.Affected.Count));
        // Whoever looks after stores may have seen it before the first of them.
        Assert.InRange(alert.Count, 5, 6);
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        await bench.BackUpAsync();
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_run_past_its_limit_is_told_of_and_ended_where_the_job_says_so()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter("daily at 10:00", more: "run-limit: 2 hours"));
        // Large enough to be found at its reading.
        for (var i = 0; i < 8; i++)
        {
            var bytes = new byte[24_000_000];
            new Random(i).NextBytes(bytes);
            File.WriteAllBytes(bench.Source + $"/{i}", bytes);
        }
        var dispatch = bench.Services.GetRequiredService<Dispatch>();
        var loop = bench.Services.GetRequiredService<Timetable.ClockLoop>();
        bench.Clock.Now = new DateTimeOffset(2026, 11, 23, 10, 0, 0, TimeSpan.Zero);
        await loop.TickAsync();
        while (dispatch.AtWork.FirstOrDefault()?.Now.ReadBytes is null or 0)
            await Task.Delay(1);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(119);
        await loop.TickAsync();
        Assert.False(dispatch.AtWork.First().Token.IsCancellationRequested);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(2);
        await loop.TickAsync();
        await bench.IdleAsync();
        var run = Assert.Single(await RunsAsync(bench));
        Assert.Equal(("timed-out", "timed-out"), (run.Outcome.Word(), run.Failure.Word()));
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("overdue", 1), (alert.Class.Word(), alert.Count));
        Assert.Empty(await bench.CopiesAsync());
        foreach (var file in Directory.EnumerateFiles(bench.Source).Skip(1))
            File.Delete(file);
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_machine_that_was_silent_is_told_of_until_the_next_good_run()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        await bench.TickAsync("2026-11-23T09:01:00Z");
        bench.Silence = "20 minutes";
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T09:15:00Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        // Switched off between two looks of a service that stayed in memory (a laptop that slept), and over a restart.
        await bench.TickAsync("2026-11-23T12:00:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("silent", "machine heron"), (alert.Class.Word(), alert.Subject.Words));
        Assert.Contains("from 2026-11-23 09:15Z", alert.Message);
        await bench.BackUpAsync();
        Assert.Empty(await bench.OpenAlertsAsync());
        bench.Clock.Now = bench.Clock.Now.AddHours(2);
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T14:30:00Z");
        Assert.Equal("silent", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
    }

    private static async Task<IReadOnlyList<RunAnswer>> RunsAsync(Bench bench) =>
        (await bench.GetAsync<Page<RunAnswer>>("runs?kind=backup")).Items;

    private static async Task<List<string>> PlannedAsync(Bench bench)
    {
        await using var db = await Db(bench);
        return (await db.PlannedRuns.OrderBy(p => p.Due).ToListAsync())
            .Select(p =>
                $"{p.Due.ToDateTimeUtc():HH:mm} "
                + $"{Core.Quantities.Kebab.From(p.Outcome.ToString()!)}{(p.MadeUpBy is null ? "" : $" by {p.MadeUpBy}")}"
            )
            .ToList();
    }

    private static Task<KeepContext> Db(Bench bench) =>
        bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
}
