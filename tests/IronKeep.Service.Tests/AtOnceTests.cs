using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>What may not work beside something else waits for it, and what hangs holds only what is its own.</summary>
public sealed class AtOnceTests
{
    private readonly HangingPlaces places = new("attic");

    private async Task<Bench> BeginAsync()
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        bench.Change = b => b.Services.AddSingleton<StorePlaces>(places);
        bench.More = ["--IronKeep:RunsAtOnce=8"];
        await bench.RestartAsync();
        bench.Services.GetRequiredService<OpenStores>().Waits = TimeSpan.FromMinutes(1);
        bench.Services.GetRequiredService<Dispatch>().Grace = TimeSpan.FromMilliseconds(100);
        await bench.ApplyAsync(
            bench
                .Charter()
                .Replace("policies:", $"  attic: {{ folder: {bench.Root}/attic, bin: 0 days }}\npolicies:", StringComparison.Ordinal)
                + $"\n  upstairs: {{ takes: {bench.Source}, into: attic, policy: few }}"
        );
        await bench.RunAsync("jobs/upstairs/runs");
        return bench;
    }

    private static Task<RunAnswer> AskAsync(Bench bench, string path) => bench.SendAsync<RunAnswer>(HttpMethod.Post, path);

    private static Task<RunAnswer> SeeAsync(Bench bench, long id) => bench.GetAsync<RunAnswer>($"runs/{id}");

    private static async Task<RunAnswer> UntilAsync(Bench bench, long id, RunState state)
    {
        for (; ; await Task.Delay(20))
            if (await SeeAsync(bench, id) is var run && run.State == state)
                return run;
    }

    /// <summary>Another store's job comes and goes: whatever could begin beside it has begun.</summary>
    private static async Task SomethingElseRunsAsync(Bench bench) =>
        await UntilAsync(bench, (await AskAsync(bench, "jobs/register/runs")).Id, RunState.Ended);

    [Fact]
    public async Task No_second_run_of_a_job_begins_beside_one_that_was_given_up_and_hangs()
    {
        await using var bench = await BeginAsync();
        places.Answers.Reset();
        try
        {
            RunAnswer given;
            var tries = 0;
            do
            {
                // One that is cancelled before it comes to where it hangs just ends.
                Assert.True(++tries < 20, "no run hung");
                var first = await AskAsync(bench, "jobs/upstairs/runs");
                await UntilAsync(bench, first.Id, RunState.Running);
                await Task.Delay(100 * tries);
                await AskAsync(bench, $"runs/{first.Id}/cancel");
                given = await UntilAsync(bench, first.Id, RunState.Ended);
            } while (!given.Sentence!.Contains("it hangs on something", StringComparison.Ordinal));
            using (var refused = await bench.RawAsync(HttpMethod.Post, "jobs/upstairs/runs"))
                Assert.Contains("hangs still", await refused.Content.ReadAsStringAsync());
            // Whatever asks without being refused, as a schedule does, waits.
            var second = await bench
                .Services.GetRequiredService<RunQueue>()
                .AddAsync(new RunRequest(RunKind.Backup, "upstairs", "attic", Actor.Schedule), default);
            await SomethingElseRunsAsync(bench);
            Assert.Equal(RunState.Queued, (await SeeAsync(bench, second.Id)).State);
            places.Answers.Set();
            Assert.Equal(Outcome.Ok, (await UntilAsync(bench, second.Id, RunState.Ended)).Outcome);
        }
        finally
        {
            places.Answers.Set();
        }
        await bench.IdleAsync();
    }

    [Fact]
    public async Task Reclaiming_waits_for_every_other_run_of_its_store_and_they_for_it()
    {
        await using var bench = await BeginAsync();
        places.Answers.Reset();
        try
        {
            var backup = await AskAsync(bench, "jobs/upstairs/runs");
            await UntilAsync(bench, backup.Id, RunState.Running);
            var reclaim = await AskAsync(bench, "stores/attic/reclaims");
            await SomethingElseRunsAsync(bench);
            Assert.Equal(RunState.Queued, (await SeeAsync(bench, reclaim.Id)).State);
            places.Answers.Set();
            var (done, freed) = (await UntilAsync(bench, backup.Id, RunState.Ended), await UntilAsync(bench, reclaim.Id, RunState.Ended));
            Assert.Equal((Outcome.Ok, Outcome.Ok), (done.Outcome, freed.Outcome));
            Assert.True(freed.Began >= done.Ended);

            places.Answers.Reset();
            var again = await AskAsync(bench, "stores/attic/reclaims");
            await UntilAsync(bench, again.Id, RunState.Running);
            var check = await AskAsync(bench, "stores/attic/checks");
            await SomethingElseRunsAsync(bench);
            Assert.Equal(RunState.Queued, (await SeeAsync(bench, check.Id)).State);
            places.Answers.Set();
            Assert.Equal(Outcome.Ok, (await UntilAsync(bench, check.Id, RunState.Ended)).Outcome);
        }
        finally
        {
            places.Answers.Set();
        }
        await bench.IdleAsync();
    }
}
