using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

public sealed class StoreTests
{
    [Fact]
    public async Task Verifying_on_a_schedule_reads_everything_within_some_nights_and_shows_how_far_it_is()
    {
        await using var bench = await Bench.StartAsync();
        // What is due begins because the dispatch is told, not because it looks now and then.
        bench.Services.GetRequiredService<Dispatch>().LookEvery = TimeSpan.FromHours(1);
        await bench.ApplyAsync(Charter(bench, "verify: daily at 05:00, verify-budget: 500 kB, reclaim: sat at 06:00"));
        for (var i = 0; i < 5; i++)
        {
            var bytes = new byte[300_000];
            new Random(i).NextBytes(bytes);
            File.WriteAllBytes(bench.Source + $"/{i}", bytes);
            await bench.BackUpAsync();
        }
        await bench.TickAsync("2026-11-23T10:00:00Z");
        Assert.Equal(0, (await bench.GetAsync<StoreAnswer>("stores/cellar")).Reading?.ReadBytes);
        var shares = new List<double>();
        for (var day = 24; day <= 28; day++)
        {
            await bench.TickAsync($"2026-11-{day}T05:00:01Z").WaitAsync(TimeSpan.FromMinutes(1));
            var reading = (await bench.GetAsync<StoreAnswer>("stores/cellar")).Reading!;
            shares.Add((double)reading.ReadWithin30DaysBytes / reading.TotalBytes);
        }
        Assert.Equal(shares.Order(), shares);
        Assert.InRange(shares[0], 0.05, 0.6);
        Assert.Equal(1, shares[^1]);
        Assert.All(await bench.CopiesAsync(), c => Assert.Equal("sound", c.State.Word()));
        // The service was away over several: one check, late, and the Saturday's reclaiming.
        var before = (await bench.GetAsync<Page<RunAnswer>>("runs?kind=check")).Items.Count;
        await bench.TickAsync("2026-12-02T12:00:00Z");
        Assert.Equal(before + 1, (await bench.GetAsync<Page<RunAnswer>>("runs?kind=check")).Items.Count);
        Assert.Equal("schedule", Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?kind=reclaim")).Items).By.Words);
        var store = await bench.GetAsync<StoreAnswer>("stores/cellar");
        Assert.Equal(("daily at 05:00", 500_000L, "sat at 06:00"), (store.VerifyWhen, store.VerifyBudgetBytes, store.ReclaimWhen));
        Assert.True(store.Reduction!.StoredBytes > 1_400_000 && store.Reduction.SelectedBytes > store.Reduction.ReadBytes);
    }

    [Fact]
    public async Task A_store_that_is_nearly_full_is_told_of_until_there_is_room()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench, "capacity: 1 MB, reserve: 100 kB, warn-below: 300 kB, bin: 0 days", "newest 1, at-least: 1"));
        for (var i = 0; i < 3; i++)
        {
            var bytes = new byte[250_000];
            new Random(i).NextBytes(bytes);
            File.WriteAllBytes(bench.Source + "/data", bytes);
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var full = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("nearly-full", "store cellar"), (full.Class.Word(), full.Subject.Words));
        var store = await bench.GetAsync<StoreAnswer>("stores/cellar");
        Assert.True(store.NearlyFull);
        Assert.Equal(1_000_000 - 100_000 - store.UsedBytes, store.FreeBytes);
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply");
        Assert.Single(await bench.OpenAlertsAsync());
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_reclaiming_that_was_broken_off_leaves_catalogue_and_store_agreeing_after_the_next()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench, "bin: 0 days"));
        for (var i = 0; i < 5; i++)
        {
            bench.Write("a", $"{i}");
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply");
        // As a crash leaves it: a record is gone from the bin, and the catalogue never heard of it.
        File.Delete(Directory.EnumerateFiles(bench.StoreFolder + "/bin").First());
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
        {
            db.Runs.Add(
                new Run
                {
                    Kind = RunKind.Reclaim,
                    State = RunState.Running,
                    Machine = "heron",
                    Store = "cellar",
                    By = Actor.Person("mira"),
                }
            );
            await db.SaveChangesAsync();
        }
        await bench.RestartAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/reclaims")).Outcome.Word());
        Assert.Equal(2, (await bench.CopiesAsync()).Count);
        Assert.Empty(await bench.OpenAlertsAsync());
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks")).Outcome.Word());
    }

    [Fact]
    public async Task An_encrypted_store_is_made_opened_and_checked_and_a_lost_or_wrong_key_is_named()
    {
        await using var bench = await Bench.StartAsync();
        var key = Path.Combine(bench.Root, "cellar.key");
        File.WriteAllBytes(key, [.. Enumerable.Range(0, 32).Select(i => (byte)(i * 7))]);
        await bench.ApplyAsync(
            Charter(bench, $"key-file: {key}, verify: daily at 05:00, verify-within: 10 days, hash: sha-256, upload-at-most: 1 GB")
        );
        bench.Write("register.csv", "ring,species");
        await bench.BackUpAsync();
        Assert.Equal("aes-256-gcm", (await bench.GetAsync<StoreAnswer>("stores/cellar")).Encryption);
        Assert.DoesNotContain(Directory.EnumerateFiles(bench.StoreFolder, "*", SearchOption.AllDirectories), f =>
            File.ReadAllText(f).Contains("register", StringComparison.Ordinal)
        );
        foreach (var depth in new[] { "presence", "content", "deep" })
        {
            var run = await bench.RunAsync($"stores/cellar/checks?depth={depth}", null);
            Assert.True(run.Outcome.Word() == "ok", $"{depth}: {run.Sentence}");
        }
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await bench.RawAsync(HttpMethod.Post, "stores/cellar/checks?depth=thorough", null)).StatusCode
        );
        // The plan reads a tenth a night, at least one pack, and everything within ten nights.
        for (var day = 24; day <= 30; day++)
            await bench.TickAsync($"2026-11-{day}T05:00:01Z");
        var reading = (await bench.GetAsync<StoreAnswer>("stores/cellar")).Reading!;
        Assert.Equal(reading.TotalBytes, reading.ReadWithin30DaysBytes);
        // Another key, as if the file had been mixed up: the store is not reached, and the run says why.
        File.WriteAllText(key + "x", "not the one");
        await bench.ApplyAsync(Charter(bench, $"passphrase-file: {key}x, hash: sha-256"));
        var away = await bench.GetAsync<StoreAnswer>("stores/cellar");
        Assert.False(away.Reachable);
        Assert.Contains("does not open the store", away.Problem);
        Assert.DoesNotContain("not the one", away.Problem);
    }

    private static string Charter(Bench bench, string store, string keep = "newest 2") =>
        $$"""
            charter: 1
            stores:
              cellar: { folder: {{bench.StoreFolder}}, {{store}} }
            policies:
              few: { keep: {{keep}} }
            jobs:
              register: { takes: {{bench.Source}}, into: cellar, policy: few }
            """;
}
