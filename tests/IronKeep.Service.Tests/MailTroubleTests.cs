using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using MimeKit;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>A real mail server that hangs, puts off, or refuses: whom it keeps waiting, and who is told of it.</summary>
public sealed class MailTroubleTests
{
    [Fact]
    public async Task A_server_that_takes_a_mail_and_then_says_nothing_has_failed_in_time()
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say("hang", "");
        var channel = new ChannelDefinition("post", ChannelKind.Smtp)
        {
            Host = "127.0.0.1",
            Port = server.Port,
            Security = MailSecurity.None,
            MailTo = ["mira@saltmere.example"],
            MailFrom = "keep@saltmere.example",
        };
        var message = new Message
        {
            Channel = "post",
            Subject = "a subject",
            Body = "a body",
            Type = "duty-report",
            Data = "{}",
            MadeAt = Instant.FromUtc(2026, 11, 23, 9, 0),
        };
        var failed = await Assert.ThrowsAsync<ChannelFailedException>(() =>
            new SmtpCarrier(TimeSpan.FromSeconds(2)).CarryAsync(channel, message, default)
        );
        Assert.Contains($"mail server 127.0.0.1:{server.Port}", failed.Message);
        server.Say("hang", null);
        await new SmtpCarrier(TimeSpan.FromSeconds(60)).CarryAsync(channel, message, default);
        Assert.Single(server.Inbox);
    }

    [Fact]
    public async Task A_server_that_puts_off_for_a_day_gets_the_mail_once_it_takes_it_and_another_way_tells_meanwhile()
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say("rcpt", "451 try again later");
        await BreakAsync(bench, server, "[mira@saltmere.example, tobias@saltmere.example]");
        for (var hours = 0; hours < 25; hours++)
        {
            bench.Clock.Now = bench.Clock.Now.AddHours(1).AddSeconds(1);
            await TellAsync(bench);
        }
        Assert.Empty(server.Inbox);
        Assert.Equal(1, (await ChannelAsync(bench)).Waiting);
        Assert.Contains("451 try again later", (await ChannelAsync(bench)).Problem);
        Assert.Contains("UNTOLD channel post", Dropped(bench).Select(m => m.Subject).First());
        server.Say("rcpt", null);
        bench.Clock.Now = bench.Clock.Now.AddHours(1).AddSeconds(1);
        await TellAsync(bench);
        Assert.Equal("Iron Keep heron: FAILED job register on heron", Assert.Single(server.Inbox).Subject);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Untold);
    }

    [Fact]
    public async Task Who_is_refused_for_good_keeps_nobody_from_being_told_and_is_named()
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say("rcpt", "550 no such mailbox here");
        server.Say("who", "tobias@saltmere.example");
        await BreakAsync(bench, server, "[mira@saltmere.example, tobias@saltmere.example]");
        Assert.Equal("mira@saltmere.example", Assert.Single(server.Inbox).Headers["X-RcptTo"]);
        var untold = (await bench.OpenAlertsAsync()).Single(a => a.Class == AlertClass.Untold);
        Assert.Contains("does not take mail for tobias@saltmere.example (no such mailbox here)", untold.Message);
        Assert.Equal(0, (await ChannelAsync(bench)).Waiting);
        // Mira has it, so it is told nobody else in her place.
        Assert.DoesNotContain(Dropped(bench), m => m.Subject!.Contains("FAILED", StringComparison.Ordinal));
        // A test that some do not get is no success, and nobody else's matter.
        var test = await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/post/test");
        Assert.Equal((false, true), (test.Sent, test.Problem?.Contains("tobias@saltmere.example", StringComparison.Ordinal)));
        Assert.Contains("tobias@saltmere.example", (await ChannelAsync(bench)).Problem);
        // Mended, the next one that goes through to all says so.
        server.Say("rcpt", null);
        Assert.True((await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/post/test")).Sent);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Untold);
    }

    [Theory]
    [InlineData("rcpt", "550 no such mailbox here", "does not take mail for mira@saltmere.example (no such mailbox here)")]
    [InlineData("data", "554 it looks like spam", "refused the message for good: it looks like spam")]
    public async Task What_is_refused_for_good_is_told_another_way_at_once_and_holds_up_no_other(string when, string answer, string says)
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say(when, answer);
        await BreakAsync(bench, server, "mira@saltmere.example");
        Assert.Empty(server.Inbox);
        var told = Dropped(bench);
        Assert.Contains(told, m =>
            m.Subject == "Iron Keep heron: FAILED job register on heron" && m.TextBody!.Contains(says, StringComparison.Ordinal)
        );
        Assert.Contains(told, m => m.Subject!.Contains("UNTOLD channel post", StringComparison.Ordinal));
        Assert.Equal(2, told.Count);
        Assert.Equal(0, (await ChannelAsync(bench)).Waiting);
        // A test is told nobody else.
        Assert.False((await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/post/test")).Sent);
        Assert.Equal(2, Dropped(bench).Count);
        // What comes next is not kept waiting by it, nor sent round and round.
        bench.Clock.Now = bench.Clock.Now.AddHours(3);
        await TellAsync(bench);
        Assert.Equal(2, Dropped(bench).Count);
    }

    [Fact]
    public async Task One_who_is_refused_stays_named_while_others_are_told_through_the_same_channel()
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say("rcpt", "550 no such mailbox here");
        server.Say("who", "tobias@saltmere.example");
        await BreakAsync(
            bench,
            server,
            "crew@saltmere.example",
            """
            people:
              mira: { told-by: post, mail: mira@saltmere.example }
              tobias: { told-by: post, mail: tobias@saltmere.example }
            routes:
              all: { tells: [tobias, mira] }
            """
        );
        Assert.Contains("mira@saltmere.example", server.Inbox.Select(m => m.Headers["X-RcptTo"]));
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Untold);
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var lost = await db.Messages.SingleAsync(m => m.Refused);
        Assert.Equal(("tobias@saltmere.example", false), (lost.Mail, lost.Sent));
        // Nobody asks that address any more: after a day what goes through is enough.
        bench.Clock.Now = bench.Clock.Now.AddHours(25);
        server.Say("rcpt", null);
        Assert.True((await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/post/test")).Sent);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Untold);
    }

    [Fact]
    public async Task Words_in_an_alert_do_not_keep_it_from_being_passed_on_and_what_was_passed_on_is_not_once_more()
    {
        await using var bench = await Bench.StartAsync();
        using var server = await SmtpServer.StartAsync(bench.Root + "/inbox");
        server.Say("data", "554 it looks like spam");
        bench.Write("This was for nobody", "1");
        await BreakAsync(bench, server, "mira@saltmere.example");
        await using var db = await bench.KeepAsync();
        var lost = await db.Messages.FirstAsync(m => m.Refused);
        lost.Body = "This was for nobody, and it failed\n";
        (lost.EndedAt, lost.Refused, lost.Attempts, lost.NextAt) = (null, false, 0, lost.MadeAt);
        var before = await db.Messages.CountAsync(m => m.PassedOn);
        await db.SaveChangesAsync();
        await TellAsync(bench);
        Assert.Equal(before + 1, await db.Messages.CountAsync(m => m.PassedOn));
        // Put where it is refused again, a copy goes nowhere else.
        await db
            .Messages.Where(m => m.PassedOn)
            .ExecuteUpdateAsync(u =>
                u.SetProperty(m => m.Channel, "post")
                    .SetProperty(m => m.EndedAt, (Instant?)null)
                    .SetProperty(m => m.Sent, false)
                    .SetProperty(m => m.NextAt, m => m.MadeAt)
            );
        await TellAsync(bench);
        Assert.Equal(before + 1, await db.Messages.CountAsync(m => m.PassedOn));
    }

    private static async Task BreakAsync(Bench bench, SmtpServer server, string to, string more = "")
    {
        await bench.ApplyAsync(
            $$"""
            charter: 1
            zone: UTC
            tells: post
            channels:
              post: { mail-to: {{to}}, mail-from: keep@saltmere.example, server: "127.0.0.1:{{server.Port}}", security: none }
              drop: { mail-to: watch@saltmere.example, mail-from: keep@saltmere.example, pickup: {{bench.Root}}/drop }
            {{more}}
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
            policies:
              few: { keep: newest 2 }
            jobs:
              register: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 23:00 }
            """
        );
        if (Directory.Exists(bench.Source))
            Directory.Delete(bench.Source, true);
        await bench.BackUpAsync();
        await TellAsync(bench);
    }

    private static Task TellAsync(Bench bench) => bench.Services.GetRequiredService<Teller>().CarryAsync(default);

    private static async Task<ChannelAnswer> ChannelAsync(Bench bench) =>
        (await bench.GetAsync<List<ChannelAnswer>>("channels")).Single(c => c.Name == "post");

    private static List<MimeMessage> Dropped(Bench bench) =>
        Directory.Exists(bench.Root + "/drop")
            ? [.. Directory.EnumerateFiles(bench.Root + "/drop").Order().Select(f => MimeMessage.Load(f))]
            : [];
}
