using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Watching;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>What happened is said once and carried in order, to each follower at least once, whatever breaks in between.</summary>
public sealed class FactTests
{
    private class Follower(string name) : IFollower
    {
        public string Name => name;
        public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.CopyMade];
        public List<string> Seen { get; } = [];

        /// <summary>A fact that it stumbles over, until it does not.</summary>
        public string? StumblesAt { get; set; }

        public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
        {
            foreach (var fact in facts)
            {
                // What it writes is whole with its position, or has not happened.
                db.KeptValues.Add(new KeptValue { Key = $"{name} {fact.CopyId}", Value = "followed" });
                await db.SaveChangesAsync(cancel);
                if (fact.CopyId == StumblesAt)
                    throw new InvalidOperationException($"cannot take {fact.CopyId}");
            }
            Seen.AddRange(facts.Select(f => f.CopyId!));
        }
    }

    private sealed class Outside() : Follower("outside"), IOutsideFollower;

    private static async Task SayAsync(Bench bench, params string[] ids)
    {
        await using var db = await bench.KeepAsync();
        await using var change = await db.BeginChangeAsync(default);
        foreach (var id in ids)
            db.Say(
                new Fact
                {
                    At = Instant.FromDateTimeOffset(bench.Clock.Now),
                    Kind = FactKind.CopyMade,
                    CopyId = id,
                    Job = "gone",
                    Machine = "heron",
                }
            );
        await db.SaveChangesAsync();
        await change.CommitAsync(default);
    }

    private static Task CarryAsync(Bench bench) => bench.Services.GetRequiredService<FactCarrier>().CarryAsync(default);

    [Fact]
    public async Task Each_follower_gets_each_fact_in_order_and_one_that_stumbles_keeps_no_other_waiting_and_goes_on_where_it_was()
    {
        var (well, ill) = (new Follower("well"), new Follower("ill") { StumblesAt = "c" });
        await using var bench = await Bench.StartAsync();
        bench.Change = b =>
        {
            b.Services.AddSingleton<IFollower>(well);
            b.Services.AddSingleton<IFollower>(ill);
        };
        await bench.RestartAsync();
        await SayAsync(bench, "a", "b", "c", "d");
        await CarryAsync(bench);
        Assert.Equal(["a", "b", "c", "d"], well.Seen);
        // What came before the one that it cannot take is done; that one left no trace, and it is told.
        await using (var db = await bench.KeepAsync())
        {
            Assert.Equal(
                ["ill a", "ill b"],
                (await db.KeptValues.Where(n => n.Key.StartsWith("ill ")).Select(n => n.Key).ToListAsync()).Order()
            );
            Assert.Equal("cannot take c", (await db.FollowerPositions.SingleAsync(f => f.Name == "ill")).Problem);
        }
        Assert.Contains((await bench.GetAsync<SelfCheckAnswer>("service")).Findings, f =>
            f is { What: "what follows: ill", State: FindingState.Failed }
        );
        ill.StumblesAt = null;
        await bench.RestartAsync();
        await CarryAsync(bench);
        Assert.Equal(["a", "b", "c", "d"], ill.Seen);
        Assert.Equal(4, well.Seen.Count);
        await using (var db = await bench.KeepAsync())
            Assert.Null((await db.FollowerPositions.SingleAsync(f => f.Name == "ill")).Problem);
    }

    [Fact]
    public async Task What_reaches_beyond_the_catalogue_is_done_again_after_a_crash_and_never_left_out()
    {
        var outside = new Outside { StumblesAt = "b" };
        await using var bench = await Bench.StartAsync();
        bench.Change = b => b.Services.AddSingleton<IFollower>(outside);
        await bench.RestartAsync();
        await SayAsync(bench, "a");
        await CarryAsync(bench);
        await SayAsync(bench, "b", "c");
        await CarryAsync(bench);
        outside.StumblesAt = null;
        // What it had written of "b" is of no transaction, so it stands: doing it again must be borne.
        await using (var db = await bench.KeepAsync())
            await db.KeptValues.Where(n => n.Key.StartsWith("outside ")).ExecuteDeleteAsync();
        await bench.RestartAsync();
        await CarryAsync(bench);
        Assert.Equal(["a", "b", "c"], outside.Seen);
    }

    [Fact]
    public async Task Facts_that_all_have_followed_go_after_a_month_and_numbers_go_on()
    {
        await using var bench = await Bench.StartAsync();
        await SayAsync(bench, "a", "b");
        await CarryAsync(bench);
        long before;
        await using (var db = await bench.KeepAsync())
            before = await db.Facts.MaxAsync(f => f.Id);
        bench.Clock.Now = bench.Clock.Now.AddDays(31);
        await SayAsync(bench, "c");
        await using (var db = await bench.KeepAsync())
        {
            // The service carries by itself too, and what it has in hand at this moment goes with the next.
            for (var tries = 0; tries < 20 && await db.Facts.AnyAsync(f => f.Id <= before); tries++)
                await CarryAsync(bench);
            var left = await db.Facts.AsNoTracking().OrderBy(f => f.Id).ToListAsync();
            Assert.Equal("c", Assert.Single(left, f => f.Kind == FactKind.CopyMade).CopyId);
            Assert.All(left, f => Assert.True(f.Id > before));
        }
    }

    [Fact]
    public async Task A_change_is_whole_or_has_not_happened_and_two_take_turns()
    {
        await using var bench = await Bench.StartAsync();
        await using var first = await bench.KeepAsync();
        await using var second = await bench.KeepAsync();
        await using (var change = await first.BeginChangeAsync(default))
        {
            var waits = second.BeginChangeAsync(default);
            first.KeptValues.Add(new KeptValue { Key = "half", Value = "" });
            await first.SaveChangesAsync();
            Assert.False(waits.IsCompleted);
            await change.DisposeAsync();
            await using var next = await waits;
            Assert.False(await second.KeptValues.AnyAsync(n => n.Key == "half"));
        }
    }
}
