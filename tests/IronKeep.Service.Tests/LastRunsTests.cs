using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Jobs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

public sealed class LastRunsTests
{
    [Fact]
    public async Task What_is_remembered_of_last_runs_follows_all_that_becomes_of_them()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        var (last, charter) = (bench.Services.GetRequiredService<LastRuns>(), bench.Services.GetRequiredService<CharterInForce>());
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        Assert.Empty(await AllAsync());
        File.WriteAllText(bench.Source + "/tide", "high at nine");
        var first = await bench.BackUpAsync();
        Assert.Equal((first.Id, Outcome.Ok), await TheOneAsync());
        await ChangeAsync(first.Id, r => r.Outcome = Outcome.Suspect, say: true);
        Assert.Equal((first.Id, Outcome.Suspect), await TheOneAsync());
        // A person confirms it, of which no fact is said.
        await ChangeAsync(first.Id, r => r.ConfirmedBy = "mira", say: false);
        Assert.Equal("mira", Assert.Single(await AllAsync()).ConfirmedBy);
        await ChangeAsync(first.Id, r => (r.Outcome, r.State) = (null, RunState.Running), say: true);
        Assert.Equal((first.Id, null), await TheOneAsync());
        await ChangeAsync(first.Id, r => (r.Outcome, r.State) = (Outcome.Ok, RunState.Ended), say: false);
        Assert.Equal((first.Id, Outcome.Ok), await TheOneAsync());
        var second = await bench.BackUpAsync();
        Assert.Equal((second.Id, Outcome.Ok), await TheOneAsync());
        // What is said of a run before the last changes nothing.
        await ChangeAsync(first.Id, r => r.Outcome = Outcome.Failed, say: true);
        Assert.Equal((second.Id, Outcome.Ok), await TheOneAsync());
        await bench.ApplyAsync(bench.Charter().Replace("bin: 2 days", "bin: 3 days", StringComparison.Ordinal));
        Assert.Equal((second.Id, Outcome.Ok), await TheOneAsync());
        Assert.Equal(second.Id, Assert.Single(await bench.GetAsync<List<JobAnswer>>("jobs")).LastRun!.Id);

        async Task<IReadOnlyCollection<Run>> AllAsync() => (await last.OfAllAsync(db, charter.Charter, default)).Values;

        async Task<(long, Outcome?)> TheOneAsync()
        {
            var run = Assert.Single(await AllAsync());
            return (run.Id, run.Outcome);
        }

        async Task ChangeAsync(long id, Action<Run> change, bool say)
        {
            await using var other = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
            await using var transaction = await other.BeginChangeAsync(default);
            var run = (await other.Runs.FindAsync(id))!;
            change(run);
            if (say)
                other.Say(
                    new Fact
                    {
                        At = Instant.FromDateTimeOffset(bench.Clock.Now),
                        Kind = FactKind.PlannedRunEnded,
                        RunId = id,
                    }
                );
            await other.SaveChangesAsync();
            await transaction.CommitAsync(default);
        }
    }
}
