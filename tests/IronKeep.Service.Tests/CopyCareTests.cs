using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

public sealed class CopyCareTests
{
    [Fact]
    public async Task A_file_is_found_across_copies_its_versions_are_told_apart_and_each_can_be_had_back()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 20"));
        Directory.CreateDirectory(bench.Source + "/letters");
        string?[] contents = [null, "one", "one", "two", null, "three", "one"];
        foreach (var content in contents)
        {
            if (content is null)
                File.Delete(bench.Source + "/letters/to the ringers.txt");
            else
                bench.Write("letters/to the ringers.txt", content);
            bench.Write("always", $"{bench.Clock.Now}");
            await NextAsync(bench);
        }
        var path = bench.Source + "/letters/to the ringers.txt";
        var found = await bench.GetAsync<FindAnswer>("copies/find?name=RINGERS");
        var hit = Assert.Single(found.Found);
        Assert.Equal((path, 3, 5, 7, true), (hit.Path, hit.Versions, hit.Copies, found.CopiesSearched, found.Complete));
        Assert.Empty((await bench.GetAsync<FindAnswer>("copies/find?name=ringers&job=other")).Found);
        Assert.False((await bench.GetAsync<FindAnswer>("copies/find?name=a&limit=1")).Complete);
        var versions = await bench.GetAsync<List<VersionAnswer>>($"copies/versions?job=register&path={Uri.EscapeDataString(path)}");
        Assert.Equal(["file 1", "file 1", " 1", "file 1", "file 2"], versions.Select(v => $"{v.Kind} {v.Copies.Count}"));
        // Any of them, beside what is there, over it, or not at all.
        await bench.RunAsync($"copies/{versions[3].Copies[0]}/restores", new RestoreRequest([path], "/", "beside"));
        Assert.Equal(("one", "two"), (File.ReadAllText(path), File.ReadAllText(path + ".restored")));
        var kept = await bench.RunAsync($"copies/{versions[1].Copies[0]}/restores", new RestoreRequest([path], "/"));
        Assert.Equal("failed", kept.Outcome.Word());
        Assert.Contains("exists already", kept.Sentence);
        var over = await bench.RunAsync($"copies/{versions[1].Copies[0]}/restores", new RestoreRequest([path], "/", "overwrite"));
        Assert.Contains("1 over existing ones", over.Sentence);
        Assert.Equal("three", File.ReadAllText(path));
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await bench.RawAsync(HttpMethod.Post, $"copies/{hit.NewestCopy}/restores", new RestoreRequest([], "/tmp", "maybe"))).StatusCode
        );
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Get, "copies/find?name=%20")).StatusCode);
        // The folders on the way to what cannot be given back are made, and are nothing that anybody asked for.
        foreach (
            var pack in Directory
                .EnumerateFiles(bench.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories)
                .Where(f => File.ReadAllBytes(f)[8] == 1)
        )
            File.Delete(pack);
        var nothing = await bench.RunAsync($"copies/{versions[1].Copies[0]}/restores", new RestoreRequest([path], bench.Root + "/back"));
        Assert.True(Directory.Exists(bench.Root + "/back" + bench.Source + "/letters"));
        Assert.Equal(
            ("failed", true),
            (nothing.Outcome.Word(), nothing.Sentence?.StartsWith("Nothing was restored", StringComparison.Ordinal))
        );
    }

    [Fact]
    public async Task A_held_copy_stays_until_its_day_and_says_who_holds_it_and_why()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 4; i++)
            await NextAsync(bench);
        var oldest = (await bench.CopiesAsync())[^1].Id;
        await bench.SendAsync<CopyAnswer>(
            HttpMethod.Put,
            $"copies/{oldest}/hold",
            new HoldRequest("the survey of the year", bench.Clock.Now.AddDays(3))
        );
        var why = await bench.GetAsync<CopyWhyAnswer>($"copies/{oldest}/why");
        Assert.Equal("held", why.Verdict.Word());
        Assert.Contains("held by mira until 2026-11-30", Assert.Single(why.Reasons));
        Assert.Contains("the survey of the year", why.Reasons[0]);
        Assert.Contains("job register names policy few", why.SetBy);
        Assert.Equal(
            ["keep", "keep", "expire", "held"],
            (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans")).Copies.Select(c => c.Verdict.Word())
        );
        bench.Clock.Now = bench.Clock.Now.AddDays(3).AddMinutes(1);
        Assert.Equal("expire", (await bench.GetAsync<CopyWhyAnswer>($"copies/{oldest}/why")).Verdict.Word());
        Assert.True((await bench.GetAsync<CopyAnswer>($"copies/{oldest}")).Hold?.Over);
        Assert.Null((await bench.SendAsync<CopyAnswer>(HttpMethod.Delete, $"copies/{oldest}/hold")).Hold);
        foreach (var bad in new[] { new HoldRequest("x", bench.Clock.Now.AddDays(1)), new HoldRequest("a reason", bench.Clock.Now) })
            Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Put, $"copies/{oldest}/hold", bad)).StatusCode);
    }

    [Fact]
    public async Task What_went_to_the_bin_is_taken_back_whole_and_only_from_there()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 3; i++)
            await NextAsync(bench);
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply");
        var oldest = (await bench.CopiesAsync())[^1].Id;
        var why = await bench.GetAsync<CopyWhyAnswer>($"copies/{oldest}/why");
        Assert.Equal(bench.Clock.Now.AddDays(2), why.BinUntil);
        Assert.Equal(
            HttpStatusCode.Conflict,
            (
                await bench.RawAsync(HttpMethod.Put, $"copies/{oldest}/hold", new HoldRequest("a reason", bench.Clock.Now.AddDays(9)))
            ).StatusCode
        );
        Assert.Null((await bench.SendAsync<CopyAnswer>(HttpMethod.Post, $"copies/{oldest}/take-back")).BinnedAt);
        using (var again = await bench.RawAsync(HttpMethod.Post, $"copies/{oldest}/take-back"))
            Assert.Contains("is not in the bin", await again.Content.ReadAsStringAsync());
        Assert.Equal(
            "ok",
            (await bench.RunAsync($"copies/{oldest}/restores", new RestoreRequest([], bench.Root + "/back"))).Outcome.Word()
        );
        bench.Clock.Now = bench.Clock.Now.AddDays(5);
        await bench.RunAsync("stores/cellar/reclaims");
        Assert.Equal(3, (await bench.CopiesAsync()).Count);
    }

    [Fact]
    public async Task A_copy_whose_record_is_gone_is_missing_takes_nobodys_place_and_is_told_of()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 2"));
        for (var i = 0; i < 3; i++)
            await NextAsync(bench);
        var newest = (await bench.CopiesAsync())[0].Id;
        var record = $"{bench.StoreFolder}/copies/{newest}.copy";
        File.Move(record, bench.Root + "/aside");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        var check = await bench.RunAsync("stores/cellar/checks");
        Assert.Equal("failed", check.Outcome.Word());
        Assert.Contains($"has lost 1 copy: {newest}", check.Sentence);
        Assert.Equal("missing", (await bench.GetAsync<CopyAnswer>($"copies/{newest}")).State.Word());
        Assert.Equal("unsound", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
        var verdicts = (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans")).Copies;
        Assert.Equal(["uncounted", "keep", "keep"], verdicts.Select(c => c.Verdict.Word()));
        Assert.Equal(1, (await bench.GetAsync<StoreAnswer>("stores/cellar")).Missing);
        // Put back from elsewhere, it is whole again.
        File.Move(bench.Root + "/aside", record);
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks")).Outcome.Word());
        Assert.Equal("sound", (await bench.GetAsync<CopyAnswer>($"copies/{newest}")).State.Word());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_job_into_two_stores_keeps_a_copy_in_each_and_one_that_fails_does_not_cost_the_other()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        var two = bench
            .Charter(more: "fresh-within: 2 days")
            .Replace("into: cellar", "into: [cellar, attic]", StringComparison.Ordinal)
            .Replace("stores:", $"stores:\n  attic: {{ folder: {bench.Root}/attic }}", StringComparison.Ordinal);
        await bench.ApplyAsync(two);
        var run = await bench.BackUpAsync();
        Assert.Equal(("ok", 2), (run.Outcome.Word(), run.CopyIds.Count));
        Assert.Equal(1, run.Figures.Items);
        Directory.Move(bench.Root + "/attic", bench.Root + "/attic-away");
        await NextAsync(bench, "failed");
        Assert.Equal(["attic", "cellar", "cellar"], (await bench.CopiesAsync()).Select(c => c.Store).Order());
        Assert.Equal("store attic", Assert.Single(await bench.OpenAlertsAsync()).Subject.Words);
        // The promise holds for each store.
        await NextAsync(bench, "failed");
        await bench.TickAsync($"{bench.Clock.Now.AddHours(2):yyyy-MM-ddTHH:mm:ssZ}");
        Assert.True((await bench.GetAsync<JobAnswer>("jobs/register")).Stale);
        Assert.Contains("in store attic", (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "stale").Message);
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Post, "jobs/register/prune-plans")).StatusCode);
        Assert.Equal("attic", (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans?store=attic")).Store);
        Directory.Move(bench.Root + "/attic-away", bench.Root + "/attic");
        await NextAsync(bench);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() is "stale" or "failed");
    }

    private static async Task NextAsync(Bench bench, string outcome = "ok")
    {
        bench.Write("day", $"{bench.Clock.Now}");
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        Assert.Equal(outcome, (await bench.BackUpAsync()).Outcome.Word());
    }
}
