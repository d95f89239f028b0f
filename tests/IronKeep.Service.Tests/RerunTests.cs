using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>
/// Running again from an alert: with the settings of then or today's, now or when quiet hours end, or waiting for the next. Source:
/// docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class RerunTests
{
    /// <summary>The clock of a bench stands at 09:00 UTC on a Monday.</summary>
    private static string Charter(Bench bench, string takes, string job = "when: daily at 23:00", string stores = "") =>
        $$"""
            charter: 1
            zone: UTC
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
            {{stores}}
            policies:
              few: { keep: newest 5 }
            jobs:
              register: { takes: {{takes}}, into: cellar, policy: few, {{job}} }
            """;

    private static async Task<(Bench Bench, AlertAnswer Alert)> FailedAsync(string job = "when: daily at 23:00", string stores = "")
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        Directory.CreateDirectory(bench.Root + "/other");
        File.WriteAllText(bench.Root + "/other/b", "22");
        await bench.ApplyAsync(Charter(bench, bench.Source, job, stores));
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        return (bench, Assert.Single(await bench.OpenAlertsAsync()));
    }

    private static Task<AlertRerunPreview> PreviewAsync(Bench bench, long id) => bench.GetAsync<AlertRerunPreview>($"alerts/{id}/reruns");

    private static Task<AlertRerunAnswer> AgainAsync(Bench bench, long id, string query = "") =>
        bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, $"alerts/{id}/reruns{query}");

    [Fact]
    public async Task What_changed_since_the_run_that_failed_is_shown_and_either_can_be_run()
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        var same = Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs);
        Assert.Equal(("register", "heron", null, 1L, 1L), (same.Job, same.Machine, same.Refused, same.RunId, same.Revision));
        Assert.Empty(same.Changes);
        Assert.Equal(new DateTimeOffset(2026, 11, 23, 23, 0, 0, TimeSpan.Zero), same.NextDue);
        Assert.Null(same.WindowOpens);

        await bench.ApplyAsync(Charter(bench, bench.Root + "/other", "when: daily at 22:00, compression: 5"));
        var changes = Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs).Changes;
        // When it is due is nothing that a run goes by.
        Assert.Equal(
            [("takes", bench.Source, bench.Root + "/other"), ("compression", null, "5")],
            changes.Select(c => (c.Field, c.Before, c.After))
        );
        Directory.Move(bench.Source + "-away", bench.Source);
        var then = Assert.Single((await AgainAsync(bench, alert.Id, "?settings=then")).Runs);
        await bench.IdleAsync();
        Assert.Equal(1, (await bench.GetAsync<RunAnswer>($"runs/{then.Id}")).Figures.SelectedBytes);
        Assert.Equal(AlertState.Closed, (await bench.GetAsync<AlertWholeAnswer>($"alerts/{alert.Id}")).Alert.State);
        var today = Assert.Single((await AgainAsync(bench, alert.Id, "?settings=today")).Runs);
        await bench.IdleAsync();
        Assert.Equal(2, (await bench.GetAsync<RunAnswer>($"runs/{today.Id}")).Figures.SelectedBytes);
        // One that ran as it was then worked with the settings of then, whatever was in force.
        await using (var db = await bench.KeepAsync())
            await db.Runs.Where(r => r.Id == then.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.Outcome, Outcome.Failed));
        await using (var db = await bench.KeepAsync())
            await db.Alerts.ExecuteUpdateAsync(s => s.SetProperty(a => a.RunId, then.Id));
        Assert.Equal((then.Id, 1), (await PreviewAsync(bench, alert.Id)).Jobs.Select(j => (j.RunId!.Value, j.Revision!.Value)).Single());
        await using (var db = await bench.KeepAsync())
            await db.Runs.Where(r => r.Id == then.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.Outcome, Outcome.Ok));
        // The alert follows both to their ends.
        var deeds = (await bench.GetAsync<AlertWholeAnswer>($"alerts/{alert.Id}")).Deeds.Where(d => d.Kind == AlertDeedKind.Rerun).ToList();
        Assert.Equal(
            [(then.Id, "job register, with the settings of revision 1", Outcome.Ok), (today.Id, "job register", Outcome.Ok)],
            deeds.Select(d => (d.RunId!.Value, d.Words!, d.Outcome!.Value))
        );
    }

    [Fact]
    public async Task The_settings_of_then_hold_the_stores_of_then_and_are_refused_where_they_cannot_be_used()
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        var attic = $"  attic: {{ folder: {bench.Root}/attic }}";
        await bench.ApplyAsync(
            Charter(bench, bench.Source, stores: attic).Replace("into: cellar", "into: attic", StringComparison.Ordinal)
        );
        var before = Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs);
        Assert.Equal([("into", "cellar", "attic")], before.Changes.Select(c => (c.Field, c.Before, c.After)));
        Directory.Move(bench.Source + "-away", bench.Source);
        await AgainAsync(bench, alert.Id, "?settings=then");
        await bench.IdleAsync();
        Assert.Equal("cellar", Assert.Single(await bench.CopiesAsync()).Store);
        // Its store is gone from the charter by now: it is refused by name, and today's can be run.
        await bench.ApplyAsync(
            Charter(bench, bench.Source, stores: attic)
                .Replace($"  cellar: {{ folder: {bench.StoreFolder} }}\n", "", StringComparison.Ordinal)
                .Replace("into: cellar", "into: attic", StringComparison.Ordinal)
        );
        var refused = await AgainAsync(bench, alert.Id, "?settings=then");
        Assert.Empty(refused.Runs);
        Assert.Contains("wrote into store cellar, which the charter does not have any more", Assert.Single(refused.Refused));
        Assert.Single((await AgainAsync(bench, alert.Id)).Runs);
        await bench.IdleAsync();
    }

    [Fact]
    public async Task A_run_of_before_revisions_were_kept_is_known_by_when_it_began()
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        await bench.ApplyAsync(Charter(bench, bench.Root + "/other"));
        await using (var db = await bench.KeepAsync())
            await db.Runs.ExecuteUpdateAsync(s => s.SetProperty(r => r.Revision, (long?)null));
        Assert.Equal(1, Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs).Revision);
        // A charter that this version cannot read: today's only.
        await using (var db = await bench.KeepAsync())
            await db.CharterRevisions.Where(r => r.Id == 1).ExecuteUpdateAsync(s => s.SetProperty(r => r.Yaml, "charter: 99"));
        await bench.RestartAsync();
        Assert.Null(Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs).Revision);
        Assert.Contains("are not known any more", Assert.Single((await AgainAsync(bench, alert.Id, "?settings=then")).Refused));
    }

    [Fact]
    public async Task In_quiet_hours_it_begins_now_or_when_they_are_over_as_one_chooses()
    {
        var (bench, alert) = await FailedAsync("when: daily at 23:00, quiet-hours: ['08:00 to 12:00', '12:00 to 14:00']");
        await using var _ = bench;
        Directory.Move(bench.Source + "-away", bench.Source);
        var ends = new DateTimeOffset(2026, 11, 23, 14, 0, 0, TimeSpan.Zero);
        var would = Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs);
        Assert.Equal((ends, "the quiet hours 12:00 to 14:00"), (would.WindowOpens, would.Window));
        var run = Assert.Single((await AgainAsync(bench, alert.Id, "?when=window")).Runs);
        Assert.Equal(ends, run.NotBefore);
        await bench.TickAsync("2026-11-23T13:59:59Z");
        Assert.Equal(RunState.Queued, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).State);
        // Another that waits already is not doubled, and can be asked for now.
        var twice = await AgainAsync(bench, alert.Id, "?when=window");
        Assert.Empty(twice.Runs);
        Assert.Contains($"waits to begin already (run {run.Id})", Assert.Single(twice.Refused));
        var now = Assert.Single((await AgainAsync(bench, alert.Id)).Runs);
        Assert.Equal(run.Id, now.Id);
        await bench.IdleAsync();
        Assert.Equal(Outcome.Ok, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome);
        Assert.Empty(await bench.OpenAlertsAsync());
        // Outside them there is nothing to wait for.
        await bench.TickAsync("2026-11-23T14:00:00Z");
        Assert.Null(Assert.Single((await PreviewAsync(bench, alert.Id)).Jobs).WindowOpens);
        Assert.Null(Assert.Single((await AgainAsync(bench, alert.Id, "?when=window")).Runs).NotBefore);
        await bench.IdleAsync();
    }

    [Fact]
    public async Task Who_waits_for_the_next_run_hears_nothing_until_it_should_be_over_and_again_if_it_did_not_help()
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        var waits = await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/wait");
        // Due, half an hour in which it may begin, and an hour that it may take.
        Assert.Equal(
            (AlertState.Known, new DateTimeOffset(2026, 11, 24, 0, 30, 0, TimeSpan.Zero), "mira"),
            (waits.State, waits.KnownUntil, waits.KnownBy)
        );
        Assert.Contains("waits for the next run of register, due 2026-11-23 23:00", waits.KnownReason);
        await bench.TickAsync("2026-11-23T23:00:01Z");
        Assert.Equal(AlertState.Known, Assert.Single(await bench.OpenAlertsAsync()).State);
        await bench.TickAsync("2026-11-24T00:31:00Z");
        Assert.Equal(AlertState.Open, Assert.Single(await bench.OpenAlertsAsync(), a => a.Id == alert.Id).State);
        // Further away than a matter can be known, or by hand only: there is nothing to wait for.
        await bench.ApplyAsync(Charter(bench, bench.Source, "when: yearly on feb 29 at 06:00"));
        using var far = await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/wait");
        Assert.Contains("more than 366 days away", await far.Content.ReadAsStringAsync());
        await bench.ApplyAsync(Charter(bench, bench.Source, "prune: by-hand"));
        using var refused = await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/wait");
        Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
        Assert.Contains("planned for no time", await refused.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task What_was_tried_before_and_whether_it_helped_stands_with_the_same_trouble()
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        await AgainAsync(bench, alert.Id);
        await bench.IdleAsync();
        Directory.Move(bench.Source + "-away", bench.Source);
        await AgainAsync(bench, alert.Id);
        await bench.IdleAsync();
        bench.Clock.Now = bench.Clock.Now.AddHours(3);
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        var again = Assert.Single(await bench.OpenAlertsAsync());
        Assert.NotEqual(alert.Id, again.Id);
        var before = Assert.Single((await bench.GetAsync<AlertWholeAnswer>($"alerts/{again.Id}")).Before);
        Assert.Equal([("mira", Outcome.Failed), ("mira", Outcome.Ok)], before.Tried.Select(t => (t.By!, t.Outcome!.Value)));
    }

    [Theory]
    [InlineData("?settings=mine", "are not known; use today, or then")]
    [InlineData("?when=later", "is not known; use now, or window")]
    public async Task What_cannot_be_understood_is_refused(string query, string says)
    {
        var (bench, alert) = await FailedAsync();
        await using var _ = bench;
        using var answer = await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/reruns{query}");
        Assert.Equal(HttpStatusCode.BadRequest, answer.StatusCode);
        Assert.Contains(says, await answer.Content.ReadAsStringAsync());
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Get, "alerts/99/reruns")).StatusCode);
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Post, "alerts/99/wait")).StatusCode);
    }
}
