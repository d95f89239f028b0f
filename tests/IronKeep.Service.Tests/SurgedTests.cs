using System.Net;
using System.Security.Cryptography;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

/// <summary>
/// A run that finds most of its files changed, renamed or encrypted, and what is held until a person has looked. Source: docs/semantics.md,
/// section 6 (Watching).
/// </summary>
public sealed class SurgedTests
{
    private const int Files = 120;

    private static async Task<Bench> StartAsync()
    {
        var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            bench
                .Charter(keep: "newest 1", more: "prune: after-success")
                .Replace("newest 1 }", "newest 1, at-least: 1 }", StringComparison.Ordinal)
        );
        for (var i = 0; i < Files; i++)
            bench.Write($"{i % 6}/notes-{i}.txt", string.Concat(Enumerable.Repeat($"{i}: redshank, dunlin, knot; ", 2500)));
        for (var night = 0; night < 5; night++)
        {
            bench.Write("0/notes-0.txt", $"night {night} " + new string('x', 200_000));
            bench.Write($"new-{night}", $"{night}");
            Assert.Equal("ok", (await NextAsync(bench)).Outcome.Word());
        }
        Assert.Empty(await bench.OpenAlertsAsync());
        return bench;
    }

    private static async Task<RunAnswer> NextAsync(Bench bench)
    {
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        var run = await bench.BackUpAsync();
        await bench.IdleAsync();
        return run;
    }

    private static string[] All(Bench bench) => Directory.GetFiles(bench.Source, "notes-*", SearchOption.AllDirectories);

    private static async Task<string[]> GoingAsync(Bench bench) =>
        [
            .. (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans"))
                .Copies.Where(c => c.Verdict.Word() == "expire")
                .Select(c => c.CopyId),
        ];

    [Fact]
    public async Task A_tree_encrypted_in_place_is_told_with_its_numbers_and_nothing_expires_until_somebody_has_looked()
    {
        await using var bench = await StartAsync();
        var before = (await bench.CopiesAsync()).Count(c => c.BinnedAt is null);
        foreach (var file in All(bench))
        {
            // In place, of the same length, as such programs do it.
            var content = File.ReadAllBytes(file);
            RandomNumberGenerator.Fill(content);
            File.WriteAllBytes(file, content);
        }
        var run = await NextAsync(bench);
        Assert.Equal("ok", run.Outcome.Word());
        Assert.Equal(new ChurnAnswer(Files + 5, Files, 0, 0), run.Churn);
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Surge, Severity.Danger), (alert.Class, alert.Severity));
        Assert.StartsWith(
            $"Run {run.Id} changed more at once than the job does: {Files} of {Files + 5} files have another content (96 %), where 1 % are "
                + "usual; ",
            alert.Message
        );
        Assert.Contains("of new content shrank by 0 %, where ", alert.Message);
        // The prune after it took nothing, nor does one by hand, nor one after the next runs.
        for (var i = 0; i < 2; i++)
        {
            Assert.Empty(await GoingAsync(bench));
            await NextAsync(bench);
        }
        Assert.Equal(before + 3, (await bench.CopiesAsync()).Count(c => c.BinnedAt is null));
        Assert.Contains(
            "changed more at once than the job does, and nobody has looked yet, so nothing expires",
            string.Join(
                ' ',
                (await bench.GetAsync<CopyWhyAnswer>($"copies/{(await bench.CopiesAsync()).Last(c => c.BinnedAt is null).Id}/why")).Reasons
            )
        );
        // Acknowledging it is not having looked at the files; confirming is, and so is closing it with a reason.
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/acknowledge");
        Assert.Empty(await GoingAsync(bench));
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{run.Id}/confirm");
        Assert.Empty(await bench.OpenAlertsAsync());
        Assert.Equal("mira", (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).SurgeSeenBy);
        Assert.NotEmpty(await GoingAsync(bench));
        using var again = await bench.RawAsync(HttpMethod.Post, $"runs/{run.Id}/confirm");
        Assert.Equal(HttpStatusCode.Conflict, again.StatusCode);
    }

    [Fact]
    public async Task Names_rewritten_in_mass_are_a_surge_that_ends_when_a_person_closes_it()
    {
        await using var bench = await StartAsync();
        foreach (var file in All(bench))
            File.Move(file, file + ".locked");
        var run = await NextAsync(bench);
        Assert.Equal(new ChurnAnswer(Files + 5, 0, Files, Files), run.Churn);
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Contains($"{Files} of {Files + 5} names are gone and {Files} others are there", alert.Message);
        Assert.Empty(await GoingAsync(bench));
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/close", new AlertCloseRequest("we renamed them"));
        Assert.NotEmpty(await GoingAsync(bench));
    }

    /// <summary>Counted at all depths: a folder moved away with all in it, rights changed, and times without content.</summary>
    [Fact]
    public async Task What_is_no_change_of_content_is_not_counted_as_one()
    {
        await using var bench = await StartAsync();
        foreach (var file in All(bench))
        {
            File.SetLastWriteTimeUtc(file, new DateTime(2026, 1, 1, 0, 0, 0, DateTimeKind.Utc));
            File.SetUnixFileMode(file, UnixFileMode.UserRead);
        }
        Directory.Move(bench.Source + "/5", bench.Source + "/elsewhere");
        var run = await NextAsync(bench);
        Assert.Equal(new ChurnAnswer(Files + 5, 0, Files / 6, Files / 6), run.Churn);
        Assert.Empty(await bench.OpenAlertsAsync());
        Directory.Delete(bench.Source + "/elsewhere", true);
        Assert.Equal(new ChurnAnswer(Files + 5, 0, Files / 6, 0), (await NextAsync(bench)).Churn);
    }

    [Fact]
    public async Task A_person_holds_all_expiry_of_a_job_until_a_day()
    {
        await using var bench = await StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 1").Replace("newest 1 }", "newest 1, at-least: 1 }", StringComparison.Ordinal));
        await NextAsync(bench);
        Assert.NotEmpty(await GoingAsync(bench));
        var until = bench.Clock.Now.AddDays(2);
        foreach (var wrong in new[] { new ExpiryHoldRequest("x", until), new("audit", bench.Clock.Now), new("audit", until.AddDays(400)) })
            Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Put, "jobs/register/expiry-hold", wrong)).StatusCode);
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await bench.RawAsync(HttpMethod.Put, "jobs/register/expiry-hold", new ExpiryHoldRequest("audit", until, 99))).StatusCode
        );
        Assert.Equal(HttpStatusCode.Conflict, (await bench.RawAsync(HttpMethod.Delete, "jobs/register/expiry-hold")).StatusCode);
        await bench.SendAsync<ExpiryHoldAnswer>(HttpMethod.Put, "jobs/register/expiry-hold", new ExpiryHoldRequest("an audit", until));
        Assert.Equal(new ExpiryHoldAnswer("mira", "an audit", until), (await bench.GetAsync<JobAnswer>("jobs/register")).ExpiryHold);
        Assert.Empty(await GoingAsync(bench));
        bench.Clock.Now = until.AddSeconds(-1);
        Assert.Empty(await GoingAsync(bench));
        bench.Clock.Now = until;
        Assert.NotEmpty(await GoingAsync(bench));
        Assert.Null((await bench.GetAsync<JobAnswer>("jobs/register")).ExpiryHold);
        await bench.SendAsync<ExpiryHoldAnswer>(
            HttpMethod.Put,
            "jobs/register/expiry-hold",
            new ExpiryHoldRequest("an audit", until.AddDays(9))
        );
        Assert.Empty(await GoingAsync(bench));
        await bench.SendAsync<ExpiryHoldAnswer>(HttpMethod.Delete, "jobs/register/expiry-hold");
        Assert.NotEmpty(await GoingAsync(bench));
    }
}
