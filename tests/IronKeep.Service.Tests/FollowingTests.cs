using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>What follows from the end of a run, and what a moved clock does to stores' times.</summary>
public sealed class FollowingTests
{
    private static readonly Instant Noon = Instant.FromUtc(2026, 11, 23, 12, 0);

    [Fact]
    public async Task A_run_makes_up_for_what_was_missed_before_it_began_and_for_nothing_after()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        await using var db = await bench.KeepAsync();
        foreach (var hours in (int[])[-1, 0, 1])
            db.PlannedRuns.Add(
                new PlannedRun
                {
                    Job = "register",
                    Machine = "heron",
                    Due = Noon + Duration.FromHours(hours),
                    Outcome = Outcome.Missed,
                    Reason = "it was off",
                }
            );
        var run = await EndedAsync(db, Outcome.Ok);
        await FollowAsync(bench, db, run);
        Assert.Equal(
            [run.Id, run.Id, (long?)null],
            await db.PlannedRuns.AsNoTracking().Where(p => p.Job == "register").OrderBy(p => p.Due).Select(p => p.MadeUpBy).ToListAsync()
        );
    }

    [Theory]
    [InlineData(Outcome.Suspect, Outcome.HeldBack)]
    [InlineData(Outcome.Ok, null)]
    [InlineData(Outcome.Warned, null)]
    public async Task A_head_that_succeeds_after_all_lets_its_follower_go_and_a_suspect_one_does_not(Outcome head, Outcome? follower)
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter() + $"\n  second: {{ takes: {bench.Source}, into: cellar, policy: few, after: register }}\n");
        await using var db = await bench.KeepAsync();
        var due = Noon - Duration.FromHours(1);
        foreach (var (job, outcome) in new[] { ("register", Outcome.Failed), ("second", Outcome.HeldBack) })
            db.PlannedRuns.Add(
                new PlannedRun
                {
                    Job = job,
                    Machine = "heron",
                    Due = due,
                    Outcome = outcome,
                    Reason = "as it ended",
                }
            );
        await FollowAsync(bench, db, await EndedAsync(db, head));
        Assert.Equal(follower, (await db.PlannedRuns.AsNoTracking().SingleAsync(p => p.Job == "second")).Outcome);
    }

    [Fact]
    public async Task Times_of_stores_go_back_with_a_clock_that_was_set_back_and_jump_over_what_a_jump_skipped()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter().Replace("bin: 2 days", "bin: 2 days, verify: daily at 10:00", StringComparison.Ordinal));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        await bench.TickAsync("2026-11-23T09:30:00Z");
        await using var db = await bench.KeepAsync();
        async Task<Instant> MarkAsync() => (await db.TimedMarks.AsNoTracking().SingleAsync(m => m.Store == "cellar")).Watermark;
        async Task<int> ChecksAsync() => await db.Runs.CountAsync(r => r.Kind == RunKind.Check);

        bench.Clock.Jump(TimeSpan.FromHours(-3));
        await bench.TickAsync("2026-11-23T06:31:00Z");
        Assert.True(await MarkAsync() <= Instant.FromUtc(2026, 11, 23, 6, 31), $"it stands at {await MarkAsync()}");
        await bench.TickAsync("2026-11-23T10:00:05Z");
        Assert.Equal(1, await ChecksAsync());

        // Three days that nobody lived through are none in which a store was due to be verified.
        bench.Clock.Jump(TimeSpan.FromDays(3));
        await bench.TickAsync("2026-11-26T10:05:00Z");
        await bench.TickAsync("2026-11-26T10:06:00Z");
        Assert.True(await MarkAsync() >= Instant.FromUtc(2026, 11, 26, 10, 5), $"it stands at {await MarkAsync()}");
        Assert.Equal(1, await ChecksAsync());
        await bench.TickAsync("2026-11-27T10:00:05Z");
        Assert.Equal(2, await ChecksAsync());
    }

    /// <summary>A run that was started by hand: it began at noon and took an hour.</summary>
    private static async Task<Run> EndedAsync(KeepContext db, Outcome outcome)
    {
        var run = new Run
        {
            Kind = RunKind.Backup,
            State = RunState.Ended,
            Job = "register",
            Machine = "heron",
            Store = "cellar",
            By = Actor.Person("mira"),
            Queued = Noon,
            Began = Noon,
            Ended = Noon + Duration.FromHours(1),
            Outcome = outcome,
        };
        db.Runs.Add(run);
        await db.SaveChangesAsync();
        return run;
    }

    private static async Task FollowAsync(Bench bench, KeepContext db, Run run)
    {
        db.ChangeTracker.Clear();
        var fact = new Fact
        {
            At = run.Ended!.Value,
            Kind = FactKind.RunEnded,
            Job = run.Job,
            Machine = run.Machine,
            RunId = run.Id,
        };
        await new MadeUp(bench.Services.GetRequiredService<CharterInForce>()).FollowAsync(db, [fact], default);
    }
}
