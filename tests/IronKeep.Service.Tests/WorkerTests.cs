using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>Runs are a worker's for as long as it is heard of, and the clock one service's.</summary>
public sealed class WorkerTests
{
    private static readonly Progress Nothing = new(0, 0, 0, 0, 0, 0);

    private static async Task<Run> RunOfAsync(
        Bench bench,
        string worker,
        RunKind kind = RunKind.Backup,
        string? order = null,
        int attempt = 0
    )
    {
        await using var db = await bench.KeepAsync();
        if (!await db.Workers.AnyAsync(w => w.Id == worker))
            db.Workers.Add(
                new Worker
                {
                    Id = worker,
                    Host = "elsewhere",
                    BeatAt = long.MaxValue / 2,
                }
            );
        var run = new Run
        {
            Kind = kind,
            State = RunState.Running,
            Job = kind == RunKind.Backup ? "register" : null,
            Machine = "heron",
            Store = "cellar",
            By = Actor.Schedule,
            Worker = worker,
            Order = order,
            Attempt = attempt,
            Queued = Instant.FromDateTimeOffset(bench.Clock.Now),
            Began = Instant.FromDateTimeOffset(bench.Clock.Now),
        };
        db.Runs.Add(run);
        await db.SaveChangesAsync();
        return run;
    }

    private static async Task BuryAsync(Bench bench, string worker)
    {
        await using var db = await bench.KeepAsync();
        await db.Workers.Where(w => w.Id == worker).ExecuteUpdateAsync(s => s.SetProperty(w => w.Gone, true));
    }

    [Fact]
    public async Task A_run_is_taken_from_a_worker_that_is_gone_and_a_ghost_that_comes_back_cannot_end_it()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        var (run, other) = (await RunOfAsync(bench, "ghost"), await RunOfAsync(bench, "there", RunKind.Check));
        await BuryAsync(bench, "ghost");
        await bench.RestartAsync(() => { });
        await using (var db = await bench.KeepAsync())
        {
            Assert.Equal(
                (Outcome.Failed, FailureClass.Interrupted),
                (
                    await db
                        .Runs.Where(r => r.Id == run.Id)
                        .Select(r => new ValueTuple<Outcome, FailureClass>(r.Outcome!.Value, r.Failure!.Value))
                        .SingleAsync()
                )
            );
        }
        var ends = bench.Services.GetRequiredService<RunEnds>();
        Assert.False(await ends.EndAsync(run, RunState.Running, "ghost", Nothing, new RunEnding(Outcome.Ok, "it ended well after all")));
        Assert.Equal(Outcome.Failed, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome);
        // Nor can one end what another has.
        Assert.False(
            await ends.EndAsync(await RunOfAsync(bench, "there"), RunState.Running, "ghost", Nothing, new RunEnding(Outcome.Ok, "not mine"))
        );
        Assert.NotEqual(0, other.Id);
    }

    [Theory]
    [InlineData(RunKind.Backup, 0, "Interrupted", 0)]
    [InlineData(RunKind.Check, 0, "begins anew", 1)]
    [InlineData(RunKind.Check, 3, "Interrupted", 0)]
    [InlineData(RunKind.Reclaim, 0, "begins anew", 1)]
    public async Task What_becomes_of_a_lost_run_follows_from_its_kind(RunKind kind, int attempt, string says, int more)
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        await bench.Services.GetRequiredService<Dispatch>().HoldAsync();
        var run = await RunOfAsync(bench, "ghost", kind, kind == RunKind.Check ? """{"Budget":null,"Depth":0}""" : null, attempt);
        await BuryAsync(bench, "ghost");
        await bench.RestartAsync();
        await bench.IdleAsync();
        Assert.Contains(says, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Sentence);
        Assert.Equal(
            more,
            (await bench.GetAsync<Page<RunAnswer>>("runs")).Items.Count(r =>
                r.Id > run.Id && r.Kind == kind && r.Outcome == Outcome.Ok && r.Attempt == attempt + 1
            )
        );
    }

    [Fact]
    public async Task Ceilings_hold_over_what_others_have_and_a_run_that_hangs_elsewhere_holds_its_job()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench.Charter().Replace("zone:", "runs-at-once: 2\nzone:", StringComparison.Ordinal)
                + $"\n  other: {{ takes: {bench.Source}, into: cellar, policy: few }}"
        );
        await using var db = await bench.KeepAsync();
        var (first, second) = (await RunOfAsync(bench, "there", RunKind.Check), await RunOfAsync(bench, "there", RunKind.Check));
        var waits = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/other/runs");
        await Task.Delay(1500);
        Assert.Equal(RunState.Queued, (await bench.GetAsync<RunAnswer>($"runs/{waits.Id}")).State);
        await db
            .Runs.Where(r => r.Id == first.Id || r.Id == second.Id)
            .ExecuteUpdateAsync(s => s.SetProperty(r => r.State, RunState.Ended).SetProperty(r => r.Outcome, Outcome.Ok));
        await bench.IdleAsync();
        Assert.Equal(Outcome.Ok, (await bench.GetAsync<RunAnswer>($"runs/{waits.Id}")).Outcome);
        db.HangingRuns.Add(
            new HangingRun
            {
                RunId = 999,
                Worker = "there",
                Job = "other",
                Machine = "heron",
            }
        );
        await db.SaveChangesAsync();
        using (var refused = await bench.RawAsync(HttpMethod.Post, "jobs/other/runs"))
            Assert.Contains("hangs still", await refused.Content.ReadAsStringAsync());
        Assert.Equal(Outcome.Ok, (await bench.BackUpAsync()).Outcome);
    }

    /// <summary>Logs that are slow to open: a run that was taken is not at work yet.</summary>
    private sealed class SlowLogs(IRunLogs inner, TaskCompletionSource opening, ManualResetEventSlim goOn) : IRunLogs
    {
        public IRunLog Open(long runId)
        {
            opening.TrySetResult();
            goOn.Wait();
            return inner.Open(runId);
        }

        public Task<RunLogAnswer> ReadAsync(long runId, int from, LogSeverity least, CancellationToken cancel) =>
            inner.ReadAsync(runId, from, least, cancel);

        public Task DropOlderThanAsync(Instant before, CancellationToken cancel) => inner.DropOlderThanAsync(before, cancel);
    }

    [SharedCatalogueFact]
    public async Task A_run_that_is_just_being_taken_is_not_called_lost()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        var opening = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        using var goOn = new ManualResetEventSlim();
        bench.Change = b =>
            b.Services.AddSingleton<IRunLogs>(s => new SlowLogs(ActivatorUtilities.CreateInstance<CatalogueRunLogs>(s), opening, goOn));
        await bench.RestartAsync();
        var run = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        await opening.Task;
        var looking = bench.Services.GetRequiredService<Dispatch>().LookAsync(default);
        await Task.WhenAny(looking, Task.Delay(TimeSpan.FromSeconds(1)));
        goOn.Set();
        await looking;
        await bench.IdleAsync();
        Assert.Equal(Outcome.Ok, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome);
    }

    [Fact]
    public async Task Who_has_lost_the_lead_changes_nothing_in_its_name()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 1 hours"));
        var leading = bench.Services.GetRequiredService<Leading>();
        Assert.True(leading.IsLeading);
        await using (var db = await bench.KeepAsync())
        {
            db.Workers.Add(
                new Worker
                {
                    Id = "another",
                    Host = "elsewhere",
                    BeatAt = long.MaxValue / 2,
                }
            );
            await db.SaveChangesAsync();
            await db.Leases.ExecuteUpdateAsync(s => s.SetProperty(l => l.Worker, "another"));
            // As if it had been stopped in the middle, and had not noticed.
            await Assert.ThrowsAsync<NotLeadingException>(() => leading.BeginAsync(db, default));
        }
        bench.Clock.Now = bench.Clock.Now.AddHours(3);
        await Assert.ThrowsAnyAsync<Exception>(() => bench.Services.GetRequiredService<Timetable.ClockLoop>().TickAsync());
        await using (var db = await bench.KeepAsync())
        {
            Assert.Equal(0, await db.PlannedRuns.CountAsync());
            Assert.Equal("another", (await db.Leases.SingleAsync()).Worker);
            // When the other is gone, it takes over, and serves what is due.
            await db.Workers.Where(w => w.Id == "another").ExecuteUpdateAsync(s => s.SetProperty(w => w.Gone, true));
        }
        await leading.LookAsync(default);
        await bench.Services.GetRequiredService<Timetable.ClockLoop>().TickAsync();
        await using (var db = await bench.KeepAsync())
            Assert.Equal(3, await db.PlannedRuns.CountAsync());
    }
}
