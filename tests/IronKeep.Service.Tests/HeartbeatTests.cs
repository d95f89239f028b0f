using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Service.Health;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace IronKeep.Service.Tests;

/// <summary>An outside address hears from the service while it is well, and nothing when it is not.</summary>
public sealed class HeartbeatTests
{
    private static async Task<(WebApplication App, List<string> Heard)> OutsideAsync(Func<int> status)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Logging.ClearProviders();
        var app = builder.Build();
        var heard = new List<string>();
        app.Run(c =>
        {
            lock (heard)
                heard.Add($"{c.Request.Method} {c.Request.Path}");
            c.Response.StatusCode = status();
            return Task.CompletedTask;
        });
        await app.StartAsync();
        return (app, heard);
    }

    /// <summary>Time passes, and the loops come round in it as they do.</summary>
    private static void Pass(Bench bench, TimeSpan time)
    {
        bench.Clock.Now += time;
        bench.Services.GetRequiredService<Telling.Teller>().Rounds.Came();
        bench.Services.GetRequiredService<Facts.FactCarrier>().Rounds.Came();
    }

    private static string Charter(Bench bench, string every = "5 minutes") =>
        $"heartbeat-file: {bench.Root}/beat\nheartbeat-every: {every}\n" + bench.Charter();

    [Fact]
    public async Task It_beats_in_its_time_while_the_loops_turn_and_is_silent_when_one_does_not()
    {
        var (app, heard) = await OutsideAsync(() => 204);
        await using var _ = app;
        await using var bench = await Bench.StartAsync();
        var heart = bench.Services.GetRequiredService<Heartbeat>();
        Assert.False(await heart.BeatAsync(default));
        await File.WriteAllTextAsync(bench.Root + "/beat", app.Urls.First() + "/secret-4711\n");
        await bench.ApplyAsync(Charter(bench));
        Assert.True(await heart.BeatAsync(default));
        Assert.False(await heart.BeatAsync(default));
        Pass(bench, TimeSpan.FromSeconds(299));
        Assert.False(await heart.BeatAsync(default));
        Pass(bench, TimeSpan.FromSeconds(1));
        Assert.True(await heart.BeatAsync(default));
        Assert.Equal(["GET /secret-4711", "GET /secret-4711"], heard);
        // A loop that fails again and again is what it is for.
        var rounds = bench.Services.GetRequiredService<Telling.Teller>().Rounds;
        for (var i = 0; i < 3; i++)
            rounds.Failed(new IOException("no room"));
        bench.Clock.Now = bench.Clock.Now.AddMinutes(10);
        Assert.False(await heart.BeatAsync(default));
        Assert.Equal(2, heard.Count);
        Pass(bench, TimeSpan.Zero);
        Assert.True(await heart.BeatAsync(default));
    }

    [Fact]
    public async Task An_address_that_does_not_answer_three_times_running_is_an_alert_that_ends_with_the_next_beat_and_names_no_secret()
    {
        var status = 503;
        var (app, heard) = await OutsideAsync(() => status);
        await using var _ = app;
        await using var bench = await Bench.StartAsync();
        await File.WriteAllTextAsync(bench.Root + "/beat", app.Urls.First() + "/secret-4711");
        await bench.ApplyAsync(Charter(bench, "1 minute"));
        var heart = bench.Services.GetRequiredService<Heartbeat>();
        for (var i = 0; i < 3; i++)
        {
            Assert.Empty(await bench.OpenAlertsAsync());
            Assert.False(await heart.BeatAsync(default));
            Pass(bench, TimeSpan.FromMinutes(1));
        }
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal((AlertClass.Untold, "the heartbeat"), (alert.Class, alert.Subject.Words));
        Assert.Contains("it answered 503", alert.Message);
        await File.WriteAllTextAsync(bench.Root + "/beat", "not an address, secret-4711");
        Assert.False(await heart.BeatAsync(default));
        status = 200;
        await File.WriteAllTextAsync(bench.Root + "/beat", app.Urls.First() + "/secret-4711");
        Pass(bench, TimeSpan.FromMinutes(1));
        Assert.True(await heart.BeatAsync(default));
        Assert.Empty(await bench.OpenAlertsAsync());
        await using var db = await bench.KeepAsync();
        Assert.DoesNotContain(db.Alerts.Select(a => a.Message + a.Remedy), m => m.Contains("4711", StringComparison.Ordinal));
        Assert.Equal(4, heard.Count);
    }
}
