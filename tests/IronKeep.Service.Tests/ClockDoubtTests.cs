using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>A clock that somebody moved, as against time that passed.</summary>
public sealed class ClockDoubtTests
{
    [Fact]
    public async Task Set_forward_400_days_nothing_expires_and_set_back_nothing_fires_twice_or_is_lost()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours", keep: "all within 2 days", more: "prune: after-success"));
        for (var day = 23; day < 26; day++)
        for (var hour = day == 23 ? 12 : 0; hour < 24; hour += 6)
            await bench.TickAsync($"2026-11-{day}T{hour:00}:00:01Z");
        var before = (await bench.CopiesAsync()).Count(c => c.BinnedAt is null);
        bench.Clock.Jump(TimeSpan.FromDays(400));
        await bench.TickAsync("2027-12-30T18:10:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("clock", "the clock of heron"), (alert.Class.Word(), alert.Subject.Words));
        Assert.Contains("jumped forward by 400 days", alert.Message);
        // Runs go on by the new time; nothing of the 400 days is called missed, and nothing expires or leaves the bin.
        await bench.TickAsync("2027-12-31T00:00:01Z");
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        Assert.Equal(0, await db.PlannedRuns.CountAsync(p => p.Outcome == Core.Watching.Outcome.Missed));
        Assert.Equal(before + 1, (await bench.CopiesAsync()).Count(c => c.BinnedAt is null));
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal(0, plan.Counts["expire"]);
        Assert.Contains(plan.Copies, c =>
            c.Verdict.Word() == "frozen" && c.Reasons[^1].Contains("jumped forward", StringComparison.Ordinal)
        );
        Assert.Equal("held-back", (await bench.RunAsync("stores/cellar/reclaims")).Outcome.Word());
        await bench.RestartAsync();
        Assert.Equal("clock", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());

        // Set right again: what was due since is served, what was served is not.
        bench.Clock.Jump(new DateTimeOffset(2026, 11, 26, 0, 10, 0, TimeSpan.Zero) - bench.Clock.Now);
        await bench.TickAsync("2026-11-26T00:10:01Z");
        await bench.TickAsync("2026-11-26T06:00:01Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        var due = (await db.PlannedRuns.AsNoTracking().OrderBy(p => p.Due).ToListAsync())
            .Where(p => p.Due.ToDateTimeUtc().Year == 2026)
            .Select(p => $"{p.Due.ToDateTimeUtc():dd HH} {p.Outcome.Word()}")
            .ToList();
        Assert.Equal(due.Distinct(), due);
        Assert.All(due, d => Assert.EndsWith("ok", d));
        Assert.Equal(12, due.Count);
        Assert.Equal(0, (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans")).Counts["frozen"]);
    }

    [Fact]
    public async Task A_person_can_confirm_the_new_time_and_the_gap_is_then_missed_and_made_up_for()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        using (var nothing = await bench.RawAsync(HttpMethod.Post, "service/confirm-clock"))
            Assert.Equal(HttpStatusCode.Conflict, nothing.StatusCode);
        bench.Clock.Jump(TimeSpan.FromDays(3));
        await bench.TickAsync("2026-11-26T09:01:00Z");
        Assert.Contains(((await bench.GetAsync<SelfCheckAnswer>("service")).Findings), f =>
            f is { What: "clock", State: FindingState.Failed }
        );
        using (var done = await bench.RawAsync(HttpMethod.Post, "service/confirm-clock"))
            Assert.Equal(HttpStatusCode.NoContent, done.StatusCode);
        await bench.TickAsync("2026-11-26T09:02:00Z");
        var missed = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("missed", 3), (missed.Class.Word(), missed.Count));
        await bench.TickAsync("2026-11-26T09:13:00Z");
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task Time_that_passes_is_no_jump_and_a_clock_set_back_is_said()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        await bench.TickAsync("2026-12-20T09:00:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
        bench.Clock.Jump(TimeSpan.FromDays(-12));
        await bench.TickAsync("2026-12-08T09:01:00Z");
        Assert.Contains("jumped back by 12 days", (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "clock").Message);
        await bench.TickAsync("2026-12-09T23:00:01Z");
        // What was missed for nights that are to come again is planned again when they come; nothing is twice.
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        Assert.Equal(17, await db.PlannedRuns.CountAsync());
        bench.Clock.Jump(TimeSpan.FromDays(12));
        await bench.TickAsync("2026-12-21T23:05:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
        Assert.Equal(29, await db.PlannedRuns.CountAsync());
    }
}
