using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>The loop of a backup engineer, through the API: run, look, keep, prune, verify, restore, be told.</summary>
public sealed class LoopTests
{
    [Fact]
    public async Task A_copy_is_made_browsed_pruned_kept_in_the_bin_and_reclaimed()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 1"));
        var random = new Random(3);
        for (var i = 0; i < 4; i++)
        {
            var content = new byte[200_000];
            random.NextBytes(content);
            bench.Write("dir/data", Convert.ToBase64String(content));
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        }
        var copies = await bench.CopiesAsync();
        var folder = await bench.GetAsync<FolderAnswer>($"copies/{copies[0].Id}/entries");
        Assert.Equal(bench.Source + "/dir", folder.Path);
        Assert.Equal("data", Assert.Single(folder.Entries).Name);

        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        // newest 1, and the floor of two.
        Assert.Equal((2, 2), (plan.Counts["keep"], plan.Counts["expire"]));
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply")).Outcome.Word());
        using (var again = await bench.RawAsync(HttpMethod.Post, $"prune-plans/{plan.Fingerprint}/apply"))
            Assert.Contains("applied already", await again.Content.ReadAsStringAsync());

        // In the bin a copy is still whole; after its time it is gone and its bytes are free.
        var binned = (await bench.CopiesAsync())[^1];
        Assert.NotNull(binned.BinnedAt);
        var back = await bench.RunAsync($"copies/{binned.Id}/restores", new RestoreRequest([], bench.Root + "/back"));
        Assert.Equal("ok", back.Outcome.Word());
        Assert.True(File.Exists(bench.Root + "/back" + bench.Source + "/dir/data"));
        Assert.Contains("stay in the bin", (await bench.RunAsync("stores/cellar/reclaims")).Sentence);
        var before = (await bench.GetAsync<StoreAnswer>("stores/cellar")).UsedBytes;
        bench.Clock.Now = bench.Clock.Now.AddDays(2).AddMinutes(1);
        Assert.Contains("2 copies left the bin", (await bench.RunAsync("stores/cellar/reclaims")).Sentence);
        Assert.InRange((await bench.GetAsync<StoreAnswer>("stores/cellar")).UsedBytes!.Value, 1, before!.Value - 350_000);
        Assert.Equal(2, (await bench.CopiesAsync()).Count);
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks")).Outcome.Word());
        Assert.All(await bench.CopiesAsync(), c => Assert.Equal("sound", c.State.Word()));
    }

    [Fact]
    public async Task A_plan_is_refused_when_what_it_showed_has_changed_and_later_copies_are_untouched()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        for (var i = 0; i < 4; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.ApplyAsync(bench.Charter(keep: "newest 3"));
        using (var refused = await bench.RawAsync(HttpMethod.Post, $"prune-plans/{plan.Fingerprint}/apply"))
        {
            Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
            Assert.Contains("newest 3", await refused.Content.ReadAsStringAsync());
        }
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.BinnedAt));
        await bench.ApplyAsync(bench.Charter());
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        await bench.BackUpAsync();
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply")).Outcome.Word());
        Assert.Equal([false, false, false, true, true], (await bench.CopiesAsync()).Select(c => c.BinnedAt is not null));
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Post, "prune-plans/0123456789abcdef/apply")).StatusCode);
    }

    [Fact]
    public async Task A_flipped_byte_is_named_stops_counting_and_is_healed_by_the_next_run()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("kept", "the same in every copy");
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 3; i++)
        {
            bench.Write("letter", new string((char)('a' + i), 40_000 + i));
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var packs = new DirectoryInfo(bench.StoreFolder + "/packs")
            .EnumerateFiles("*.pack", SearchOption.AllDirectories)
            .Where(f => File.ReadAllBytes(f.FullName)[8] == 1)
            .OrderBy(f => f.LastWriteTimeUtc)
            .ToList();
        Flip(packs[^1].FullName, 10);
        await bench.RestartAsync();
        var check = await bench.RunAsync("stores/cellar/checks");
        Assert.Equal(("failed", "data-damaged"), (check.Outcome.Word(), check.Failure.Word()));
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("unsound", "store cellar"), (alert.Class.Word(), alert.Subject.Words));
        var newest = (await bench.CopiesAsync())[0];
        Assert.Equal("unsound", newest.State.Word());
        Assert.Contains(newest.Damage, d => d.StartsWith('/'));
        Assert.All(newest.Damage, d => Assert.Contains(newest.Id, check.Sentence));

        // The hurt copy takes nobody's place: the two older ones are the newest two that count.
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal(["uncounted", "keep", "keep"], plan.Copies.Select(c => c.Verdict.Word()));

        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks")).Outcome.Word());
        Assert.All(await bench.CopiesAsync(), c => Assert.Equal("sound", c.State.Word()));
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_store_that_is_away_fails_by_name_expires_nothing_and_comes_back_whole()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(more: "fresh-within: 2 days"));
        for (var i = 0; i < 3; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        for (var i = 0; i < 2; i++)
        {
            var run = await bench.BackUpAsync();
            Assert.Equal(("failed", "store-unreachable"), (run.Outcome.Word(), run.Failure.Word()));
            Assert.Contains(bench.StoreFolder, run.Sentence);
        }
        Assert.Equal(2, Assert.Single(await bench.OpenAlertsAsync()).Count);
        Assert.False((await bench.GetAsync<StoreAnswer>("stores/cellar")).Reachable);
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal("failed", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply")).Outcome.Word());
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.BinnedAt));
        // While the newest good copy is too old, a plan expires nothing at all.
        bench.Clock.Now = bench.Clock.Now.AddDays(5);
        var frozen = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.True(frozen.Frozen);
        Assert.Equal(0, frozen.Counts["expire"]);

        Assert.False(Directory.Exists(bench.StoreFolder));
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Equal("prune of register on heron in store cellar", Assert.Single(await bench.OpenAlertsAsync()).Subject.Words);
        Assert.Equal(4, (await bench.CopiesAsync()).Count);
    }

    [Fact]
    public async Task A_source_that_leads_into_the_store_by_a_changed_link_is_refused_at_the_run()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        Directory.Delete(bench.Source, true);
        Directory.CreateSymbolicLink(bench.Source, bench.StoreFolder + "/copies");
        var run = await bench.BackUpAsync();
        Assert.Equal(("refused", "unsafe-place"), (run.Outcome.Word(), run.Failure.Word()));
        using var into = await bench.RawAsync(HttpMethod.Post, "copies/x/restores", new RestoreRequest([], "/tmp"));
        Assert.Equal(HttpStatusCode.NotFound, into.StatusCode);
    }

    [Fact]
    public async Task The_catalogue_learns_from_a_store_what_it_does_not_know()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        var known = await bench.CopiesAsync();
        await bench.ApplyAsync("charter: 1");
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
            await db.Copies.ExecuteDeleteAsync();
        await bench.ApplyAsync(bench.Charter());
        Assert.Equal(known[0].Id, Assert.Single(await bench.CopiesAsync()).Id);
    }

    private static void Flip(string path, int at)
    {
        var bytes = File.ReadAllBytes(path);
        bytes[at] ^= 4;
        File.WriteAllBytes(path, bytes);
    }
}
