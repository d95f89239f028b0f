using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>The service starts at 2026-11-23 09:00Z (the bench's clock); London is on UTC then.</summary>
public sealed class ClockLoopTests
{
    [Fact]
    public async Task Every_due_instant_is_served_once_across_restarts_edits_and_a_clock_set_back()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        await bench.TickAsync("2026-11-23T12:00:00Z");
        await bench.TickAsync("2026-11-23T12:00:01Z");
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T12:20:00Z");
        // Back over a due instant that was served: nothing again; then forward once more.
        await bench.TickAsync("2026-11-23T11:50:00Z");
        await bench.TickAsync("2026-11-23T12:10:00Z");
        await bench.TickAsync("2026-11-23T18:00:05Z");
        // An edit between two looks: what the old schedule owed until now is still served, the new one counts from now on.
        bench.Clock.Now = DateTimeOffset.Parse("2026-11-24T00:05:00Z", System.Globalization.CultureInfo.InvariantCulture);
        await bench.ApplyAsync(bench.Charter("daily at 00:04, 00:10"));
        await bench.TickAsync("2026-11-24T00:06:00Z");
        await bench.TickAsync("2026-11-24T00:10:00Z");
        Assert.Equal(
            ["2026-11-23T12:00:00Z ok", "2026-11-23T18:00:00Z ok", "2026-11-24T00:00:00Z ok", "2026-11-24T00:10:00Z ok"],
            await PlannedAsync(bench)
        );
        Assert.Equal(4, (await bench.CopiesAsync()).Count);
    }

    [Fact]
    public async Task A_job_taken_out_and_put_back_under_a_clock_set_back_is_not_served_twice()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        await bench.TickAsync("2026-11-23T12:00:00Z");
        await bench.TickAsync("2026-11-23T18:00:00Z");
        bench.Clock.Now = bench.Clock.Now.AddHours(-7);
        await bench.ApplyAsync("charter: 1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        await bench.TickAsync("2026-11-23T18:00:05Z");
        await bench.TickAsync("2026-11-24T00:00:00Z");
        Assert.Equal(["2026-11-23T12:00:00Z ok", "2026-11-23T18:00:00Z ok", "2026-11-24T00:00:00Z ok"], await PlannedAsync(bench));
        // A planned run whose job is gone by the time it is looked at is not left hanging.
        bench.Clock.Now = bench.Clock.Now.AddHours(6);
        await bench.ApplyAsync("charter: 1");
        await bench.TickAsync("2026-11-24T06:00:01Z");
        Assert.Equal("2026-11-24T06:00:00Z cancelled", (await PlannedAsync(bench))[^1]);
    }

    [Fact]
    public async Task What_could_not_start_in_time_is_missed_said_and_made_good_by_the_next_run()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        // The service was away over two due instants; a third is still within its half hour.
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-24T00:20:00Z");
        Assert.Equal(["2026-11-23T12:00:00Z missed", "2026-11-23T18:00:00Z missed", "2026-11-24T00:00:00Z ok"], await PlannedAsync(bench));
        var all = (await bench.GetAsync<Page<AlertAnswer>>("alerts")).Items;
        var missed = Assert.Single(all);
        Assert.Equal(("missed", 2, "job register on heron"), (missed.Class.Word(), missed.Count, missed.Subject.Words));

        // Missed again within the hour after the alert was closed or not: one matter, counted, not two.
        await bench.TickAsync("2026-11-24T06:31:00Z");
        var open = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal("missed", open.Class.Word());
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{open.Id}/acknowledge");
        Assert.Equal("mira", Assert.Single(await bench.OpenAlertsAsync()).AcknowledgedBy);
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task The_sums_of_the_night_add_up()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 2 hours"));
        await bench.TickAsync("2026-11-23T12:00:00Z");
        await bench.TickAsync("2026-11-23T14:00:00Z");
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-23T16:00:00Z");
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.TickAsync("2026-11-23T23:00:00Z");
        await bench.BackUpAsync();
        await bench.TickAsync("2026-11-24T08:00:00Z");
        var duty = await bench.GetAsync<DutyAnswer>("duty");
        Assert.Equal("2026-11-23T12:00:00.0000000+00:00", duty.From.ToString("o"));
        Assert.Equal(duty.Planned, duty.Outcomes.Values.Sum() + duty.StillRunning);
        Assert.Equal(
            (11, 3, 1, 7, 1),
            (duty.Planned, duty.Outcomes["ok"], duty.Outcomes["failed"], duty.Outcomes["missed"], duty.Unplanned)
        );
    }

    private static async Task<List<string>> PlannedAsync(Bench bench)
    {
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        return (await db.PlannedRuns.OrderBy(p => p.Due).ToListAsync())
            .Select(p => $"{p.Due} {p.Outcome.Word()?.ToString().ToLowerInvariant()}")
            .ToList();
    }
}
