using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Copies;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>
/// What holds exactly at an end and one second before it, and what is kept of a change that broke off in its middle. Source:
/// docs/semantics.md, sections 3 (Retention) and 4 (Planned runs).
/// </summary>
public sealed class AtTheLimitTests
{
    private static async Task<(Bench Bench, string Binned)> WithOneInTheBinAsync()
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 3; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=all%20right");
        return (bench, Assert.Single(await bench.CopiesAsync(), c => c.BinnedAt is not null).Id);
    }

    private static async Task<bool> IsThereAsync(Bench bench, string id) => (await bench.CopiesAsync()).Any(c => c.Id == id);

    [Fact]
    public async Task A_copy_leaves_the_bin_when_its_time_there_is_over_to_the_second()
    {
        var (bench, binned) = await WithOneInTheBinAsync();
        await using var _ = bench;
        bench.Clock.Now = bench.Clock.Now.AddDays(2).AddSeconds(-1);
        var early = await bench.RunAsync("stores/cellar/reclaims");
        Assert.Contains("1 copy stays in the bin", early.Sentence);
        Assert.True(await IsThereAsync(bench, binned));
        bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
        Assert.Contains("1 copy left the bin", (await bench.RunAsync("stores/cellar/reclaims")).Sentence);
        Assert.False(await IsThereAsync(bench, binned));
    }

    /// <summary>
    /// A service that died between removing it and saying so leaves it absent: that is nobody's loss from the end of its time on, and one
    /// before it.
    /// </summary>
    [Theory]
    [InlineData(-1, true)]
    [InlineData(0, false)]
    public async Task What_is_not_in_the_bin_any_more_is_lost_until_its_time_there_is_over(int seconds, bool lost)
    {
        var (bench, binned) = await WithOneInTheBinAsync();
        await using var _ = bench;
        foreach (var file in Directory.EnumerateFiles(bench.StoreFolder + "/bin"))
            File.Delete(file);
        bench.Clock.Now = bench.Clock.Now.AddDays(2).AddSeconds(seconds);
        var shelf = await bench.Services.GetRequiredService<ShelfKeeper>().SettleAsync("cellar", notes: false, default);
        Assert.Equal(lost, shelf.Missing.Contains(binned));
        Assert.Equal(lost, await IsThereAsync(bench, binned));
        Assert.Equal(lost, (await bench.OpenAlertsAsync()).Any(a => a.Message.Contains("has lost 1 copy", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task A_hold_is_over_at_its_end_and_not_a_second_sooner()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 3; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var held = (await bench.CopiesAsync())[^1].Id;
        var end = bench.Clock.Now.AddDays(3);
        await bench.SendAsync<CopyAnswer>(HttpMethod.Put, $"copies/{held}/hold", new HoldRequest("the survey", end));
        foreach (var (at, over) in new[] { (end.AddSeconds(-1), false), (end, true) })
        {
            bench.Clock.Now = at;
            Assert.Equal(over, (await bench.GetAsync<CopyAnswer>($"copies/{held}")).Hold?.Over);
            Assert.Equal(over ? "expire" : "held", (await bench.GetAsync<CopyWhyAnswer>($"copies/{held}/why")).Verdict.Word());
            Assert.Equal(over ? 0 : 1, (await bench.GetAsync<Page<CopyAnswer>>("copies?state=held")).Items.Count);
        }
        // In the bin it is held by the same rule, whoever sent it there.
        bench.Services.GetRequiredService<Stores.OpenStores>().Get("cellar").MoveToBin(held, end.AddDays(-40));
        bench.Clock.Now = end.AddSeconds(-1);
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.True(await IsThereAsync(bench, held));
    }

    /// <summary>
    /// The names in a store are listed before the catalogue is asked, or the other way round: a copy that a run finished in between is in
    /// one of the two alone, and no loss.
    /// </summary>
    [Fact]
    public async Task A_copy_that_is_made_while_a_store_is_looked_through_is_not_called_missing()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(10);
        var now = Instant.FromDateTimeOffset(bench.Clock.Now);
        await using (var db = await bench.KeepAsync())
        {
            var made = await db.Copies.AsNoTracking().SingleAsync();
            foreach (var (id, ended) in new[] { ("made-before", now - Duration.FromSeconds(1)), ("made-meanwhile", now) })
            {
                db.ChangeTracker.Clear();
                (made.Id, made.Ended) = (id, ended);
                db.Copies.Add(made);
                await db.SaveChangesAsync();
            }
        }
        foreach (var depth in new[] { "presence", "deep" })
        {
            var check = await bench.RunAsync($"stores/cellar/checks?depth={depth}");
            Assert.DoesNotContain("made-meanwhile", check.Sentence);
            await using var db = await bench.KeepAsync();
            Assert.Equal(["made-before"], await db.Copies.Where(c => c.State == CopyState.Missing).Select(c => c.Id).ToListAsync());
        }
    }

    [FileCatalogueFact]
    public async Task A_watermark_moves_with_what_it_stands_for_or_not_at_all()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        await using (var db = await bench.KeepAsync())
            await db.Database.ExecuteSqlRawAsync(
                "CREATE TRIGGER stuck BEFORE INSERT ON PlannedRuns BEGIN SELECT RAISE(ABORT, 'no room'); END"
            );
        await Assert.ThrowsAnyAsync<Exception>(() => bench.TickAsync("2026-11-23T12:00:00Z"));
        await Assert.ThrowsAnyAsync<Exception>(() => bench.TickAsync("2026-11-23T12:00:30Z"));
        await using (var db = await bench.KeepAsync())
        {
            Assert.Empty(await db.PlannedRuns.ToListAsync());
            await db.Database.ExecuteSqlRawAsync("DROP TRIGGER stuck");
        }
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T12:01:00Z");
        await using (var db = await bench.KeepAsync())
            Assert.Equal([Instant.FromUtc(2026, 11, 23, 12, 0)], await db.PlannedRuns.Select(p => p.Due).ToListAsync());
    }

    /// <summary>Stumbles the first time, after it has written something.</summary>
    private sealed class Stumbling : ITimedWork
    {
        public int Tries { get; private set; }
        public string What => "stumbling";

        public IEnumerable<(string Store, Schedule When)> Times(Charter charter) =>
            charter.Stores.Keys.Select(s => (s, ScheduleSentence.Read("every 6 hours").Schedule!));

        public async Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel)
        {
            db.KeptValues.Add(new KeptValue { Key = $"stumbled-{Tries}", Value = due.ToString() });
            await db.SaveChangesAsync(cancel);
            if (Tries++ == 0)
                throw new InvalidOperationException("stumbled");
        }
    }

    [Fact]
    public async Task Timed_work_that_fails_is_due_again_and_leaves_nothing_of_its_first_try()
    {
        var work = new Stumbling();
        await using var bench = await Bench.StartAsync();
        bench.Change = b => b.Services.AddSingleton<ITimedWork>(work);
        await bench.RestartAsync();
        await bench.ApplyAsync(bench.Charter());
        await bench.TickAsync("2026-11-23T09:30:00Z");
        await Assert.ThrowsAnyAsync<Exception>(() => bench.TickAsync("2026-11-23T12:00:00Z"));
        await bench.TickAsync("2026-11-23T12:00:10Z");
        await bench.TickAsync("2026-11-23T12:00:20Z");
        Assert.Equal(2, work.Tries);
        await using var db = await bench.KeepAsync();
        Assert.Equal(["stumbled-1"], await db.KeptValues.Where(s => s.Key.StartsWith("stumbled")).Select(s => s.Key).ToListAsync());
    }
}
