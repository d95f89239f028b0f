using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Duty;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>The night judged on one screen, however many jobs there are. Source: docs/semantics.md, section 6 (Watching).</summary>
public sealed class DutyGroupsTests
{
    private static string Many(int jobs, int machines) =>
        "charter: 1\nzone: UTC\nmachines:\n"
        + string.Concat(Enumerable.Range(0, machines).Select(m => $"  m{m:000}: {(m % 2 == 0 ? "{ tags: even }" : "{}")}\n"))
        + "jobs:\n"
        + string.Concat(
            Enumerable
                .Range(0, jobs)
                .Select(j => $"  j{j:0000}: {{ watched: yes, on: m{j % machines:000}, when: daily at 10:00, start-limit: 1 hour }}\n")
        );

    [Fact]
    public async Task Up_to_thirty_jobs_have_a_row_each_and_more_are_put_together_by_machine()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Many(30, 3));
        var few = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal((DutyGrouping.Job, 30, 0), (few.GroupedBy, few.Board.Count, few.Groups.Count));
        await bench.ApplyAsync(Many(31, 3));
        await bench.TickAsync("2026-11-23T09:30:00Z");
        await bench
            .Services.GetRequiredService<AlertBook>()
            .RaiseAsync(new Matter(Subject.OfStore("s"), AlertClass.Failed, "x", "y"), default);
        await bench.TickAsync("2026-11-23T10:00:00Z");
        await bench.TickAsync("2026-11-23T11:30:00Z");
        var many = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal((DutyGrouping.Machine, 0), (many.GroupedBy, many.Board.Count));
        Assert.Equal([("m000", 11, 11), ("m001", 10, 10), ("m002", 10, 10)], many.Groups.Select(g => (g.Name, g.Jobs, g.WrongLastNight)));
        Assert.All(many.Groups, g => Assert.Equal((Outcome.Missed, g.Jobs), (g.Nights[^1].Worst, g.Nights[^1].Planned)));
        Assert.Equal(31, many.Groups.Sum(g => g.Nights[^1].Bad));
        // After noon another night has begun, and the one that is over is the last.
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        var later = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal(31, later.Groups.Sum(g => g.WrongLastNight));
        Assert.All(later.Groups, g => Assert.Null(g.Nights[^1].Worst));
        Assert.Equal(many.Planned, many.Outcomes.Values.Sum() + many.StillRunning);
        // What became one alert about its machine is not counted by itself, nor told.
        Assert.Equal((4, 0), (many.Since.AlertsOpened, many.Since.AlertsClosed));
        Assert.Equal((2, 31), (many.Since.CharterChanges, many.Promises.Jobs));

        // By tag a job stands with each of its tags; those without one stand together.
        var tags = await bench.GetAsync<DutyAnswer>("duty?by=tag");
        Assert.Equal([("even", 21), ("no tag", 10)], tags.Groups.Select(g => (g.Name, g.Jobs)).Order());
        Assert.Equal(31, (await bench.GetAsync<DutyAnswer>("duty?by=job")).Board.Count);
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Get, "duty?by=site")).StatusCode);
    }

    [Fact]
    public async Task What_is_remembered_of_many_jobs_is_forgotten_when_a_fact_says_otherwise_or_time_has_passed()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Many(31, 1));
        await bench.TickAsync("2026-11-23T10:00:00Z");
        await bench.TickAsync("2026-11-23T11:30:00Z");
        async Task<int> BadAsync() => Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Groups).Nights[^1].Bad;
        Assert.Equal(31, await BadAsync());
        await using var db = await bench.KeepAsync();
        async Task SetAsync(string job) =>
            await db.PlannedRuns.Where(p => p.Job == job).ExecuteUpdateAsync(s => s.SetProperty(p => p.Outcome, Outcome.Ok));
        await SetAsync("j0000");
        Assert.Equal(31, await BadAsync());
        bench.Clock.Now = bench.Clock.Now.AddSeconds(5);
        Assert.Equal(30, await BadAsync());
        await SetAsync("j0001");
        await using (var change = await db.BeginChangeAsync(default))
        {
            var now = NodaTime.Instant.FromDateTimeOffset(bench.Clock.Now);
            var run = new Run
            {
                Kind = RunKind.Watched,
                Job = "j0001",
                Machine = "m000",
                By = Actor.Schedule,
                State = RunState.Ended,
                Outcome = Outcome.Ok,
                Queued = now,
                Ended = now,
            };
            db.Runs.Add(run);
            await db.SaveChangesAsync();
            db.SayEnded(run, now);
            await db.SaveChangesAsync();
            await change.CommitAsync(default);
        }
        Assert.Equal(29, await BadAsync());
    }

    [Fact]
    public async Task More_groups_than_fit_end_in_one_row_for_the_rest_and_the_sums_hold()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Many(80, 40));
        var duty = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal(30, duty.Groups.Count);
        Assert.Equal(("11 more", 11, 22), (duty.Groups[^1].Name, duty.Groups[^1].Groups, duty.Groups[^1].Jobs));
        Assert.Equal(80, duty.Groups.Sum(g => g.Jobs));
    }

    [Fact]
    public async Task The_coming_nights_troubles_come_from_the_forecast_and_nobody_waits_for_it()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(more: "fresh-within: 10 hours"));
        await bench.BackUpAsync();
        var tonight = bench.Services.GetRequiredService<Tonight>();
        await tonight.PlayAsync(default);
        var trouble = Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Tonight!);
        Assert.Equal("job register", trouble.Subject);
        Assert.InRange(trouble.At, bench.Clock.Now.AddHours(10), bench.Clock.Now.AddHours(15));
        // Another charter is another night: what is shown meanwhile is the last that was played.
        await bench.ApplyAsync(bench.Charter());
        Assert.NotNull((await bench.GetAsync<DutyAnswer>("duty")).Tonight);
        for (var i = 0; i < 3000 && (await bench.GetAsync<DutyAnswer>("duty")).Tonight!.Count > 0; i++)
            await Task.Delay(20);
        Assert.Empty((await bench.GetAsync<DutyAnswer>("duty")).Tonight!);
    }
}
