using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

public sealed class SuspectTests
{
    [Fact]
    public async Task A_run_far_off_its_band_is_suspect_holds_back_the_copy_before_it_and_learns_anew_once_confirmed()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            bench
                .Charter(keep: "newest 1", more: "band: 40 % and 10 kB")
                .Replace("keep: newest 1 }", "keep: newest 1, at-least: 1 }", StringComparison.Ordinal)
        );
        bench.Write("big", new string('x', 100_000));
        for (var i = 0; i < 4; i++)
            Assert.Equal("ok", (await NextAsync()).Outcome.Word());
        bench.Write("big", new string('x', 30_000));
        var suspect = await NextAsync();
        Assert.Equal("suspect", suspect.Outcome.Word());
        Assert.StartsWith("It took 30 kB, where 100 kB are usual. Copy ", suspect.Sentence);
        Assert.Equal("suspect", Assert.Single(await bench.OpenAlertsAsync()).Class.Word());
        var copies = await bench.CopiesAsync();
        Assert.NotNull(copies[0].Doubt);
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");
        Assert.Equal(["keep", "held", "expire", "expire", "expire"], plan.Copies.Select(c => c.Verdict.Word()));
        Assert.Contains("suspect until somebody confirms", (await bench.GetAsync<CopyWhyAnswer>($"copies/{copies[1].Id}/why")).Reasons[0]);
        // The same again is suspect again: one matter, counted.
        Assert.Equal("suspect", (await NextAsync()).Outcome.Word());
        Assert.Equal(2, Assert.Single(await bench.OpenAlertsAsync()).Count);
        using (var wrong = await bench.RawAsync(HttpMethod.Post, "runs/1/confirm"))
            Assert.Equal(HttpStatusCode.Conflict, wrong.StatusCode);
        var last = (await bench.GetAsync<Page<RunAnswer>>("runs?outcome=suspect")).Items[0];
        Assert.Equal("mira", (await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{last.Id}/confirm")).ConfirmedBy);
        Assert.Empty(await bench.OpenAlertsAsync());
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.Doubt));
        // From now on this size is what it learns from.
        Assert.Equal("ok", (await NextAsync()).Outcome.Word());
        Assert.Equal("ok", (await NextAsync()).Outcome.Word());
        bench.Write("big", new string('x', 100_000));
        Assert.Equal("suspect", (await NextAsync()).Outcome.Word());

        async Task<RunAnswer> NextAsync()
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            return await bench.BackUpAsync();
        }
    }

    [Fact]
    public async Task An_empty_source_is_suspect_at_once_and_prunes_nothing()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(keep: "newest 1", more: "prune: after-success"));
        for (var i = 0; i < 3; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var kept = (await bench.CopiesAsync()).Count(c => c.BinnedAt is null);
        File.Delete(bench.Source + "/a");
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        Assert.Equal("suspect", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Equal(kept + 1, (await bench.CopiesAsync()).Count(c => c.BinnedAt is null));
        Assert.Contains("no bytes at all", Assert.Single(await bench.OpenAlertsAsync()).Message);
    }

    [Fact]
    public async Task A_run_is_set_beside_the_one_before_and_its_log_is_read_by_severity()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        var first = await bench.BackUpAsync();
        Assert.Null((await bench.GetAsync<PreviousRunAnswer>($"runs/{first.Id}/previous")).Run);
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        var failed = await bench.BackUpAsync();
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        var third = await bench.BackUpAsync();
        // The failed one left nothing to compare with.
        Assert.Equal(first.Id, (await bench.GetAsync<PreviousRunAnswer>($"runs/{third.Id}/previous")).Run?.Id);
        Assert.Contains("nothing had changed", third.Sentence);
        Assert.Equal("ok", third.Outcome.Word());
        var all = (await bench.GetAsync<RunLogAnswer>($"runs/{failed.Id}/log")).Lines;
        var errors = (await bench.GetAsync<RunLogAnswer>($"runs/{failed.Id}/log?severity=error")).Lines;
        Assert.Equal(all.Where(l => l.Severity == LogSeverity.Error), errors);
        Assert.NotEmpty(errors);
        Assert.Empty((await bench.GetAsync<RunLogAnswer>($"runs/{third.Id}/log?severity=warning")).Lines);
        var history = await bench.GetAsync<List<HistoryPoint>>("jobs/register/history");
        Assert.Equal([first.Id, third.Id], history.Select(h => h.RunId));
    }
}
