using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>
/// The life of an alert and of what is told of it, at their limits. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class AlertLifeTests
{
    private static readonly Subject Cellar = Subject.OfStore("cellar");

    private static Matter Matter(string message = "it is away", long? run = null, string? affected = null) =>
        new(Cellar, AlertClass.Failed, message, "bring it back") { RunId = run, Affected = affected };

    private static async Task<IReadOnlyList<Alert>> AlertsAsync(Bench bench)
    {
        await using var db = await bench.KeepAsync();
        return await db.Alerts.AsNoTracking().OrderBy(a => a.Id).ToListAsync();
    }

    [Fact]
    public async Task One_alert_counts_up_reopens_for_an_hour_and_begins_anew_after_it()
    {
        await using var bench = await Bench.StartAsync();
        var book = bench.Services.GetRequiredService<AlertBook>();
        await book.RaiseAsync(Matter(), default);
        await book.RaiseAsync(Matter("It is still away"), default);
        var one = Assert.Single(await AlertsAsync(bench));
        Assert.Equal((2, "It is still away", AlertState.Open), (one.Count, one.Message, one.State));

        // Said of one run twice, as after a crash between two saves, it counts once.
        await book.RaiseAsync(Matter(run: 7), default);
        await book.RaiseAsync(Matter(run: 7), default);
        await book.RaiseAsync(Matter(run: 8), default);
        Assert.Equal(4, (await AlertsAsync(bench))[0].Count);

        // The jobs that share the cause are named once each.
        await book.RaiseAsync(Matter(affected: "register"), default);
        await book.RaiseAsync(Matter(affected: "tide"), default);
        await book.RaiseAsync(Matter(affected: "register"), default);
        Assert.Equal("register\ntide", (await AlertsAsync(bench))[0].Affected);

        // Seen, ended, and back at the last moment of its hour: the same one, which nobody has seen.
        Assert.True(await book.AcknowledgeAsync(one.Id, "mira", default));
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        await book.RaiseAsync(Matter(), default);
        var again = Assert.Single(await AlertsAsync(bench));
        Assert.Equal((AlertState.Open, null, null, null), (again.State, again.AcknowledgedBy, again.AcknowledgedAt, again.ClosedAt));
        Assert.Equal("", again.Affected);

        // One moment later it is another.
        await book.CloseAsync(Cellar, [AlertClass.Failed], default);
        bench.Clock.Now = bench.Clock.Now.AddHours(1).AddSeconds(1);
        await book.RaiseAsync(Matter(), default);
        var both = await AlertsAsync(bench);
        Assert.Equal([AlertState.Closed, AlertState.Open], both.Select(a => a.State));
        Assert.Equal(1, both[1].Count);

        // Only what is asked for ends, and what is said once is not counted.
        await book.CloseAsync(Cellar, [AlertClass.Missed], default);
        await book.CloseAsync(Subject.OfStore("attic"), [AlertClass.Failed], default);
        await book.RaiseAsync(Matter() with { Once = true }, default);
        Assert.Equal((AlertState.Open, 1), ((await AlertsAsync(bench))[1].State, (await AlertsAsync(bench))[1].Count));
        Assert.False(await book.CloseByAsync(both[0].Id, "mira", "it is over", default));
        Assert.True(await book.CloseByAsync(both[1].Id, "mira", "it is over", default));
        Assert.Equal(("mira", "it is over"), ((await AlertsAsync(bench))[1].ClosedBy, (await AlertsAsync(bench))[1].ClosedReason));
        Assert.False(await book.AcknowledgeAsync(both[1].Id, "mira", default));
    }

    /// <summary>A way to tell that can be made to fail, and remembers what went through it.</summary>
    private sealed class Fickle : IChannelCarrier
    {
        public bool Fails { get; set; } = true;
        public List<string> Carried { get; } = [];
        public Core.Charters.ChannelKind Kind => Core.Charters.ChannelKind.Webhook;

        public Task CarryAsync(Core.Charters.ChannelDefinition channel, Message telling, CancellationToken cancel)
        {
            if (Fails)
                throw new ChannelFailedException("it does not answer");
            lock (Carried)
                Carried.Add(telling.Subject);
            return Task.CompletedTask;
        }
    }

    private static async Task<Bench> WithAsync(Fickle fickle)
    {
        var bench = await Bench.StartAsync();
        bench.Change = b =>
        {
            foreach (var other in b.Services.Where(s => s.ServiceType == typeof(IChannelCarrier)).ToList())
                b.Services.Remove(other);
            b.Services.AddSingleton<IChannelCarrier>(fickle);
        };
        await bench.RestartAsync();
        await bench.ApplyAsync(
            bench
                .Charter()
                .Replace("stores:", "channels:\n  hook: { webhook: \"https://127.0.0.1:9/x\" }\nstores:", StringComparison.Ordinal)
        );
        return bench;
    }

    /// <summary>As where the lead changes hands while the one before is still at work: whoever is later leaves the message alone.</summary>
    [Fact]
    public async Task Two_services_that_carry_at_once_send_each_message_once()
    {
        var fickle = new Fickle { Fails = false };
        await using var bench = await WithAsync(fickle);
        var tellers = Enumerable.Range(0, 2).Select(_ => ActivatorUtilities.CreateInstance<Teller>(bench.Services)).ToList();
        string[] titles = [.. Enumerable.Range(0, 25).Select(i => $"message {i:00}")];
        foreach (var title in titles)
        {
            await using (var db = await bench.KeepAsync())
            {
                db.Messages.Add(MessageOf(bench, "hook", title));
                await db.SaveChangesAsync();
            }
            using var together = new Barrier(tellers.Count);
            await Task.WhenAll(
                tellers.Select(t =>
                    Task.Factory.StartNew(
                            () =>
                            {
                                together.SignalAndWait();
                                return t.CarryAsync("hook", default);
                            },
                            CancellationToken.None,
                            TaskCreationOptions.LongRunning,
                            TaskScheduler.Default
                        )
                        .Unwrap()
                )
            );
        }
        Assert.Equal(titles, fickle.Carried);
    }

    [Fact]
    public async Task What_waits_goes_in_order_with_growing_pauses_and_is_given_up_after_two_days()
    {
        var fickle = new Fickle();
        await using var bench = await WithAsync(fickle);
        var teller = bench.Services.GetRequiredService<Teller>();
        await using (var db = await bench.KeepAsync())
        {
            foreach (var title in (string[])["first", "second"])
                db.Messages.Add(MessageOf(bench, "hook", title));
            db.Messages.Add(MessageOf(bench, "gone", "for nobody"));
            await db.SaveChangesAsync();
        }
        async Task<Message> SeeAsync(string title, string channel = "hook")
        {
            await using var db = await bench.KeepAsync();
            return await db.Messages.AsNoTracking().SingleAsync(m => m.Subject == title && m.Channel == channel);
        }

        // A message for a channel that the charter has no more ends, says why, and goes another way.
        await teller.CarryAsync("gone", default);
        Assert.Contains(
            "taken out of the charter",
            (await SeeAsync("for nobody", "gone")) is { EndedAt: not null } gone ? gone.Problem : "it waits"
        );
        Assert.Contains("This was for channel gone", (await SeeAsync("for nobody")).Body);

        // Pauses double, to an hour at most; meanwhile nothing is tried, and nothing overtakes.
        double[] pauses = [1, 2, 4, 8, 16, 32, 60, 60];
        foreach (var (pause, tries) in pauses.Select((p, i) => (p, i + 1)))
        {
            await teller.CarryAsync("hook", default);
            await teller.CarryAsync("hook", default);
            var waits = await SeeAsync("first");
            Assert.Equal((tries, pause), (waits.Attempts, (waits.NextAt - Instant.FromDateTimeOffset(bench.Clock.Now)).TotalMinutes));
            Assert.Equal(0, (await SeeAsync("second")).Attempts);
            bench.Clock.Now = bench.Clock.Now.AddMinutes(pause);
        }
        fickle.Fails = false;
        await teller.CarryAsync("hook", default);
        Assert.Equal(["first", "second", "for nobody"], fickle.Carried);

        // Two days after it was made a message is given up; up to then it is tried.
        fickle.Fails = true;
        await using (var db = await bench.KeepAsync())
        {
            db.Messages.Add(MessageOf(bench, "hook", "third"));
            await db.SaveChangesAsync();
        }
        bench.Clock.Now = bench.Clock.Now.AddDays(2);
        await teller.CarryAsync("hook", default);
        Assert.Null((await SeeAsync("third")).EndedAt);
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        await teller.CarryAsync("hook", default);
        Assert.Equal((false, true), ((await SeeAsync("third")).Sent, (await SeeAsync("third")).EndedAt is not null));
    }

    private static Message MessageOf(Bench bench, string channel, string title) =>
        new()
        {
            Channel = channel,
            Subject = title,
            Body = "it happened",
            Type = "test",
            Data = "{}",
            MadeAt = Instant.FromDateTimeOffset(bench.Clock.Now),
            NextAt = Instant.FromDateTimeOffset(bench.Clock.Now),
        };

    [Fact]
    public void A_loop_that_fails_moves_and_one_that_hangs_does_not()
    {
        var clock = new StandingClock(new DateTimeOffset(2026, 11, 23, 9, 0, 0, TimeSpan.Zero));
        var rounds = new LoopRounds(clock);
        Assert.Equal((true, null), (rounds.Moves, rounds.Problem));
        for (var i = 1; i <= 3; i++)
        {
            clock.Now = clock.Now.AddMinutes(1);
            rounds.Failed(new InvalidOperationException("the disk is full"));
            Assert.True(rounds.Moves);
            Assert.Equal(i < 3, rounds.Problem is null);
        }
        Assert.Contains("3 times by now: the disk is full", rounds.Problem);
        rounds.Came();
        Assert.Null(rounds.Problem);
        clock.Now = clock.Now.AddMinutes(2);
        Assert.Equal((true, null), (rounds.Moves, rounds.Problem));
        clock.Now = clock.Now.AddSeconds(1);
        Assert.False(rounds.Moves);
        Assert.Contains("it last came round 121 s ago", rounds.Problem);
    }
}
