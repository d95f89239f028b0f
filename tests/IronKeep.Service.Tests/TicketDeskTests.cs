using System.Net;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Telling;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace IronKeep.Service.Tests;

/// <summary>Alerts as tickets of an outside desk over HTTP, and what a desk that is down, forgetful or hostile does to them.</summary>
public sealed class TicketDeskTests
{
    [Fact]
    public async Task An_alert_is_opened_updated_and_closed_in_the_desk_and_linked_by_its_reference()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(bench, desk);
        var opened = Assert.Single(desk.Asked);
        Assert.Equal(("POST /api/tickets", "the key\n".Trim()), (opened.What, opened.Headers["X-Desk-Key"]));
        var body = JsonDocument.Parse(opened.Body).RootElement;
        Assert.Equal("Iron Keep heron: FAILED job register on heron", body.GetProperty("title").GetString());
        Assert.Equal(("broken-promise", "1", "register"), (Text(body, "severity"), Text(body, "run"), Text(body, "job")));
        Assert.Contains($"{bench.Source} does not exist", Text(body, "text"));
        Assert.False(opened.Headers.ContainsKey("Authorization"));

        var whole = await bench.GetAsync<AlertWholeAnswer>("alerts/1");
        var ticket = Assert.Single(whole.Tickets);
        Assert.Equal(
            ("office", "T 1/a", "https://desk.saltmere.example/show/T%201%2Fa", null),
            (ticket.Channel, ticket.Reference, ticket.Page, ticket.ClosedAt)
        );
        Assert.Equal("opened ticket T 1/a in desk office", whole.Deeds.Single(d => d.Kind == AlertDeedKind.Ticket).Words);

        // Told again because nobody saw it: the same ticket is updated.
        var factory = bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>();
        await using (var db = await factory.CreateDbContextAsync())
            await bench
                .Services.GetRequiredService<TellingDesk>()
                .TellAsync(db, await db.Alerts.SingleAsync(), AlertNews.StillOpen, default);
        await TellAsync(bench);
        Assert.Equal("POST /api/tickets/T%201%2Fa/notes", desk.Asked[1].What);
        await MendAsync(bench);
        Assert.Equal("PUT /api/tickets/T%201%2Fa/state", desk.Asked[2].What);
        Assert.Contains("closed", desk.Asked[2].Body);
        Assert.NotNull(Assert.Single((await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Tickets).ClosedAt);
        Assert.Equal(3, desk.Asked.Select(a => a.Headers["Idempotency-Key"]).Distinct().Count());

        // Again within the hour: the alert is the same, the ticket is another.
        await BreakAgainAsync(bench);
        Assert.Equal(4, desk.Asked.Count);
        Assert.Equal(["T 2/a", "T 1/a"], (await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Tickets.Select(t => t.Reference));
        // The key is nowhere but in the requests.
        await using (var db = await factory.CreateDbContextAsync())
            Assert.DoesNotContain(await db.Messages.ToListAsync(), m =>
                (m.Body + m.Data + m.Problem).Contains("the key", StringComparison.Ordinal)
            );
    }

    [Fact]
    public async Task A_desk_that_is_down_loses_nothing_and_opens_no_ticket_twice()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        desk.Answers.Enqueue(503);
        // It did what it was asked and could not say so any more: the same request comes again.
        desk.Answers.Enqueue(0);
        await BreakAsync(bench, desk);
        Assert.Contains((await bench.OpenAlertsAsync()), a =>
            a.Class == AlertClass.Untold && a.Message.Contains("answered 503", StringComparison.Ordinal)
        );
        for (var minutes = 0; minutes < 8; minutes++)
        {
            bench.Clock.Now = bench.Clock.Now.AddMinutes(1).AddSeconds(1);
            await TellAsync(bench);
        }
        var asked = desk
            .Asked.Where(a => a.What == "POST /api/tickets" && a.Body.Contains("job register", StringComparison.Ordinal))
            .ToList();
        Assert.Equal(3, asked.Count);
        Assert.Single(asked.Select(a => a.Headers["Idempotency-Key"]).Distinct());
        Assert.Single(desk.Tickets);
        Assert.Single((await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Tickets);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Untold);
    }

    [Fact]
    public async Task What_the_service_could_not_remember_of_a_ticket_is_asked_for_by_the_same_key()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(bench, desk);
        var factory = bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>();
        // Killed after the ticket was kept and before the message was: it is not opened again.
        await AgainAsync();
        Assert.Single(desk.Asked);
        // Killed before the ticket was kept: the same key, so the desk gives the same ticket.
        await using (var db = await factory.CreateDbContextAsync())
            await db.Tickets.ExecuteDeleteAsync();
        await AgainAsync();
        Assert.Equal(2, desk.Asked.Count);
        Assert.Equal(desk.Asked[0].Headers["Idempotency-Key"], desk.Asked[1].Headers["Idempotency-Key"]);
        Assert.Equal("T 1/a", Assert.Single((await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Tickets).Reference);

        async Task AgainAsync()
        {
            await using (var db = await factory.CreateDbContextAsync())
                await db
                    .Messages.Where(m => m.Channel == "office")
                    .ExecuteUpdateAsync(s =>
                        s.SetProperty(m => m.EndedAt, (NodaTime.Instant?)null)
                            .SetProperty(m => m.Sent, false)
                            .SetProperty(m => m.NextAt, m => m.MadeAt)
                    );
            await TellAsync(bench);
        }
    }

    [Theory]
    [InlineData("{\"ticket\": 5}", "holds no reference at /number")]
    [InlineData("{\"number\": {\"deep\": 1}}", "holds no reference at /number")]
    [InlineData("{\"number\": \"a\\nb\"}", "holds no reference at /number")]
    [InlineData("not JSON", "holds no reference at /number")]
    [InlineData("", "holds no reference at /number")]
    [InlineData("endless", "holds no reference at /number")]
    public async Task A_ticket_without_a_usable_reference_is_opened_once_and_said(string answer, string says)
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        desk.Answer = answer;
        await BreakAsync(bench, desk);
        Assert.Contains(await bench.OpenAlertsAsync(), a =>
            a.Class == AlertClass.Untold && a.Message.Contains(says, StringComparison.Ordinal)
        );
        Assert.Null(Assert.Single((await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Tickets).Reference);
        bench.Clock.Now = bench.Clock.Now.AddHours(2);
        await TellAsync(bench);
        await MendAsync(bench);
        Assert.Single(desk.Asked, a => a.Body.Contains("job register", StringComparison.Ordinal));
        Assert.Contains((await bench.GetAsync<Page<AlertAnswer>>("alerts")).Items, a =>
            a.Class == AlertClass.Untold && a.Message.Contains("close the ticket by hand", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData(404, "desk office does not have ticket T 1/a any more", false)]
    [InlineData(410, "desk office does not have ticket T 1/a any more", false)]
    [InlineData(401, "look at the channel's token and headers", true)]
    [InlineData(422, "look at the channel's requests and bodies", true)]
    [InlineData(302, "which sends elsewhere", true)]
    public async Task A_ticket_that_the_desk_threw_away_holds_up_nothing_and_another_refusal_waits(int status, string says, bool waits)
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(bench, desk);
        desk.Answers.Enqueue(status);
        await MendAsync(bench);
        var deeds = (await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Deeds;
        var untold = (await bench.OpenAlertsAsync()).Where(a => a.Class == AlertClass.Untold).Select(a => a.Message);
        Assert.Contains(says, waits ? Assert.Single(untold) : deeds.Last(d => d.Kind == AlertDeedKind.Ticket).Words);
        Assert.Equal(waits ? 1 : 0, (await bench.GetAsync<List<ChannelAnswer>>("channels")).Single(c => c.Name == "office").Waiting);
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        await TellAsync(bench);
        Assert.Equal(waits ? 2 : 1, desk.Asked.Count(a => a.What.StartsWith("PUT", StringComparison.Ordinal)));
        Assert.Equal(!waits, desk.Tickets.Single().Value);
    }

    [Fact]
    public async Task A_desk_takes_alerts_alone_each_by_itself_and_what_a_window_kept_back_comes_as_it_stands_then()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(
            bench,
            desk,
            "sign-of-life: daily at 10:00\nduty-mail: daily at 10:00",
            tells: "[office, drop]",
            more: """
            maintenance-windows:
              works: { when: daily at 08:00, lasts: 2 hours, everything: yes }
            """
        );
        Assert.Empty(desk.Asked);
        await MendAsync(bench);
        await bench.TickAsync("2026-11-23T10:30:00Z");
        await TellAsync(bench);
        // It was over before anybody needed a ticket, and neither the sign of life nor the duty mail is one.
        Assert.Empty(desk.Asked);
        var test = await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/office/test");
        Assert.True(test.Sent, test.Problem);
        Assert.Equal(["POST /api/tickets", "PUT /api/tickets/T%201%2Fa/state"], desk.Asked.Select(a => a.What));
        await BreakAgainAsync(bench);
        Assert.Equal("POST /api/tickets", desk.Asked[2].What);
    }

    [Fact]
    public async Task What_a_window_kept_back_and_is_still_there_is_a_ticket_for_each_once_it_ends()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(
            bench,
            desk,
            "",
            """
            maintenance-windows:
              works: { when: daily at 08:00, lasts: 2 hours, everything: yes }
            """
        );
        await bench.TickAsync("2026-11-23T10:00:01Z");
        await TellAsync(bench);
        Assert.Contains(
            "FAILED job register",
            Assert.Single(desk.Asked, a => a.Body.Contains("job register", StringComparison.Ordinal)).Body
        );
        await MendAsync(bench);
        Assert.Contains(desk.Asked, a => a.What.StartsWith("PUT /api/tickets/T%20", StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_is_known_when_its_window_ends_is_no_ticket()
    {
        await using var bench = await Bench.StartAsync();
        await using var desk = await Desk.StartAsync();
        await BreakAsync(bench, desk, more: "maintenance-windows:\n  works: { when: daily at 08:00, lasts: 2 hours, everything: yes }");
        await bench.SendAsync<AlertAnswer>(
            HttpMethod.Post,
            "alerts/1/known",
            new AlertKnownRequest("the disk is on its way", bench.Clock.Now.AddDays(2))
        );
        await bench.TickAsync("2026-11-23T10:00:01Z");
        await TellAsync(bench);
        Assert.DoesNotContain(desk.Asked, a => a.Body.Contains("job register", StringComparison.Ordinal));
    }

    private static string Text(JsonElement body, string name) => body.GetProperty(name).ToString();

    private static async Task BreakAsync(Bench bench, Desk desk, string top = "", string more = "", string tells = "office")
    {
        File.WriteAllText(bench.Root + "/desk.key", "the key\n");
        await bench.ApplyAsync(
            $$"""
            charter: 1
            zone: UTC
            tells: {{tells}}
            {{top}}
            channels:
              drop: { mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {{bench.Root}}/drop }
              office:
                desk: {{desk.Url}}/api
                token-file: {{bench.Root}}/desk.key
                headers: "X-Desk-Key: {secret}"
                opens: POST /tickets
                open-body: '{"title": "{title}", "text": "{text}", "severity": "{severity}", "run": "{run else none}", "job": "{job else none}"}'
                reference: /number
                updates: POST /tickets/{reference}/notes
                update-body: '{"note": "{text}"}'
                closes: PUT /tickets/{reference}/state
                close-body: '{"note": "{text}"}'
                ticket-page: https://desk.saltmere.example/show/{reference}
            {{more}}
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
            policies:
              few: { keep: newest 2 }
            jobs:
              register:
                takes: {{bench.Source}}
                into: cellar
                policy: few
                severity: broken-promise
                when: daily at 23:00
            """
        );
        bench.Write("a", "1");
        await BreakAgainAsync(bench);
    }

    private static async Task BreakAgainAsync(Bench bench)
    {
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        await TellAsync(bench);
    }

    private static async Task MendAsync(Bench bench)
    {
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.BackUpAsync();
        await TellAsync(bench);
    }

    private static Task TellAsync(Bench bench) => bench.Services.GetRequiredService<Teller>().CarryAsync(default);

    private sealed record Request(string What, Dictionary<string, string> Headers, string Body);

    /// <summary>
    /// A desk that knows a request again by its key, and answers as it is told to first: a status, or 0 for none though it was done.
    /// </summary>
    private sealed class Desk(WebApplication app) : IAsyncDisposable
    {
        public List<Request> Asked { get; } = [];
        public Queue<int> Answers { get; } = new();
        public string? Answer { get; set; }

        /// <summary>Whether each is open, by its key.</summary>
        public Dictionary<string, bool> Tickets { get; } = [];
        public string Url => app.Urls.First();

        public static async Task<Desk> StartAsync()
        {
            var builder = WebApplication.CreateSlimBuilder();
            builder.WebHost.UseUrls("http://127.0.0.1:0");
            builder.Logging.ClearProviders();
            var desk = new Desk(builder.Build());
            desk.app.Run(desk.TakeAsync);
            await desk.app.StartAsync();
            return desk;
        }

        private readonly WebApplication app = app;

        private async Task TakeAsync(HttpContext http)
        {
            using var reader = new StreamReader(http.Request.Body);
            var path = http.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpRequestFeature>()!.RawTarget;
            Asked.Add(
                new Request(
                    $"{http.Request.Method} {path}",
                    http.Request.Headers.ToDictionary(h => h.Key, h => h.Value.ToString()),
                    await reader.ReadToEndAsync()
                )
            );
            var status = Answers.TryDequeue(out var told) ? told : 200;
            if (status > 0 && status != 200)
            {
                http.Response.StatusCode = status;
                if (status == 302)
                    http.Response.Headers.Location = "/elsewhere";
                return;
            }
            var key = Asked[^1].Headers["Idempotency-Key"];
            if (http.Request.Method == "PUT")
                Tickets[Tickets.Keys.First()] = false;
            else if (path == "/api/tickets")
                Tickets.TryAdd(key, true);
            if (status == 0)
            {
                http.Abort();
                return;
            }
            if (Answer == "endless")
            {
                var piece = new byte[64 * 1024];
                Array.Fill(piece, (byte)' ');
                for (var sent = 0; sent < 100_000_000 && !http.RequestAborted.IsCancellationRequested; sent += piece.Length)
                    await http.Response.Body.WriteAsync(piece, http.RequestAborted);
                return;
            }
            await http.Response.WriteAsync(Answer ?? $"{{\"number\": \"T {Tickets.Keys.ToList().IndexOf(key) + 1}/a\"}}");
        }

        public async ValueTask DisposeAsync() => await app.DisposeAsync();
    }
}
