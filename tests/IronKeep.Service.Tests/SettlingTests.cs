using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Service.Stores;
using IronKeep.Service.Upkeep;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>
/// Store, bin and catalogue drift apart by kills, by restored catalogues and by strangers; they are settled in one place.
/// </summary>
public sealed class SettlingTests
{
    private static async Task<Bench> WithCopiesAsync(int count, string keep = "newest 2", string more = "")
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(keep: keep, more: more));
        for (var i = 0; i < count; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        }
        return bench;
    }

    private static Task LookAsync(Bench bench) => bench.Services.GetRequiredService<StoreSentry>().LookAsync(default);

    private static string RecordOf(Bench bench, string id) => $"{bench.StoreFolder}/copies/{id}.copy";

    [Fact]
    public async Task A_record_that_was_written_just_before_a_kill_is_listed_with_its_run_and_expires_like_others()
    {
        await using var bench = await WithCopiesAsync(5);
        var newest = (await bench.CopiesAsync())[0].Id;
        await using (var db = await bench.KeepAsync())
        {
            await db
                .Runs.Where(r => r.CopyIds == newest)
                .ExecuteUpdateAsync(s =>
                    s.SetProperty(r => r.State, RunState.Running)
                        .SetProperty(r => r.Outcome, (Outcome?)null)
                        .SetProperty(r => r.Ended, (NodaTime.Instant?)null)
                );
            await db.Copies.Where(c => c.Id == newest).ExecuteDeleteAsync();
        }
        await bench.RestartAsync();
        await LookAsync(bench);
        var copy = (await bench.CopiesAsync())[0];
        Assert.Equal(newest, copy.Id);
        Assert.NotNull(copy.RunId);
        Assert.True(copy.StoredBytes >= 0 && copy.Items == 1);
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal(3, plan.Counts["expire"]);
        Assert.DoesNotContain(plan.Brake, b => b.Contains("built anew", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Copies_whose_time_in_the_bin_was_over_are_gone_and_not_lost_and_those_taken_before_are()
    {
        await using var bench = await WithCopiesAsync(5, "newest 2");
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=all%20right");
        // Reclaimed by a process that died before the catalogue heard of it.
        bench.Clock.Now = bench.Clock.Now.AddDays(3);
        foreach (var file in Directory.EnumerateFiles(bench.StoreFolder + "/bin"))
            File.Delete(file);
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks?depth=presence")).Outcome.Word());
        Assert.Equal(2, (await bench.CopiesAsync()).Count);
        // One in force is taken away behind our back: the next run notices.
        File.Delete(RecordOf(bench, (await bench.CopiesAsync())[1].Id));
        await bench.BackUpAsync();
        var alert = Assert.Single(await bench.OpenAlertsAsync(), a => a.Class.Word() == "unsound");
        Assert.Contains("has lost 1 copy", alert.Message);
    }

    [FileCatalogueFact]
    public async Task An_older_catalogue_that_was_put_back_knows_what_lies_in_the_bin_and_reclaiming_takes_nothing_it_has_in_force()
    {
        await using var bench = await WithCopiesAsync(4);
        var database = bench.Root + "/service/catalogue.db";
        await bench.RestartAsync(() => File.Copy(database, bench.Root + "/older.db"));
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=all%20right");
        var binned = (await bench.CopiesAsync()).Where(c => c.BinnedAt is not null).Select(c => c.Id).Order().ToList();
        Assert.Equal(2, binned.Count);
        await bench.RestartAsync(() =>
        {
            foreach (var file in Directory.EnumerateFiles(bench.Root + "/service", "catalogue.*"))
                File.Delete(file);
            File.Copy(bench.Root + "/older.db", database);
        });
        // Straight to what would destroy them: whoever reclaims settles first.
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.Equal(binned, (await bench.CopiesAsync()).Where(c => c.BinnedAt is not null).Select(c => c.Id).Order());
        using (
            var hold = await bench.RawAsync(
                HttpMethod.Put,
                $"copies/{binned[0]}/hold",
                new HoldRequest("keep it", bench.Clock.Now.AddDays(9))
            )
        )
            Assert.Equal(HttpStatusCode.Conflict, hold.StatusCode);
        await bench.RunAsync($"copies/{binned[0]}/take-back").ContinueWith(_ => { }, TaskScheduler.Default);
        Assert.Null((await bench.GetAsync<CopyAnswer>($"copies/{binned[0]}")).BinnedAt);
        bench.Clock.Now = bench.Clock.Now.AddDays(30);
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.Equal(3, (await bench.CopiesAsync()).Count);
        // What is held stays, also when somebody with the store's key sent it to the bin long ago.
        await bench.SendAsync<CopyAnswer>(
            HttpMethod.Put,
            $"copies/{binned[0]}/hold",
            new HoldRequest("keep it", bench.Clock.Now.AddDays(9))
        );
        bench.Services.GetRequiredService<OpenStores>().Get("cellar").MoveToBin(binned[0], bench.Clock.Now.AddDays(-40));
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.Equal(
            "ok",
            (await bench.RunAsync($"copies/{binned[0]}/restores", new RestoreRequest([], bench.Root + "/back"))).Outcome.Word()
        );
    }

    [Fact]
    public async Task A_catalogue_that_is_built_anew_knows_holds_damage_doubt_and_sizes()
    {
        await using var bench = await WithCopiesAsync(4, "newest 2");
        var copies = await bench.CopiesAsync();
        await bench.SendAsync<CopyAnswer>(
            HttpMethod.Put,
            $"copies/{copies[3].Id}/hold",
            new HoldRequest("for the audit", bench.Clock.Now.AddDays(90))
        );
        await using (var db = await bench.KeepAsync())
        {
            await db
                .Copies.Where(c => c.Id == copies[2].Id)
                .ExecuteUpdateAsync(s =>
                    s.SetProperty(c => c.State, CopyState.Unsound).SetProperty(c => c.Damage, "/a").SetProperty(c => c.DamageCount, 1)
                );
            await db
                .Copies.Where(c => c.Id == copies[1].Id)
                .ExecuteUpdateAsync(s => s.SetProperty(c => c.Doubt, "it took 1 B, where 9 MB are usual"));
        }
        await bench.Services.GetRequiredService<CopyBook>().NoteAsync("cellar", [copies[2].Id, copies[1].Id]);
        var charter = (await bench.GetAsync<CharterAnswer>("charter")).Yaml;
        var before = await bench.GetAsync<IReadOnlyList<StoreAnswer>>("stores");
        await bench.RestartAsync(bench.LoseCatalogue);
        await bench.ApplyAsync(charter);
        var after = await bench.CopiesAsync();
        Assert.Equal(copies.Select(c => (c.Id, c.NewBytes, c.StoredBytes)), after.Select(c => (c.Id, c.NewBytes, c.StoredBytes)));
        Assert.Equal("for the audit", after[3].Hold!.Reason);
        Assert.Equal(("unsound", 1L), (after[2].State.Word(), after[2].DamageCount));
        Assert.NotNull(after[1].Doubt);
        Assert.Equal("held", (await bench.GetAsync<CopyWhyAnswer>($"copies/{copies[3].Id}/why")).Verdict.Word());
    }

    [Fact]
    public async Task A_record_that_a_stranger_moved_into_the_bin_is_put_back_and_told_of()
    {
        await using var bench = await WithCopiesAsync(3, "newest 9");
        var moved = (await bench.CopiesAsync())[1].Id;
        Directory.CreateDirectory(bench.StoreFolder + "/bin");
        File.Move(RecordOf(bench, moved), $"{bench.StoreFolder}/bin/20010101T000000Z-{moved}.copy");
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.True(File.Exists(RecordOf(bench, moved)));
        Assert.Contains("without the key", Assert.Single(await bench.OpenAlertsAsync()).Message);
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.BinnedAt));
    }

    [Fact]
    public async Task A_check_that_finds_copies_sound_leaves_a_plan_as_it_is_and_an_automatic_prune_goes_by_the_plan_of_now()
    {
        await using var bench = await WithCopiesAsync(5, "newest 2");
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks")).Outcome.Word());
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=all%20right")).Outcome.Word());
        // A prune that a success asked for meets a copy that somebody holds since: the plan of now takes its place, and nothing alerts.
        await bench.ApplyAsync(bench.Charter(keep: "newest 2", more: "prune: after-success"));
        for (var i = 0; i < 6; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
            await bench.RunAsync("stores/cellar/checks");
        }
        Assert.DoesNotContain((await bench.GetAsync<Page<RunAnswer>>("runs?kind=prune")).Items, r => r.Outcome.Word() == "refused");
        Assert.Equal(2, (await bench.CopiesAsync()).Count(c => c.BinnedAt is null));
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    /// <summary>Comparing goes through all names that there are, which a night of a thousand runs must not do after each.</summary>
    [Fact]
    public async Task A_large_store_is_compared_with_the_catalogue_after_some_runs_only()
    {
        await using var bench = await WithCopiesAsync(2);
        await using (var db = await bench.KeepAsync())
        {
            var like = await db.Copies.AsNoTracking().OrderBy(c => c.Taken).LastAsync();
            for (var i = 0; i < ShelfKeeper.MostAfterEachRun; i++)
            {
                var copy = (Copy)db.Entry(like).CurrentValues.Clone().ToObject();
                // What ended after a look began was made meanwhile.
                (copy.Id, copy.Origin, copy.Job, copy.Ended) = ($"c{i}", $"c{i}", "another", copy.Ended + Duration.FromDays(9));
                db.Copies.Add(copy);
            }
            await db.SaveChangesAsync();
        }
        // The look that finds how large it has become.
        await bench.BackUpAsync();
        File.Delete(Directory.EnumerateFiles(bench.StoreFolder + "/copies").Order(StringComparer.Ordinal).First());
        bench.Clock.Now = bench.Clock.Now.AddMinutes(9);
        await bench.BackUpAsync();
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), IsLoss);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        await bench.BackUpAsync();
        Assert.Contains(await bench.OpenAlertsAsync(), IsLoss);

        static bool IsLoss(AlertAnswer alert) => alert.Message.Contains("has lost 1 copy", StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_run_and_whoever_settles_may_enter_the_same_copy_and_two_checks_wait_for_each_other()
    {
        await using var bench = await WithCopiesAsync(1);
        var book = bench.Services.GetRequiredService<CopyBook>();
        var store = bench.Services.GetRequiredService<OpenStores>().Get("cellar");
        var record = store.ReadContents().Copies[0].Record;
        await book.AddAsync(record, "cellar", 1, new IronKeep.Runs.Backups.RunFigures());
        Assert.Single(await bench.CopiesAsync());
        var keeper = bench.Services.GetRequiredService<ShelfKeeper>();
        await using (var db = await bench.KeepAsync())
            await db.Copies.ExecuteDeleteAsync();
        await Task.WhenAll(
            Enumerable
                .Range(0, 6)
                .Select(i =>
                    i % 2 == 0
                        ? keeper.SettleAsync("cellar", true, default)
                        : (Task)book.AddAsync(record, "cellar", 1, new IronKeep.Runs.Backups.RunFigures())
                )
        );
        Assert.Single(await bench.CopiesAsync());
        // Both set damaged packs aside, which one may do at a time.
        var pack = Directory.EnumerateFiles(bench.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories).First();
        var bytes = File.ReadAllBytes(pack);
        bytes[70] ^= 1;
        File.WriteAllBytes(pack, bytes);
        foreach (var _ in new[] { 1, 2 })
            await bench.SendAsync<RunAnswer>(HttpMethod.Post, "stores/cellar/checks");
        await bench.IdleAsync();
        Assert.DoesNotContain((await bench.GetAsync<Page<RunAnswer>>("runs?kind=check")).Items, r =>
            r.Sentence!.Contains("being tended", StringComparison.Ordinal) || r.Failure.Word() == "unknown"
        );
    }

    [Fact]
    public async Task What_one_store_got_can_be_settled_although_another_failed()
    {
        await using var bench = await Bench.StartAsync();
        var charter = bench
            .Charter(more: "band: \"10 % and 1 kB\"")
            .Replace("policies:", $"  attic: {{ folder: {bench.Root}/attic }}\npolicies:", StringComparison.Ordinal)
            .Replace("into: cellar", "into: [cellar, attic]", StringComparison.Ordinal);
        bench.Write("a", new string('x', 100_000));
        await bench.ApplyAsync(charter);
        for (var i = 0; i < 4; i++)
            await bench.BackUpAsync();
        bench.Write("a", "small");
        Directory.Move(bench.Root + "/attic", bench.Root + "/gone");
        var run = await bench.BackUpAsync();
        Assert.Equal("failed", run.Outcome.Word());
        Assert.Contains((await bench.OpenAlertsAsync()), a => a.Class.Word() == "suspect");
        Assert.Single(await bench.CopiesAsync(), c => c.Doubt is not null);
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{run.Id}/confirm");
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.Doubt));
        Assert.DoesNotContain((await bench.OpenAlertsAsync()), a => a.Class.Word() == "suspect");
    }

    [Fact]
    public async Task Capacity_and_reserve_are_kept_before_a_run_and_in_the_middle_of_one_and_what_it_stored_is_given_back()
    {
        await using var bench = await Bench.StartAsync();
        byte[] Noise(int size)
        {
            var bytes = new byte[size];
            Random.Shared.NextBytes(bytes);
            return bytes;
        }
        await bench.ApplyAsync(
            bench.Charter().Replace("bin: 2 days", "bin: 2 days, capacity: 7 MB, reserve: 10 %", StringComparison.Ordinal)
        );
        File.WriteAllBytes(bench.Source + "/data", Noise(8_000_000));
        var refused = await bench.BackUpAsync();
        Assert.Equal(("refused", "store-full"), (refused.Outcome.Word(), refused.Failure.Word()));
        Assert.Empty(
            Directory.Exists(bench.StoreFolder + "/packs")
                ? Directory.EnumerateFiles(bench.StoreFolder + "/packs", "*", SearchOption.AllDirectories)
                : []
        );
        File.WriteAllBytes(bench.Source + "/data", Noise(500_000));
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        var before = (await bench.GetAsync<StoreAnswer>("stores/cellar")).UsedBytes!.Value;
        // More than is usual: it is met in the middle.
        File.WriteAllBytes(bench.Source + "/more", Noise(30_000_000));
        var failed = await bench.BackUpAsync();
        Assert.Equal(("failed", "store-full"), (failed.Outcome.Word(), failed.Failure.Word()));
        Assert.InRange((await bench.GetAsync<StoreAnswer>("stores/cellar")).UsedBytes!.Value, before, before + 20_000);
        Assert.Single(await bench.CopiesAsync());
        // Two at once do not count the same room.
        var rooms = bench.Services.GetRequiredService<StoreRoom>();
        var declared = bench.Services.GetRequiredService<Charters.CharterInForce>().Charter.Stores["cellar"];
        var promises = await Task.WhenAll(
            rooms.PromiseAsync(declared, 901, 4_000_000, default),
            rooms.PromiseAsync(declared, 902, 4_000_000, default)
        );
        Assert.Contains(promises, p => p is not null);
    }
}
