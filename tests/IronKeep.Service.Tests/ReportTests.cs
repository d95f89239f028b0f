using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Reports;
using IronKeep.Core.Watching;
using IronKeep.Service.Reports;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using MimeKit;

namespace IronKeep.Service.Tests;

/// <summary>Reports over weeks and months: what they count, that they are made once and told, and how they are given out.</summary>
public sealed class ReportTests
{
    private static async Task<Bench> WeekAsync(string more = "")
    {
        var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            $$"""
            charter: 1
            zone: UTC
            channels:
              drop: { mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {{bench.Root}}/drop }
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
            policies:
              few: { keep: newest 2 }
            reports:
              week: { every: week, tells: drop }
              nobody: { every: month, tags: none-such }
            jobs:
              register: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 12:00, fresh-within: 30 hours{{more}} }
            """
        );
        // Monday to Wednesday it runs; on Thursday its source is away, on Friday it is back, and nobody is there at the weekend.
        foreach (var day in new[] { 23, 24, 25 })
            await bench.TickAsync($"2026-11-{day}T12:00:01Z");
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-26T12:00:01Z");
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.TickAsync("2026-11-27T12:00:01Z");
        return bench;
    }

    private static async Task<ReportAnswer> MadeAsync(Bench bench, string name = "week", string? from = null)
    {
        var asked = await bench.SendAsync<ReportListAnswer>(HttpMethod.Post, "reports", new ReportRequest(name, from));
        await bench.Services.GetRequiredService<ReportDesk>().MakeAsync(default);
        return await bench.GetAsync<ReportAnswer>($"reports/{asked.Id}");
    }

    [Fact]
    public async Task A_week_is_counted_by_outcome_cause_promise_copies_and_alerts()
    {
        await using var bench = await WeekAsync();
        await bench.TickAsync("2026-11-28T06:00:00Z");
        var report = await MadeAsync(bench, from: "2026-11-23");
        Assert.Equal(
            ("week", ReportPeriod.Week, "all jobs", "2026-11-23", "2026-11-30"),
            (report.Name, report.Every, report.Of, report.From, report.To)
        );
        Assert.Equal(
            (5, 5, 4, 0.8, 0),
            (report.Runs.Planned, report.Runs.ShouldHave, report.Runs.Succeeded, report.Runs.Rate!.Value, report.Runs.Unplanned)
        );
        Assert.Equal(report.Runs.Planned, report.Runs.Outcomes.Values.Sum() + report.Runs.StillRunning);
        var cause = Assert.Single(report.Causes);
        Assert.Equal(1, cause.Times);
        Assert.StartsWith("failed: ", cause.Cause);
        Assert.Equal(["register"], cause.Jobs);
        var job = Assert.Single(report.Jobs);
        Assert.Equal((5, 4, 0, 1, 4), (job.Planned, job.Succeeded, job.Missed, job.Failed, job.CopiesMade));
        // From the copy of Wednesday noon 30 hours, to Thursday at six in the evening; broken until Friday noon: 18 hours.
        Assert.Equal(18, job.BrokenHours!.Value, 1);
        Assert.Equal(114 - 18, job.KeptHours!.Value, 1);
        Assert.Equal((1, 1), (report.Freshness.Promised, report.Freshness.Broken));
        Assert.Equal(("cellar", 4), (report.Stores.Single().Store, report.Stores.Single().CopiesMade));
        Assert.Contains(report.Alerts.Classes, c =>
            c is { Class: AlertClass.Failed, Opened: 1, StillOpen: 0, MedianSeconds: > 86_000 and < 87_000 }
        );
        Assert.Equal(report.Alerts.Opened, report.Alerts.Classes.Sum(c => c.Opened));
        // What somebody asked for is told nobody.
        await using (var db = await bench.KeepAsync())
            Assert.DoesNotContain(await db.Messages.Select(m => m.Type).ToListAsync(), t => t == "report");
        // Of jobs that nobody has: nothing, and said so.
        var none = await MadeAsync(bench, "nobody");
        Assert.Equal(("tag none-such", 0, null), (none.Of, none.Runs.Planned, none.Runs.Rate));
    }

    [Fact]
    public async Task A_report_is_made_once_when_it_is_due_kept_and_told_as_text_and_as_a_page()
    {
        await using var bench = await WeekAsync();
        await bench.TickAsync("2026-11-30T06:00:01Z");
        var desk = bench.Services.GetRequiredService<ReportDesk>();
        await desk.MakeAsync(default);
        await desk.MakeAsync(default);
        await bench.TickAsync("2026-11-30T06:05:00Z");
        await desk.MakeAsync(default);
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var kept = Assert.Single((await bench.GetAsync<Page<ReportListAnswer>>("reports?name=week")).Items);
        Assert.Equal(("2026-11-23", "2026-11-30"), (kept.From, kept.To));
        Assert.NotNull(kept.MadeAt);
        var mail = Assert.Single(Directory.EnumerateFiles(bench.Root + "/drop").Select(f => MimeMessage.Load(f)), m =>
            m.Subject!.Contains("Week from 2026-11-23", StringComparison.Ordinal)
        );
        Assert.Contains("register", mail.TextBody);
        Assert.Contains("<h2>Jobs</h2>", mail.HtmlBody);
        // A restart makes none of them again.
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-30T07:00:00Z");
        await bench.Services.GetRequiredService<ReportDesk>().MakeAsync(default);
        Assert.Single((await bench.GetAsync<Page<ReportListAnswer>>("reports?name=week")).Items);
    }

    [Fact]
    public async Task A_report_is_a_page_that_asks_for_nothing_and_a_file_of_values_and_says_what_it_is_given()
    {
        await using var bench = await WeekAsync(more: ", tags: [birds]");
        var report = await MadeAsync(bench);
        var id = (await bench.GetAsync<Page<ReportListAnswer>>("reports")).Items[0].Id;
        using var page = await bench.RawAsync(HttpMethod.Get, $"reports/{id}/html");
        Assert.Equal("text/html", page.Content.Headers.ContentType!.MediaType);
        var html = await page.Content.ReadAsStringAsync();
        Assert.DoesNotMatch("(?i)https?://|<script|src=|@import|url\\(", html);
        Assert.Contains("@page { size: A4", html);
        using var values = await bench.RawAsync(HttpMethod.Get, $"reports/{id}/csv");
        Assert.Equal("text/csv", values.Content.Headers.ContentType!.MediaType);
        var lines = (await values.Content.ReadAsStringAsync()).Split("\r\n");
        Assert.Equal(2 + report.Jobs.Count, lines.Length);
        Assert.Equal(lines[0].Split(',').Length, lines[1].Split(',').Length);
        Assert.StartsWith("register,heron,", lines[1]);
        Assert.Equal(HttpStatusCode.Unauthorized, (await bench.Anonymous().GetAsync($"/api/v1/reports/{id}/html")).StatusCode);
    }

    [Fact]
    public void What_a_report_holds_is_text_on_its_page_and_no_formula_in_a_spreadsheet()
    {
        var evil = new ReportAnswer(
            "<script>",
            ReportPeriod.Month,
            "tag <b>",
            "heron",
            "UTC",
            "2026-11-01",
            "2026-12-01",
            DateTimeOffset.UnixEpoch,
            new ReportRuns(1, new Dictionary<string, int> { ["failed"] = 1 }, 0, 1, 0, 0, 0),
            [new ReportCause("failed: <img src=x>", 1, ["<i>"])],
            new ReportFreshness(0, 0, 0, 0),
            [new ReportJob("=cmd()", "a,\"b\"\r\nc", 1, 0, 0, 1, null, null, null, 0, 0, 0)],
            [],
            new ReportAlerts(0, 0, 0, null, [])
        );
        var html = ReportPages.Html(evil);
        Assert.DoesNotMatch("<script>|<img|<i>|tag <b>", html);
        Assert.Contains("November 2026", ReportPages.Title(evil));
        Assert.Contains("'=cmd(),\"a,\"\"b\"\"\r\nc\",2026-11-01", ReportPages.Csv(evil));
    }

    [Fact]
    public async Task What_cannot_be_asked_for_is_refused_and_one_that_is_gone_from_the_charter_says_so()
    {
        await using var bench = await WeekAsync();
        using var unknown = await bench.RawAsync(HttpMethod.Post, "reports", new ReportRequest("none"));
        Assert.Equal(HttpStatusCode.NotFound, unknown.StatusCode);
        foreach (var from in new[] { "yesterday", "2026-13-01", "0001-01-01", "9999-01-01" })
        {
            using var date = await bench.RawAsync(HttpMethod.Post, "reports", new ReportRequest("week", from));
            Assert.Equal(HttpStatusCode.BadRequest, date.StatusCode);
        }
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Get, "reports/99/html")).StatusCode);
        await using (var db = await bench.KeepAsync())
        {
            db.Reports.Add(
                new KeptReport
                {
                    Name = "gone",
                    Every = ReportPeriod.Week,
                    From = "2026-11-16",
                    To = "2026-11-23",
                }
            );
            await db.SaveChangesAsync();
        }
        // Dates that cannot be read, as a row of another version might hold: that one fails and keeps no other waiting.
        await using (var db = await bench.KeepAsync())
        {
            db.Reports.Add(
                new KeptReport
                {
                    Name = "week",
                    Every = ReportPeriod.Week,
                    From = "W47",
                    To = "W48",
                }
            );
            db.Reports.Add(
                new KeptReport
                {
                    Name = "nobody",
                    Every = ReportPeriod.Month,
                    From = "2026-10-01",
                    To = "2026-11-01",
                }
            );
            await db.SaveChangesAsync();
        }
        await Assert.ThrowsAsync<InvalidOperationException>(() => bench.Services.GetRequiredService<ReportDesk>().MakeAsync(default));
        Assert.NotNull((await bench.GetAsync<Page<ReportListAnswer>>("reports?name=nobody")).Items.Single().MadeAt);
        Assert.NotNull((await bench.GetAsync<Page<ReportListAnswer>>("reports?name=week")).Items.Single().Problem);
        var row = (await bench.GetAsync<Page<ReportListAnswer>>("reports?name=gone")).Items.Single();
        Assert.Contains("no report gone any more", row.Problem);
        using var refused = await bench.RawAsync(HttpMethod.Get, $"reports/{row.Id}");
        Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
    }
}
