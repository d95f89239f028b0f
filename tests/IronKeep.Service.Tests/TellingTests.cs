using System.Net;
using System.Text.Json;
using System.Text.RegularExpressions;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Telling;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using MimeKit;

namespace IronKeep.Service.Tests;

/// <summary>Who is told what: through a real SMTP server, a pickup folder and a webhook.</summary>
public sealed class TellingTests
{
    [Fact]
    public async Task An_alert_is_told_when_it_opens_and_closes_through_a_real_mail_server_a_folder_and_a_webhook()
    {
        await using var bench = await Bench.StartAsync();
        await using var hook = await Hook.StartAsync();
        using var smtp = await SmtpServer.StartAsync(bench.Root + "/inbox");
        File.WriteAllText(bench.Root + "/token", "hook-secret\n");
        await bench.ApplyAsync(
            Charter(
                bench,
                $$"""
                  post: { mail-to: [mira@saltmere.example, watch@saltmere.example], mail-from: keep@saltmere.example, server: "127.0.0.1:{{smtp.Port}}", security: none }
                  drop: { mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {{bench.Root}}/drop }
                  hook: { webhook: "{{hook.Url}}", token-file: {{bench.Root}}/token }
                """,
                "[post, drop, hook]"
            )
        );
        bench.Write("a", "1");
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        await bench.BackUpAsync();
        Directory.Move(bench.Source + "-away", bench.Source);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(90);
        await bench.BackUpAsync();
        await TellAsync(bench);

        // A repeat counts up and is not told again.
        string[] titles = ["Iron Keep heron: FAILED job register on heron", "Iron Keep heron: closed: job register on heron (failed)"];
        var dropped = Directory.EnumerateFiles(bench.Root + "/drop").Order().Select(f => MimeMessage.Load(f)).ToList();
        Assert.Equal(titles, dropped.Select(m => m.Subject));
        Assert.Contains($"{bench.Source} does not exist", dropped[0].TextBody);
        Assert.Contains("What to do: Check that every path", dropped[0].TextBody);
        Assert.Contains("closed 2026-11-23 10:30Z after 1 h", dropped[1].TextBody);
        Assert.Equal("auto-generated", dropped[0].Headers["Auto-Submitted"]);
        var arrived = Directory
            .EnumerateFiles(bench.Root + "/inbox/new")
            .Select(f => MimeMessage.Load(f))
            .OrderBy(m => m.Date)
            .ThenBy(m => m.Subject)
            .ToList();
        Assert.Equal(titles, arrived.Select(m => m.Subject));
        Assert.Equal("mira@saltmere.example, watch@saltmere.example", arrived[0].Headers["X-RcptTo"]);

        Assert.Equal(2, hook.Received.Count);
        var (headers, body) = hook.Received[0];
        Assert.Equal(
            ("application/cloudevents+json; charset=utf-8", "Bearer hook-secret"),
            (headers["Content-Type"], headers["Authorization"])
        );
        var happened = JsonDocument.Parse(body).RootElement;
        foreach (var name in new[] { "id", "source", "type" })
            Assert.NotEmpty(happened.GetProperty(name).GetString()!);
        Assert.Equal(
            ("1.0", "ironkeep.alert-opened", "/ironkeep/heron"),
            (
                happened.GetProperty("specversion").GetString(),
                happened.GetProperty("type").GetString(),
                happened.GetProperty("source").GetString()
            )
        );
        Assert.Equal("job register on heron", happened.GetProperty("data").GetProperty("subject").GetProperty("words").GetString());
        // The secret is nowhere but in the request.
        Assert.DoesNotContain(
            "hook-secret",
            string.Concat(dropped.Select(m => m.ToString()))
                + string.Concat(hook.Received.Select(r => r.Body))
                + await bench.Http.GetStringAsync("/api/v1/definitions")
        );
    }

    [Fact]
    public async Task A_channel_that_fails_is_an_alert_told_through_another_and_sends_what_waits_once_it_works()
    {
        await using var bench = await Bench.StartAsync();
        var port = Random.Shared.Next(20_000, 30_000);
        await bench.ApplyAsync(
            Charter(
                bench,
                $$"""
                  post: { mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, server: "127.0.0.1:{{port}}", security: none }
                  drop: { mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {{bench.Root}}/drop }
                """,
                "post"
            )
        );
        Directory.Delete(bench.Source);
        await bench.BackUpAsync();
        await TellAsync(bench);
        var untold = (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "untold");
        Assert.Equal("channel post", untold.Subject.Words);
        Assert.Contains($"127.0.0.1:{port}", untold.Message);
        var told = Assert.Single(Directory.EnumerateFiles(bench.Root + "/drop").Select(f => MimeMessage.Load(f)));
        Assert.Contains("UNTOLD channel post", told.Subject);
        Assert.Equal(1, (await bench.GetAsync<List<ChannelAnswer>>("channels")).Single(c => c.Name == "post").Waiting);
        // Pauses grow; once the server is there, everything goes out in order.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1).AddSeconds(1);
        await TellAsync(bench);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        await TellAsync(bench);
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
            Assert.Equal(2, (await db.Messages.SingleAsync(m => m.Channel == "post")).Attempts);
        using var smtp = await SmtpServer.StartAsync(bench.Root + "/inbox", port);
        Assert.True((await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/post/test")).Sent);
        Assert.Equal(2, Directory.EnumerateFiles(bench.Root + "/inbox/new").Count());
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "untold");
        using var missing = await bench.RawAsync(HttpMethod.Post, "channels/none/test");
        Assert.Equal(HttpStatusCode.NotFound, missing.StatusCode);
    }

    [Fact]
    public async Task The_duty_mail_comes_each_day_even_when_all_is_well_and_a_job_that_asks_is_told_of_always()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            Charter(
                bench,
                $"  drop: {{ mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {bench.Root}/drop }}",
                "drop",
                "duty-mail: daily at 10:00",
                "tell-when: always"
            )
        );
        await bench.TickAsync("2026-11-23T09:30:00Z");
        await bench.BackUpAsync();
        await bench.TickAsync("2026-11-23T10:00:00Z");
        await bench.TickAsync("2026-11-23T10:00:01Z");
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T10:00:02Z");
        // Off over two mails: one comes, late.
        await bench.TickAsync("2026-11-25T12:00:00Z");
        await TellAsync(bench);
        var mails = Directory.EnumerateFiles(bench.Root + "/drop").Order().Select(f => MimeMessage.Load(f)).ToList();
        Assert.Equal(
            [
                "Iron Keep heron: ok job register on heron",
                "Iron Keep heron: duty: all is well",
                "Iron Keep heron: MISSED job register on heron",
                "Iron Keep heron: duty: 1 matter needs somebody",
            ],
            mails.Select(m => m.Subject)
        );
        Assert.Contains("Nothing needs anybody.", mails[1].TextBody);
        Assert.Contains("register", mails[1].TextBody);
        Assert.Matches(@"MISSED  job register on heron, something failed, \d times? since 2026-11-2\d \d\d:\d\d", mails[3].TextBody!);
        // What the text says, the HTML says.
        static HashSet<string> Said(string text) => [.. Regex.Matches(text.ToLowerInvariant(), @"[\w-]+(:\d+)?").Select(m => m.Value)];
        Assert.Empty(Said(mails[3].TextBody!).Except(Said(WebUtility.HtmlDecode(Regex.Replace(mails[3].HtmlBody!, "<[^>]+>", "\n")))));
        Assert.Contains("<table>", mails[3].HtmlBody);
    }

    [Fact]
    public async Task What_follows_from_a_fact_is_told_when_it_is_written_down_and_not_with_the_next_look()
    {
        await using var bench = await Bench.StartAsync(ticking: true);
        bench.Services.GetRequiredService<Teller>().LookEvery = TimeSpan.FromDays(1);
        await bench.ApplyAsync(
            Charter(
                bench,
                $"  drop: {{ mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {bench.Root}/drop }}",
                "drop"
            )
        );
        // The look that had begun before is over, and the next is a day away.
        await Task.Delay(TimeSpan.FromSeconds(3));
        Directory.Delete(bench.Source);
        await bench.BackUpAsync();
        for (var i = 0; !Directory.Exists(bench.Root + "/drop") || !Directory.EnumerateFiles(bench.Root + "/drop").Any(); i++)
        {
            Assert.True(i < 1200, "nothing was told");
            await Task.Delay(50);
        }
    }

    [Fact]
    public async Task A_duty_mail_names_the_worst_counts_the_rest_and_takes_nothing_for_markup()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        await bench.TickAsync("2026-11-25T12:00:00Z");
        var duty = await bench.GetAsync<DutyAnswer>("duty");
        var one = Assert.Single(duty.Alerts) with { Message = "Cannot read <script>alert(1)</script> & more" };
        duty = duty with { Alerts = [.. Enumerable.Repeat(one, 43)] };
        foreach (var page in new[] { DutyPages.Text(duty), DutyPages.Html(duty) })
        {
            Assert.Equal(40, Regex.Count(page, "Cannot read"));
            Assert.Contains("3 more are open", WebUtility.HtmlDecode(page));
        }
        Assert.DoesNotContain("<script>", DutyPages.Html(duty));
        Assert.Contains("&lt;script&gt;alert(1)&lt;/script&gt; &amp; more", DutyPages.Html(duty));
    }

    [Fact]
    public async Task What_nobody_has_seen_for_a_day_is_told_again_and_what_somebody_has_is_not()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            Charter(
                bench,
                $"  drop: {{ mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {bench.Root}/drop }}",
                "drop",
                when: ""
            )
        );
        Directory.Delete(bench.Source);
        await bench.BackUpAsync();
        await bench.TickAsync("2026-11-23T20:00:00Z");
        await bench.TickAsync("2026-11-24T09:01:01Z");
        await bench.TickAsync("2026-11-24T12:00:00Z");
        await TellAsync(bench);
        Assert.Equal(
            ["FAILED", "still open: FAILED"],
            Directory
                .EnumerateFiles(bench.Root + "/drop")
                .Order()
                .Select(f =>
                    MimeMessage
                        .Load(f)
                        .Subject!.Replace("Iron Keep heron: ", "", StringComparison.Ordinal)
                        .Replace(" job register on heron", "", StringComparison.Ordinal)
                )
        );
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, $"alerts/{(await bench.OpenAlertsAsync())[0].Id}/acknowledge");
        await bench.TickAsync("2026-11-26T12:00:00Z");
        await TellAsync(bench);
        Assert.Equal(2, Directory.EnumerateFiles(bench.Root + "/drop").Count());
    }

    private static string Charter(
        Bench bench,
        string channels,
        string tells,
        string top = "",
        string more = "",
        string when = "when: daily at 23:00"
    ) =>
        $"""
            charter: 1
            zone: Europe/London
            tells: {tells}
            {top}
            channels:
            {channels}
            stores:
              cellar: {"{"} folder: {bench.StoreFolder} {"}"}
            policies:
              few: {"{"} keep: newest 2 {"}"}
            jobs:
              register:
                takes: {bench.Source}
                into: cellar
                policy: few
                {when}
                {more}
            """;

    private static Task TellAsync(Bench bench) => bench.Services.GetRequiredService<Teller>().CarryAsync(default);

    /// <summary>An address that takes what is posted to it.</summary>
    private sealed class Hook(WebApplication app) : IAsyncDisposable
    {
        public List<(Dictionary<string, string> Headers, string Body)> Received { get; } = [];
        public string Url => app.Urls.First() + "/keep";

        public static async Task<Hook> StartAsync()
        {
            var builder = WebApplication.CreateSlimBuilder();
            builder.WebHost.UseUrls("http://127.0.0.1:0");
            builder.Logging.ClearProviders();
            var hook = new Hook(builder.Build());
            await hook.BeginAsync();
            return hook;
        }

        private async Task BeginAsync()
        {
            app.MapPost("/keep", async (HttpRequest request) =>
            {
                using var reader = new StreamReader(request.Body);
                Received.Add((request.Headers.ToDictionary(h => h.Key, h => h.Value.ToString()), await reader.ReadToEndAsync()));
                return Results.NoContent();
            });
            await app.StartAsync();
        }

        public async ValueTask DisposeAsync() => await app.DisposeAsync();
    }
}
