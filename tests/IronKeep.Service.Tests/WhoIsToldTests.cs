using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>Who is told of what, through the whole service. Source: docs/semantics.md, section 6 (Watching).</summary>
public sealed class WhoIsToldTests
{
    private static string Charter(Bench bench, string more) =>
        $"""
            charter: 1
            zone: UTC
            tells: crew
            channels:
              crew: {Drop(bench, "crew")}
              post: {Drop(bench, "post")}
            machines:
              knot: {"{ tags: mainland }"}
            policies:
              p: {"{ keep: newest 2 }"}
            jobs:
              counts: {"{ watched: yes, on: knot, when: daily at 10:00 }"}
              sweep: {"{ watched: yes, on: knot, when: daily at 10:10 }"}
              third: {"{ watched: yes, on: knot, when: daily at 10:20 }"}
            {more}
            """;

    private static string Drop(Bench bench, string name) =>
        $"{{ mail-to: {name}@saltmere.example, mail-from: k@saltmere.example, pickup: {bench.Root}/{name} }}";

    private static async Task<Bench> StartAsync(string more = "")
    {
        var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench, more));
        return bench;
    }

    private static Matter About(string subject, AlertClass kind = AlertClass.Failed) =>
        new(Subject.OfJob(subject, "knot"), kind, $"{subject} failed", "look at it");

    private static async Task RaiseAsync(Bench bench, Matter matter)
    {
        await bench.Services.GetRequiredService<AlertBook>().RaiseAsync(matter, default);
        await bench.Services.GetRequiredService<FactCarrier>().CarryAsync(default);
    }

    private static async Task CloseAsync(Bench bench, Matter matter)
    {
        await bench.Services.GetRequiredService<AlertBook>().CloseAsync(matter.Subject, [matter.Class], default);
        await bench.Services.GetRequiredService<FactCarrier>().CarryAsync(default);
    }

    private static async Task<List<Message>> MessagesAsync(Bench bench)
    {
        await using var db = await bench.KeepAsync();
        return await db.Messages.AsNoTracking().OrderBy(m => m.Id).ToListAsync();
    }

    private static async Task<AlertWholeAnswer> OnlyAsync(Bench bench) =>
        await bench.GetAsync<AlertWholeAnswer>($"alerts/{Assert.Single(await bench.OpenAlertsAsync()).Id}");

    private const string Watch = """
        people:
          mira: { told-by: post, mail: mira@saltmere.example }
          tobias: { told-by: post, mail: tobias@saltmere.example }
        rotas:
          watch: { members: [mira, tobias], changes: mon at 12:00, first: 2026-11-16 }
        """;

    /// <summary>The clock of these tests begins on Monday 2026-11-23 at 09:00.</summary>
    [Fact]
    public async Task Whoever_is_on_duty_is_told_at_their_own_address_and_of_the_end_too_when_it_is_anothers_turn()
    {
        await using var bench = await StartAsync(Watch + "\nroutes:\n  all: { tells: watch }");
        await RaiseAsync(bench, About("counts"));
        bench.Clock.Now = bench.Clock.Now.AddHours(4);
        await CloseAsync(bench, About("counts"));
        var told = await MessagesAsync(bench);
        Assert.Equal(
            [
                ("mira@saltmere.example", "alert-opened"),
                ("tobias@saltmere.example", "alert-closed"),
                ("mira@saltmere.example", "alert-closed"),
            ],
            told.Select(m => (m.Mail!, m.Type))
        );
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var mails = Directory.GetFiles(bench.Root + "/post", "*.eml").Order().Select(File.ReadAllText).ToList();
        Assert.Equal(3, mails.Count);
        Assert.Contains("To: mira@saltmere.example", mails[0]);
        Assert.DoesNotContain("office@saltmere.example", string.Concat(mails));

        var deeds = (await bench.GetAsync<AlertWholeAnswer>("alerts/1"))
            .Deeds.Where(d => d.Kind == AlertDeedKind.Told)
            .Select(d => d.Words);
        Assert.Equal(["opened, to mira (post)", "closed, to tobias (post) and mira (post)"], deeds);
    }

    /// <summary>A route that gathers by now keeps nobody from hearing the end of what they were told of at once.</summary>
    [Theory]
    [InlineData("11:00", "mira@saltmere.example")]
    [InlineData("20:00", "tobias@saltmere.example")]
    public async Task Who_was_told_at_once_hears_of_the_end_though_the_route_gathers_by_now(string digest, string gathers)
    {
        await using var bench = await StartAsync(Watch + "\nroutes:\n  all: { tells: watch }");
        await RaiseAsync(bench, About("counts"));
        await bench.ApplyAsync(Charter(bench, Watch + "\nroutes:\n  all: { tells: watch, digest: daily at " + digest + " }"));
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        await CloseAsync(bench, About("counts"));
        var told = await MessagesAsync(bench);
        Assert.Equal([gathers], told.Where(m => m.Gathers is not null).Select(m => m.Mail!));
        // Mira was told that it began: with the digest where that is hers, and else at once.
        Assert.Equal(
            gathers == "mira@saltmere.example" ? [] : ["mira@saltmere.example"],
            told.Where(m => m.Type == "alert-closed" && m.Gathers is null).Select(m => m.Mail!)
        );
    }

    [Fact]
    public async Task The_preview_says_what_then_happens()
    {
        await using var bench = await StartAsync(
            Watch + "\nroutes:\n  all: { jobs: counts, tells: watch, unseen-for: 30 min, then-tells: crew, digest: daily at 20:00 }"
        );
        var who = await bench.GetAsync<WhoAnswer>("telling/who?job=counts&at=2026-11-23T11:00:00Z");
        Assert.Equal("job counts on knot", who.Of);
        var failed = who.Cases.Single(c => c.Classes.Contains(AlertClass.Failed));
        // Told at eight in the evening, when it is the turn of the next.
        var to = Assert.Single(failed.To);
        Assert.Equal(("tobias", "watch", "all", "route all"), (to.Person, to.Rota, to.Route, to.GatheredWith));
        Assert.Equal(DateTimeOffset.Parse("2026-11-23T20:00:00Z", null), to.ToldAt);
        Assert.Equal("crew", Assert.Single(Assert.Single(failed.Then).To).Channel);
        Assert.Equal([Severity.BrokenPromise, Severity.Failure, Severity.Notice], who.Cases.Select(c => c.Severity));
        Assert.Equal("crew", (await bench.GetAsync<WhoAnswer>("telling/who?job=sweep")).Cases[0].To[0].Channel);

        var rotas = await bench.GetAsync<RotasAnswer>("telling/rotas?weeks=2");
        Assert.Equal(["mira", "tobias", "mira"], rotas.Rotas[0].Turns.Select(t => t.Person));
        foreach (
            var (path, status) in new[]
            {
                ("telling/who?job=none", HttpStatusCode.NotFound),
                ("telling/who?store=none", HttpStatusCode.NotFound),
                ("telling/who?job=counts&store=vault", HttpStatusCode.BadRequest),
                ("telling/who?job=counts&machine=curlew", HttpStatusCode.NotFound),
                ("telling/who?at=0001-01-01T00:00:00Z", HttpStatusCode.BadRequest),
                ("telling/rotas?weeks=0", HttpStatusCode.BadRequest),
                ("telling/rotas?from=9999-12-31T23:59:59Z", HttpStatusCode.BadRequest),
            }
        )
            Assert.Equal(status, (await bench.RawAsync(HttpMethod.Get, path)).StatusCode);
    }

    [Fact]
    public async Task A_flood_becomes_one_message_that_says_how_it_stands_when_it_goes_out()
    {
        await using var bench = await StartAsync();
        foreach (var i in Enumerable.Range(0, 45))
            await RaiseAsync(bench, About($"job-{i}"));
        await CloseAsync(bench, About("job-40"));
        var told = await MessagesAsync(bench);
        Assert.Equal(6, told.Count);
        Assert.Equal(40, told[^1].Entries.Split('\n').Length);
        // What gathers holds up nothing, and waits for its time.
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        Assert.Equal(5, Directory.GetFiles(bench.Root + "/crew").Length);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var last = (await MessagesAsync(bench))[^1];
        Assert.True(last.Sent);
        Assert.Equal("Iron Keep heron: 40 alerts since 09:00, 1 of them over", last.Subject);
        Assert.Contains("FAILED job job-5 on knot", last.Body);
        Assert.Contains("job-40 on knot (closed", last.Body);
        // Once the five minutes are over, each is told at once again.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(6);
        await RaiseAsync(bench, About("late"));
        Assert.Equal("alert-opened", (await MessagesAsync(bench))[^1].Type);
    }

    [Fact]
    public async Task Maintenance_keeps_back_and_sums_up_and_what_comes_after_it_is_told_at_once()
    {
        await using var bench = await StartAsync(
            "maintenance-windows:\n  link: { when: daily at 08:30, lasts: 2 hours, tags: mainland, note: the link is replaced }"
        );
        await RaiseAsync(bench, About("counts"));
        await RaiseAsync(bench, About("sweep"));
        await CloseAsync(bench, About("sweep"));
        // What it does not cover is told.
        await RaiseAsync(bench, new Matter(Subject.OfStore("cellar"), AlertClass.Failed, "away", "bring it back"));
        Assert.Equal(2, (await bench.OpenAlertsAsync()).Count);
        Assert.Equal(["gathered", "alert-opened"], (await MessagesAsync(bench)).Select(m => m.Type));
        bench.Clock.Now = bench.Clock.Now.AddMinutes(89);
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        Assert.Single(Directory.GetFiles(bench.Root + "/crew"));
        bench.Clock.Now = bench.Clock.Now.AddMinutes(1);
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var summary = (await MessagesAsync(bench))[0];
        Assert.Equal("Iron Keep heron: 2 alerts since 09:00, 1 of them over", summary.Subject);
        Assert.Contains("Gathered with maintenance window link.", summary.Body);
        await RaiseAsync(bench, About("third"));
        Assert.Equal("alert-opened", (await MessagesAsync(bench))[^1].Type);
        var gathered = (await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Deeds.Single(d => d.Kind == AlertDeedKind.Gathered);
        Assert.Equal("opened, told 2026-11-23 10:30Z with maintenance window link, to channel crew", gathered.Words);
    }

    [Fact]
    public async Task What_nobody_has_seen_goes_to_the_next_once_and_what_somebody_has_seen_does_not()
    {
        await using var bench = await StartAsync(
            Watch + "\nroutes:\n  all: { tells: mira, unseen-for: 30 min, then-tells: [tobias, crew] }"
        );
        var look = bench.Services.GetServices<Timetable.ILook>().OfType<EscalationLook>().Single();
        async Task LookAsync()
        {
            await using var db = await bench.KeepAsync();
            await look.LookAsync(db, default);
        }
        await RaiseAsync(bench, About("counts"));
        await RaiseAsync(bench, About("sweep"));
        await bench.SendAsync<AlertAnswer>(HttpMethod.Post, "alerts/2/acknowledge");
        bench.Clock.Now = bench.Clock.Now.AddMinutes(30).AddSeconds(-1);
        await LookAsync();
        Assert.Equal(2, (await MessagesAsync(bench)).Count);
        bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
        await LookAsync();
        await LookAsync();
        var more = (await MessagesAsync(bench))[2..];
        Assert.Equal([("post", "tobias@saltmere.example"), ("crew", null)], more.Select(m => (m.Channel, m.Mail)));
        Assert.All(more, m => Assert.Contains("nobody has seen it", m.Subject));
        Assert.Contains(
            "nobody had seen it, so route all told tobias (post) and channel crew",
            (await bench.GetAsync<AlertWholeAnswer>("alerts/1")).Deeds.Single(d => d.Kind == AlertDeedKind.Escalated).Words
        );
        // Another opening is another time.
        await CloseAsync(bench, About("counts"));
        await RaiseAsync(bench, About("counts"));
        bench.Clock.Now = bench.Clock.Now.AddMinutes(30);
        var before = (await MessagesAsync(bench)).Count;
        await LookAsync();
        Assert.Equal(before + 2, (await MessagesAsync(bench)).Count);
    }

    /// <summary>The person may be taken out of the charter with their rota's place and even their channel; nothing is lost.</summary>
    [Fact]
    public async Task A_person_who_is_taken_out_while_on_duty_is_followed_by_the_next_and_a_channel_that_is_gone_by_the_charters()
    {
        await using var bench = await StartAsync(Watch + "\nroutes:\n  all: { tells: watch }");
        await RaiseAsync(bench, About("counts"));
        var refused = await bench.RawAsync(
            HttpMethod.Put,
            "charter?confirm=true",
            new CharterText(
                Charter(bench, Watch.Replace("  mira: { told-by: post, mail: mira@saltmere.example }\n", "", StringComparison.Ordinal))
            )
        );
        Assert.Contains("there is no person 'mira'", await refused.Content.ReadAsStringAsync());
        await bench.ApplyAsync(Charter(bench, "").Replace($"  post: {Drop(bench, "post")}\n", "", StringComparison.Ordinal));
        // On a slow machine the teller's own round was quicker than the charter: then it has not been told yet.
        await using (var db = await bench.KeepAsync())
            await db
                .Messages.Where(m => m.Channel == "post" && m.Sent)
                .ExecuteUpdateAsync(s =>
                    s.SetProperty(m => m.EndedAt, (Instant?)null).SetProperty(m => m.Sent, false).SetProperty(m => m.NextAt, m => m.MadeAt)
                );
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var told = await MessagesAsync(bench);
        Assert.Equal([("post", false), ("crew", true)], told.Select(m => (m.Channel, m.Sent)));
        Assert.Contains(" through channel post, which was taken out of the charter", told[1].Body);
    }

    [Fact]
    public async Task What_several_jobs_of_a_machine_share_is_one_alert_that_ends_with_the_last_of_them()
    {
        await using var bench = await StartAsync();
        Matter Missed(string job, FailureClass? failure = null) =>
            About(job, AlertClass.Missed) with
            {
                Shared = new Shared(Subject.OfMachine("knot"), "{jobs} on knot were not heard of", "is it on?", failure),
            };
        await RaiseAsync(bench, Missed("counts"));
        Assert.Equal(SubjectKind.Job, Assert.Single(await bench.OpenAlertsAsync()).Subject.Kind);
        await RaiseAsync(bench, Missed("sweep"));
        await RaiseAsync(bench, Missed("third"));
        var whole = await OnlyAsync(bench);
        Assert.Equal((SubjectKind.Machine, "3 jobs on knot were not heard of"), (whole.Alert.Subject.Kind, whole.Alert.Message));
        Assert.Equal(["counts", "sweep", "third"], whole.Alert.Affected);
        Assert.Equal(["counts", "sweep", "third"], whole.Jobs.Select(j => j.Job).Order());
        // The first was told alone, the second as one of two, the third not again; and nobody hears that the first is closed.
        Assert.Equal(["alert-opened", "alert-opened"], (await MessagesAsync(bench)).Select(m => m.Type));

        // The same job again changes nothing; another machine or another class has nothing to do with it.
        await RaiseAsync(bench, Missed("third"));
        await RaiseAsync(
            bench,
            Missed("other") with
            {
                Subject = Subject.OfJob("other", "avocet"),
                Shared = new(Subject.OfMachine("avocet"), "", ""),
            }
        );
        await RaiseAsync(bench, About("fourth", AlertClass.Failed) with { Shared = new(Subject.OfMachine("knot"), "{jobs}", "") });
        Assert.Equal(3, (await bench.OpenAlertsAsync()).Count);
        // One that fails for another cause does not join; it stays by itself.
        await RaiseAsync(bench, Missed("fifth", FailureClass.StoreFull));
        Assert.Equal(4, (await bench.OpenAlertsAsync()).Count);
        await CloseAsync(bench, Missed("fifth"));

        await CloseAsync(bench, Missed("counts"));
        await CloseAsync(bench, Missed("third"));
        Assert.Equal(["sweep"], (await bench.OpenAlertsAsync()).Single(a => a.Subject is { Kind: SubjectKind.Machine }).Affected);
        // When what was told before is no flood any more.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(6);
        await CloseAsync(bench, Missed("sweep"));
        Assert.Equal(2, (await bench.OpenAlertsAsync()).Count);
        Assert.Equal("alert-closed", (await MessagesAsync(bench))[^1].Type);
    }

    /// <summary>A machine that is off, by the service's own clock: its three watched jobs are missed within twenty minutes.</summary>
    [Fact]
    public async Task A_machine_that_is_off_is_one_alert()
    {
        await using var bench = await StartAsync();
        await bench.TickAsync("2026-11-23T09:30:00Z");
        await bench.TickAsync("2026-11-23T10:30:00Z");
        await bench.TickAsync("2026-11-24T01:00:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((SubjectKind.Machine, AlertClass.Missed), (alert.Subject.Kind, alert.Class));
        Assert.Equal("3 jobs on knot were not heard of; the last was due 2026-11-23 10:20Z", alert.Message);
        Assert.Equal(["counts", "sweep", "third"], alert.Affected);
        Assert.Equal("Iron Keep heron: MISSED machine knot", Assert.Single(await MessagesAsync(bench)).Subject);
    }

    [Fact]
    public async Task Each_route_says_that_it_works_also_when_nothing_is_wrong()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            Charter(bench, Watch + "\nroutes:\n  all: { class: suspect, tells: watch }")
                .Replace("tells: crew", "tells: crew\nsign-of-life: daily at 12:30", StringComparison.Ordinal)
        );
        await bench.TickAsync("2026-11-23T09:00:00Z");
        await bench.TickAsync("2026-11-23T12:29:59Z");
        await RaiseAsync(bench, About("counts", AlertClass.Suspect));
        Assert.DoesNotContain(await MessagesAsync(bench), m => m.Type == "sign-of-life");
        await bench.TickAsync("2026-11-23T12:30:00Z");
        await bench.TickAsync("2026-11-23T12:31:00Z");
        var signs = (await MessagesAsync(bench)).Where(m => m.Type == "sign-of-life").OrderBy(m => m.Mail).ToList();
        Assert.Equal(
            [
                (null, "Iron Keep heron: sign of life of what no route takes, 1 alert is open"),
                ("tobias@saltmere.example", "Iron Keep heron: sign of life of route all, 1 alert is open"),
            ],
            signs.Select(m => (m.Mail, m.Subject))
        );
        Assert.Contains("SUSPECT job counts on knot (something failed)", signs[1].Body);
    }

    /// <summary>A clock that ran ahead for a while has dated what was told meanwhile; nothing of it waits for that time.</summary>
    [Fact]
    public async Task What_was_made_by_a_clock_that_ran_ahead_goes_out_when_the_clock_is_right_again()
    {
        await using var bench = await StartAsync("routes:\n  calm: { class: suspect, tells: post, digest: daily at 20:00 }");
        var right = bench.Clock.Now;
        bench.Clock.Now = right.AddYears(3);
        await RaiseAsync(bench, About("counts"));
        await RaiseAsync(bench, About("sweep", AlertClass.Suspect));
        bench.Clock.Now = right;
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        Assert.All(await MessagesAsync(bench), m => Assert.True(m.Sent));
        Assert.Single(Directory.GetFiles(bench.Root + "/crew"));
        Assert.Single(Directory.GetFiles(bench.Root + "/post"));
    }

    /// <summary>A digest that does not go through keeps its words and its two days, however often it is tried.</summary>
    [Fact]
    public async Task A_digest_that_does_not_go_through_is_given_up_after_two_days_as_any_message()
    {
        await using var bench = await StartAsync("routes:\n  calm: { class: suspect, tells: post, digest: mon at 08:00 }");
        await RaiseAsync(bench, About("sweep", AlertClass.Suspect));
        // A week later; its channel's folder cannot be written.
        File.WriteAllText(bench.Root + "/post", "");
        bench.Clock.Now = new DateTimeOffset(2026, 11, 30, 8, 0, 0, TimeSpan.Zero);
        var teller = bench.Services.GetRequiredService<Teller>();
        await teller.CarryAsync("post", default);
        var first = (await MessagesAsync(bench))[0];
        Assert.Equal((1, null, false), (first.Attempts, first.EndedAt, first.Sent));
        Assert.StartsWith("Iron Keep heron: 1 alert since ", first.Subject);
        await CloseAsync(bench, About("sweep", AlertClass.Suspect));
        for (var hours = 0; hours < 50 && (await MessagesAsync(bench))[0].EndedAt is null; hours++)
        {
            bench.Clock.Now = bench.Clock.Now.AddHours(1);
            await teller.CarryAsync("post", default);
        }
        var last = (await MessagesAsync(bench))[0];
        Assert.NotNull(last.EndedAt);
        Assert.Equal(first.Subject, last.Subject);
        Assert.Equal(first.MadeAt, last.MadeAt);
    }
}
