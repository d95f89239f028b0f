using System.Diagnostics;
using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Dated;
using IronKeep.Core.Watching;
using IronKeep.Service.Runs;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Full and partial copies in a store of plain archives, from night to night.</summary>
public sealed class PlainStoreTests
{
    private static string Charter(Bench bench, string keep = "newest 30") =>
        bench
            .Charter("daily at 23:00", keep, "partials: incremental\n    full: sun\n    longest-chain: 4\n    fresh-within: 60 days")
            .Replace("bin: 2 days", "bin: 2 days, layout: plain, piece-size: 1 MB", StringComparison.Ordinal);

    private static async Task<CopyAnswer> NightAsync(Bench bench, int day)
    {
        File.WriteAllText($"{bench.Source}/day-{day}", $"what day {day} brought");
        await bench.TickAsync($"2026-11-{day:00}T23:00:01Z");
        return (await bench.CopiesAsync()).MaxBy(c => c.Taken)!;
    }

    private static string Shell(string command, string folder)
    {
        using var process = Process.Start(
            new ProcessStartInfo("/bin/bash", ["-c", command])
            {
                WorkingDirectory = folder,
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var error = process.StandardError.ReadToEndAsync();
        return process.StandardOutput.ReadToEnd() + error.Result;
    }

    private static string Unpack(Bench bench, string copy)
    {
        var (folder, target) = ($"{bench.StoreFolder}/archives/{copy}", Directory.CreateTempSubdirectory("plain-out-").FullName);
        foreach (var step in File.ReadAllLines($"{folder}/README.txt").Where(l => l.StartsWith("  ", StringComparison.Ordinal)))
            Assert.Equal("", Shell(step.Replace("/restored", target, StringComparison.Ordinal), folder));
        return target + bench.Source;
    }

    [Fact]
    public async Task A_job_makes_full_and_partial_copies_by_its_rules_and_says_why_and_any_of_them_comes_back()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        // Monday to the Tuesday of the week after: the chain may have four, and on Sunday a full one is due.
        var copies = new List<CopyAnswer>();
        for (var day = 23; day <= 30; day++)
            copies.Add(await NightAsync(bench, day));
        Assert.Equal(
            [
                CopyKind.Full,
                CopyKind.Incremental,
                CopyKind.Incremental,
                CopyKind.Incremental,
                CopyKind.Full,
                CopyKind.Incremental,
                CopyKind.Full,
                CopyKind.Incremental,
            ],
            copies.Select(c => c.Kind!.Value)
        );
        async Task<string> WhyAsync(int night) =>
            (await bench.GetAsync<RunLogAnswer>($"runs/{copies[night].RunId}/log"))
                .Lines.Single(l => l.Text.Contains("goes a", StringComparison.Ordinal))
                .Text;
        Assert.Contains("there is no sound full copy to stand on", await WhyAsync(0), StringComparison.Ordinal);
        Assert.Contains($"number 2 of its chain, on top of {copies[0].Id}", await WhyAsync(1), StringComparison.Ordinal);
        Assert.Contains("the chain has 4 copies", await WhyAsync(4), StringComparison.Ordinal);
        Assert.Contains("today is sun", await WhyAsync(6), StringComparison.Ordinal);
        Assert.StartsWith(
            "Incremental copy",
            (await bench.GetAsync<RunAnswer>($"runs/{copies[1].RunId}")).Sentence,
            StringComparison.Ordinal
        );

        // By tar, by the service, and by its check.
        var back = Unpack(bench, copies[3].Id);
        Assert.Equal(["day-23", "day-24", "day-25", "day-26"], Directory.GetFiles(back).Select(Path.GetFileName).Order());
        var target = Directory.CreateTempSubdirectory("plain-back-").FullName;
        var restore = await bench.RunAsync($"copies/{copies[3].Id}/restores", new RestoreRequest([], target));
        Assert.Equal(Outcome.Ok, restore.Outcome);
        Assert.Equal("", Shell($"diff -r '{back}' '{target}{bench.Source}'", "/"));
        Assert.Equal(Outcome.Ok, (await bench.RunAsync("stores/cellar/checks")).Outcome);
        Assert.All(await bench.CopiesAsync(), c => Assert.Equal(CopyState.Sound, c.State));

        // A full one because a person asks, once.
        var asked = await bench.SendAsync<JobAnswer>(HttpMethod.Post, "jobs/register/next-full");
        Assert.Equal(("mira", "incremental; full sun or after 4 in a chain"), (asked.FullAskedBy, asked.Partials));
        await bench.TickAsync("2026-12-01T23:00:01Z");
        Assert.Equal(CopyKind.Full, (await bench.CopiesAsync()).MaxBy(c => c.Taken)!.Kind);
        Assert.Null((await bench.GetAsync<JobAnswer>("jobs/register")).FullAskedBy);
        await bench.TickAsync("2026-12-02T23:00:01Z");
        Assert.Equal(CopyKind.Incremental, (await bench.CopiesAsync()).MaxBy(c => c.Taken)!.Kind);
    }

    [Fact]
    public async Task What_another_copy_stands_on_stays_and_what_is_damaged_carries_no_more()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench, "newest 2, at-least: 1"));
        var copies = new List<CopyAnswer>();
        for (var day = 23; day <= 26; day++)
            copies.Add(await NightAsync(bench, day));
        // The newest two are kept, and the two below them as their support.
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal((2, 2), (plan.Counts["keep"], plan.Counts["support"]));
        Assert.False(plan.Counts.TryGetValue("expire", out var expire) && expire > 0);

        // A byte turns over in the third: the fourth is worth nothing any more either, and nothing is put on top of them.
        var piece = Directory.GetFiles($"{bench.StoreFolder}/archives/{copies[2].Id}", "archive.tar.zst.*").Single();
        var bytes = File.ReadAllBytes(piece);
        bytes[^1] ^= 1;
        File.WriteAllBytes(piece, bytes);
        var check = await bench.RunAsync("stores/cellar/checks");
        Assert.Equal(Outcome.Failed, check.Outcome);
        var next = await NightAsync(bench, 27);
        Assert.Equal(CopyKind.Incremental, next.Kind);
        Assert.Equal(
            ["day-23", "day-24", "day-25", "day-26", "day-27"],
            Directory.GetFiles(Unpack(bench, next.Id)).Select(Path.GetFileName).Order()
        );
        // With its whole folder gone, the full one carries nothing either.
        foreach (var copy in copies)
            Directory.Delete($"{bench.StoreFolder}/archives/{copy.Id}", true);
        Assert.Equal(CopyKind.Full, (await NightAsync(bench, 28)).Kind);
    }

    [Fact]
    public async Task A_job_that_makes_full_copies_only_has_no_next_full_one()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        var refused = await bench.RawAsync(HttpMethod.Post, "jobs/register/next-full");
        Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
        Assert.Contains("says nothing of 'partials'", await refused.Content.ReadAsStringAsync(), StringComparison.Ordinal);
    }
}
