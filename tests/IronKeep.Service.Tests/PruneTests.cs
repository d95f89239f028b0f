using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Service.Stores;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

public sealed class PruneTests
{
    [Fact]
    public async Task The_brake_holds_an_unusual_plan_until_somebody_says_why_it_is_right()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 12, "newest 12");
        await bench.ApplyAsync(bench.Charter(keep: "newest 5"));
        var plan = await PlanAsync(bench);
        Assert.Equal(7, plan.Counts["expire"]);
        Assert.Contains("7 of 12 good copies", Assert.Single(plan.Brake));
        using (var held = await bench.RawAsync(HttpMethod.Post, $"prune-plans/{plan.Fingerprint}/apply"))
        {
            Assert.Equal(HttpStatusCode.Conflict, held.StatusCode);
            Assert.Contains("The brake holds", await held.Content.ReadAsStringAsync());
        }
        Assert.All(await bench.CopiesAsync(), c => Assert.Null(c.BinnedAt));
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await bench.RawAsync(HttpMethod.Post, $"prune-plans/{plan.Fingerprint}/apply?confirm=x")).StatusCode
        );
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=the%20season%20is%20over")).Outcome.Word());
        Assert.Equal(7, (await bench.CopiesAsync()).Count(c => c.BinnedAt is not null));
        // What was let pass once is the measure from then on; a shortened policy is held again, even for a single copy.
        await bench.ApplyAsync(bench.Charter(keep: "newest 4"));
        Assert.Contains("shortened policy", Assert.Single((await PlanAsync(bench)).Brake));
    }

    [Fact]
    public async Task A_prune_is_tied_to_the_success_of_the_run_and_a_braked_one_becomes_an_alert()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 3, "newest 2", "prune: after-success");
        var copies = await bench.CopiesAsync();
        Assert.Equal([false, false, true], copies.Select(c => c.BinnedAt is not null));
        var prune = (await bench.GetAsync<Page<RunAnswer>>("runs?kind=prune")).Items[0];
        Assert.Matches("^run [0-9]+$", prune.By.Words);
        // After a failure nothing goes.
        Directory.Move(bench.Source, bench.Source + "-away");
        Assert.Equal("failed", (await bench.BackUpAsync()).Outcome.Word());
        Assert.Equal([prune.Id], (await bench.GetAsync<Page<RunAnswer>>("runs?kind=prune")).Items.Select(r => r.Id));
        Directory.Move(bench.Source + "-away", bench.Source);

        await bench.ApplyAsync(bench.Charter(keep: "newest 9", more: "prune: after-success"));
        for (var i = 0; i < 8; i++)
            await NextAsync(bench);
        await bench.ApplyAsync(bench.Charter(keep: "newest 3", more: "prune: after-success"));
        await NextAsync(bench);
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("braked-prune", "prune of register on heron in store cellar"), (alert.Class.Word(), alert.Subject.Words));
        var plan = await PlanAsync(bench);
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=looked%20at%20it")).Outcome.Word());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_plan_that_was_broken_off_is_carried_on_with_and_never_asks_twice()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 8, "newest 5");
        var plan = await PlanAsync(bench);
        // As a crash leaves it: one copy moved in the store and in the catalogue, one in the store alone, the run at work.
        var going = plan.Copies.Where(c => c.Verdict.Word() == "expire").Select(c => c.CopyId).ToList();
        long run;
        await using (var db = await DbAsync(bench))
        {
            var store = bench.Services.GetRequiredService<Stores.OpenStores>().Get("cellar");
            foreach (var id in going.Take(2))
                store.MoveToBin(id, bench.Clock.Now);
            var now = NodaTime.Instant.FromDateTimeOffset(bench.Clock.Now);
            await db.Copies.Where(c => c.Id == going[0]).ExecuteUpdateAsync(s => s.SetProperty(c => c.BinnedAt, now));
            var broken = new Run
            {
                Kind = RunKind.Prune,
                State = RunState.Running,
                Job = "register",
                Machine = "heron",
                Store = "cellar",
                By = Actor.Person("mira"),
                Order = $$"""{"Fingerprint":"{{plan.Fingerprint}}"}""",
            };
            db.Runs.Add(broken);
            await db.SaveChangesAsync();
            run = broken.Id;
        }
        await bench.RestartAsync();
        await bench.IdleAsync();
        Assert.Equal("interrupted", (await bench.GetAsync<RunAnswer>($"runs/{run}")).Failure.Word());
        var resumed = (await bench.GetAsync<Page<RunAnswer>>("runs?kind=prune")).Items[0];
        Assert.Equal(("ok", 1), (resumed.Outcome.Word(), resumed.Attempt));
        // What had gone before is not counted as gone again.
        Assert.StartsWith("1 copy of register went to the bin of store cellar, 5 stay", resumed.Sentence);
        Assert.Equal(going.Order(), (await bench.CopiesAsync()).Where(c => c.BinnedAt is not null).Select(c => c.Id).Order());
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task One_removal_that_is_not_permitted_is_reported_and_the_rest_is_done()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 8, "newest 5");
        var plan = await PlanAsync(bench);
        var going = plan.Copies.Where(c => c.Verdict.Word() == "expire").Select(c => c.CopyId).ToList();
        var record = $"{bench.StoreFolder}/copies/{going[1]}.copy";
        // Where files cannot be made immutable, a folder in the way refuses the move as well.
        var obstacle = $"{bench.StoreFolder}/bin/{bench.Clock.Now.UtcDateTime:yyyyMMdd'T'HHmmss'Z'}-{going[1]}.copy";
        if (await Shell($"chattr +i '{record}'") != 0)
            Directory.CreateDirectory(obstacle + "/x");
        try
        {
            var run = await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply");
            Assert.Equal("warned", run.Outcome.Word());
            Assert.Contains("1 could not be moved", run.Sentence);
            Assert.Contains((await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log?severity=error")).Lines, l =>
                l.Text.Contains(going[1], StringComparison.Ordinal)
            );
            Assert.Equal(
                going.Where(g => g != going[1]).Order(),
                (await bench.CopiesAsync()).Where(c => c.BinnedAt is not null).Select(c => c.Id).Order()
            );
        }
        finally
        {
            await Shell($"chattr -i '{record}'; rm -rf '{obstacle}'");
        }
        // Once the cause is mended, the same plan does the rest.
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply")).Outcome.Word());
        Assert.Equal(3, (await bench.CopiesAsync()).Count(c => c.BinnedAt is not null));
    }

    [Fact]
    public async Task As_of_another_day_is_only_looked_at()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 5, "all within 3 days");
        var today = await PlanAsync(bench);
        var later = await bench.SendAsync<PrunePlanAnswer>(
            HttpMethod.Post,
            $"jobs/register/prune-plans?asOf={bench.Clock.Now.AddDays(2):yyyy-MM-ddTHH:mm:ssZ}"
        );
        Assert.NotNull(today.Fingerprint);
        Assert.Null(later.Fingerprint);
        Assert.Equal((today.Counts["expire"] + 1, 5), (later.Counts["expire"], later.Copies.Count));
        var earlier = await bench.SendAsync<PrunePlanAnswer>(
            HttpMethod.Post,
            $"jobs/register/prune-plans?asOf={bench.Clock.Now.AddDays(-2):yyyy-MM-ddTHH:mm:ssZ}"
        );
        Assert.Equal(3, earlier.Copies.Count);
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Post, "jobs/register/prune-plans?asOf=soon")).StatusCode);
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await bench.RawAsync(HttpMethod.Post, "jobs/register/prune-plans?store=attic")).StatusCode
        );
    }

    [Fact]
    public async Task A_catalogue_that_was_built_anew_prunes_nothing_before_a_person_has_looked()
    {
        await using var bench = await Bench.StartAsync();
        await CopiesAsync(bench, 4, "newest 3");
        await bench.ApplyAsync("charter: 1");
        await using (var db = await DbAsync(bench))
        {
            await db.Copies.ExecuteDeleteAsync();
            await db.Runs.ExecuteDeleteAsync();
        }
        await bench.ApplyAsync(bench.Charter(keep: "newest 3"));
        var plan = await PlanAsync(bench);
        Assert.Equal(1, plan.Counts["expire"]);
        Assert.Contains("the catalogue was built anew", Assert.Single(plan.Brake));
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=these%20are%20ours")).Outcome.Word());
        await NextAsync(bench);
        Assert.Empty((await PlanAsync(bench)).Brake);
    }

    private static async Task CopiesAsync(Bench bench, int count, string keep, string more = "")
    {
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(keep: keep, more: more));
        for (var i = 0; i < count; i++)
            await NextAsync(bench);
    }

    private static async Task NextAsync(Bench bench)
    {
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
    }

    private static Task<PrunePlanAnswer> PlanAsync(Bench bench) =>
        bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/register/prune-plans");

    private static Task<KeepContext> DbAsync(Bench bench) =>
        bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();

    private static async Task<int> Shell(string command)
    {
        using var process = System.Diagnostics.Process.Start("/bin/bash", ["-c", command + " 2> /dev/null"]);
        await process.WaitForExitAsync();
        return process.ExitCode;
    }
}
