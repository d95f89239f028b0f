using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>
/// What a person sees and does about one alert: silence until a day, notes, running again, and the same trouble before. Source:
/// docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class AlertDetailTests
{
    private static readonly Subject Cellar = Subject.OfStore("cellar");

    private static Matter Matter(string message = "it is away", long? run = null) =>
        new(Cellar, AlertClass.Failed, message, "bring it back") { RunId = run };

    /// <summary>A service that tells everything into a folder that nobody reads; what was told is read from the catalogue.</summary>
    private static async Task<Bench> WithChannelAsync(string jobs = "", string more = "")
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            $"""
            charter: 1
            zone: Europe/London
            tells: drop
            channels:
              drop: {"{"} mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {bench.Root}/drop {"}"}
            stores:
              cellar: {"{"} folder: {bench.StoreFolder} {"}"}
            policies:
              few: {"{"} keep: newest 2 {"}"}
            jobs:
              register: {"{"} takes: {bench.Source}, into: cellar, policy: few{more} {"}"}
            {jobs}
            """
        );
        return bench;
    }

    private static async Task<List<string>> ToldAsync(Bench bench)
    {
        await bench.Services.GetRequiredService<FactCarrier>().CarryAsync(default);
        await using var db = await bench.KeepAsync();
        return await db.Messages.OrderBy(m => m.Id).Select(m => m.Type).ToListAsync();
    }

    private static Task<AlertWholeAnswer> WholeAsync(Bench bench, long id) => bench.GetAsync<AlertWholeAnswer>($"alerts/{id}");

    [Fact]
    public async Task What_is_known_is_silent_until_its_day_counts_on_and_is_told_again_if_it_is_there_still()
    {
        await using var bench = await WithChannelAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        await book.RaiseAsync(Matter(), default);
        var id = Assert.Single(await bench.OpenAlertsAsync()).Id;
        Assert.Equal(["alert-opened"], await ToldAsync(bench));
        var until = bench.Clock.Now.AddDays(3);
        var known = await bench.SendAsync<AlertAnswer>(
            HttpMethod.Post,
            $"alerts/{id}/known",
            new AlertKnownRequest("the disk is being replaced", until)
        );
        Assert.Equal(
            (AlertState.Known, "mira", "the disk is being replaced", until),
            (known.State, known.KnownBy, known.KnownReason, known.KnownUntil)
        );
        // For two days and more nobody is told, whatever happens to it; what happens is counted.
        bench.Clock.Now = until.AddSeconds(-1);
        await book.RaiseAsync(Matter("it is still away"), default);
        await book.RemindAsync(default);
        Assert.Equal(["alert-opened"], await ToldAsync(bench));
        var silent = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertState.Known, 2, "It is still away"), (silent.State, silent.Count, silent.Message));

        bench.Clock.Now = until;
        await book.RemindAsync(default);
        await book.RemindAsync(default);
        Assert.Equal(["alert-opened", "alert-back"], await ToldAsync(bench));
        var back = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertState.Open, null, null), (back.State, back.KnownUntil, back.KnownBy));
        // From then on it is reminded of like any other.
        bench.Clock.Now = until.AddDays(1).AddSeconds(1);
        await book.RemindAsync(default);
        Assert.Equal("alert-still-open", (await ToldAsync(bench))[^1]);
        Assert.Equal(
            ["opened", "told", "known", "known-over", "told", "told"],
            (await WholeAsync(bench, id)).Deeds.Select(d => Core.Quantities.Kebab.Of(d.Kind))
        );
    }

    [Fact]
    public async Task What_is_known_ends_silently_is_told_when_it_comes_back_and_whoever_looks_at_it_wakes_it()
    {
        await using var bench = await WithChannelAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        await book.RaiseAsync(Matter(), default);
        var id = Assert.Single(await bench.OpenAlertsAsync()).Id;
        var request = new AlertKnownRequest("we know", bench.Clock.Now.AddDays(30));
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{id}/known", request);
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        Assert.Equal(["alert-opened"], await ToldAsync(bench));
        // Within the hour it is the same one again, and nobody has said anything of this time.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(59);
        await book.RaiseAsync(Matter(), default);
        Assert.Equal(["alert-opened", "alert-reopened"], await ToldAsync(bench));
        var again = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertState.Open, null, null, null), (again.State, again.KnownUntil, again.KnownBy, again.KnownReason));
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{id}/known", request);
        var seen = await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{id}/acknowledge");
        Assert.Equal((AlertState.Acknowledged, null, "mira"), (seen.State, seen.KnownUntil, seen.AcknowledgedBy));
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        Assert.Equal("alert-closed", (await ToldAsync(bench))[^1]);
    }

    [Fact]
    public async Task A_failed_run_weighs_more_while_its_jobs_promise_is_broken()
    {
        await using var bench = await WithChannelAsync(more: ", fresh-within: 30 hours");
        await bench.BackUpAsync();
        Directory.Move(bench.Source, bench.Source + "-away");
        bench.Clock.Now = bench.Clock.Now.AddHours(20);
        await bench.BackUpAsync();
        Assert.Equal(Severity.Failure, Assert.Single(await bench.OpenAlertsAsync()).Severity);
        await bench.TickAsync("2026-11-24T15:00:01Z");
        Assert.Equal(
            [(AlertClass.Failed, Severity.BrokenPromise), (AlertClass.Stale, Severity.BrokenPromise)],
            (await bench.OpenAlertsAsync()).Select(a => (a.Class, a.Severity)).Order()
        );
        // One that fails again meanwhile is as grave; one that is raised after the promise is kept again is not.
        await bench.BackUpAsync();
        Assert.All(await bench.OpenAlertsAsync(), a => Assert.Equal(Severity.BrokenPromise, a.Severity));
        var whole = await WholeAsync(bench, (await bench.OpenAlertsAsync()).Single(a => a.Class == AlertClass.Failed).Id);
        var job = Assert.Single(whole.Jobs);
        Assert.Equal(("register", "heron", true, "30 hours"), (job.Job, job.Machine, job.Stale, job.FreshWithin));
        Assert.Equal(new DateTimeOffset(2026, 11, 23, 9, 0, 0, TimeSpan.Zero), job.NewestGoodCopy);
        Assert.Contains(whole.Lines, l => l.Text.Contains(bench.Source, StringComparison.Ordinal));
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.BackUpAsync();
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        Assert.Equal(Severity.Failure, Assert.Single(await bench.OpenAlertsAsync()).Severity);
        Assert.Single(await bench.GetAsync<Page<AlertAnswer>>("alerts?severity=failure") is { } page ? page.Items : []);
    }

    [Fact]
    public async Task A_job_says_how_grave_its_alerts_are()
    {
        await using var bench = await WithChannelAsync(more: ", severity: danger");
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        Assert.Equal(Severity.Danger, Assert.Single(await bench.OpenAlertsAsync()).Severity);
        await ToldAsync(bench);
        await using var db = await bench.KeepAsync();
        Assert.Contains("a copy is in danger", (await db.Messages.SingleAsync()).Body);
    }

    [Fact]
    public async Task What_one_cause_stopped_is_run_again_together_or_one_by_one_and_the_alert_says_so()
    {
        await using var bench = await WithChannelAsync(jobs: "  tide: { takes: /etc/hostname, into: cellar, policy: few }\n");
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        await bench.BackUpAsync();
        await bench.RunAsync("jobs/tide/runs");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(["register", "tide"], alert.Affected.Order());
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        var both = await bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/reruns");
        Assert.Equal(["register", "tide"], both.Runs.Select(r => r.Job).Order());
        Assert.Empty(both.Refused);
        await bench.IdleAsync();
        await ToldAsync(bench);
        var whole = await WholeAsync(bench, alert.Id);
        Assert.Equal(AlertState.Closed, whole.Alert.State);
        Assert.Equal(
            both.Runs.Select(r => r.Id),
            whole.Deeds.Where(d => d.Kind == AlertDeedKind.Rerun && d.By == "mira").Select(d => d.RunId!.Value)
        );
        Assert.Equal(AlertDeedKind.Closed, whole.Deeds[^2].Kind);
        Assert.All(whole.Jobs, j => Assert.Equal(Outcome.Ok, j.LastRun?.Outcome));
        var one = await bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/reruns?job=tide");
        Assert.Equal("tide", Assert.Single(one.Runs).Job);
        await bench.IdleAsync();
        Assert.Equal(HttpStatusCode.Conflict, (await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/reruns?job=none")).StatusCode);
        // What was taken out of the charter meanwhile is refused by name, and the rest goes on.
        await bench.ApplyAsync(
            (await bench.GetAsync<CharterAnswer>("charter")).Yaml.Replace("  tide:", "  tides:", StringComparison.Ordinal)
        );
        var rest = await bench.SendAsync<AlertRerunAnswer>(HttpMethod.Post, $"alerts/{alert.Id}/reruns");
        Assert.Equal("register", Assert.Single(rest.Runs).Job);
        Assert.Contains("no job tide", Assert.Single(rest.Refused));
        await bench.IdleAsync();
    }

    [Fact]
    public async Task The_same_trouble_before_stands_at_an_alert_with_what_ended_it_and_what_was_noted()
    {
        await using var bench = await WithChannelAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        await book.RaiseAsync(Matter("it was away long ago"), default);
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        bench.Clock.Now = bench.Clock.Now.AddDays(367);
        for (var i = 0; i < 3; i++)
        {
            await book.RaiseAsync(Matter($"it is away, 100% of it, time {i}"), default);
            var open = Assert.Single(await bench.OpenAlertsAsync());
            await bench.RawAsync(HttpMethod.Post, $"alerts/{open.Id}/notes", new AlertNoteRequest($"the cable, time {i}"));
            bench.Clock.Now = bench.Clock.Now.AddHours(2);
            if (i == 0)
                await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{open.Id}/close", new AlertCloseRequest("we pulled it"));
            else
                await book.CloseAsync(Cellar, [AlertClass.Failed], default);
            bench.Clock.Now = bench.Clock.Now.AddHours(2);
        }
        await book.RaiseAsync(Matter(), default);
        // Of another class or subject it is another trouble.
        await book.RaiseAsync(Matter() with { Class = AlertClass.NearlyFull }, default);
        await book.RaiseAsync(Matter() with { Subject = Subject.OfStore("attic") }, default);
        var whole = await WholeAsync(bench, (await bench.OpenAlertsAsync()).Min(a => a.Id));
        Assert.Equal((3, 3), (whole.TimesBefore, whole.Before.Count));
        Assert.Equal([7200, 7200, 7200], whole.Before.Select(b => b.OpenSeconds));
        Assert.Equal((null, "mira", "we pulled it"), (whole.Before[0].ClosedBy, whole.Before[2].ClosedBy, whole.Before[2].ClosedReason));
        Assert.Equal(["mira: the cable, time 2"], whole.Before[0].Notes);

        Assert.Equal(3, (await FindAsync("find=100%25 OF")).Count);
        Assert.Empty(await FindAsync("find=100_ of"));
        Assert.Equal(6, (await FindAsync($"since={Uri.EscapeDataString($"{bench.Clock.Now.AddDays(-2):O}")}")).Count);
        Assert.Single(await FindAsync($"until={Uri.EscapeDataString($"{bench.Clock.Now.AddDays(-200):O}")}"));
        Assert.Single(await FindAsync("store=attic"));
        Assert.Empty(await FindAsync("job=register"));

        async Task<IReadOnlyList<AlertAnswer>> FindAsync(string query) =>
            (await bench.GetAsync<Page<AlertAnswer>>("alerts?" + query)).Items;
    }

    [Fact]
    public async Task What_is_asked_wrongly_of_an_alert_is_refused_and_changes_nothing()
    {
        await using var bench = await WithChannelAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        await book.RaiseAsync(Matter(), default);
        var id = Assert.Single(await bench.OpenAlertsAsync()).Id;
        var now = bench.Clock.Now;
        (string Path, object? Body, int Status, string Says)[] table =
        [
            ($"alerts/{id}/known", new AlertKnownRequest("x", now.AddDays(1)), 400, "3 to 500 characters"),
            ($"alerts/{id}/known", new AlertKnownRequest("a reason", now), 400, "not within the coming 366 days"),
            ($"alerts/{id}/known", new AlertKnownRequest("a reason", now.AddDays(366).AddSeconds(1)), 400, "not within"),
            ($"alerts/{id}/notes", new AlertNoteRequest("  "), 400, "1 to 4000 characters"),
            ($"alerts/{id}/notes", new AlertNoteRequest(new string('x', 4001)), 400, "1 to 4000 characters"),
            ($"alerts/{id}/reruns", null, 409, "stopped no job"),
            ("alerts/4711/known", new AlertKnownRequest("a reason", now.AddDays(1)), 404, "no open alert 4711"),
            ("alerts/4711/notes", new AlertNoteRequest("found it"), 404, "no alert '4711'"),
            ("alerts/4711/reruns", null, 404, "no alert '4711'"),
        ];
        foreach (var (path, body, status, says) in table)
        {
            using var answer = await bench.RawAsync(HttpMethod.Post, path, body);
            var text = await answer.Content.ReadAsStringAsync();
            Assert.True((int)answer.StatusCode == status && text.Contains(says, StringComparison.Ordinal), $"{path}: {text}");
        }
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Get, "alerts/4711")).StatusCode);
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Get, "alerts?severity=dire")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await bench.Anonymous().GetAsync($"/api/v1/alerts/{id}")).StatusCode);
        var after = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertState.Open, 1), (after.State, after.Count));
        Assert.DoesNotContain((await WholeAsync(bench, id)).Deeds, d => d.By is not null);
        // A closed one takes words still, and silence no more.
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await bench.RawAsync(HttpMethod.Post, $"alerts/{id}/notes", new AlertNoteRequest("it was the cable"))).StatusCode
        );
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await bench.RawAsync(HttpMethod.Post, $"alerts/{id}/known", new AlertKnownRequest("a reason", now.AddDays(1)))).StatusCode
        );
    }
}
