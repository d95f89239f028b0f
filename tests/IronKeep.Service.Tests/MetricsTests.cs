using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Text.Json;
using System.Text.RegularExpressions;
using IronKeep.Service.Health;
using IronKeep.Service.Upkeep;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Figures for others: read by the programs that really read them, with a token of their own. Source: docs/metrics.md.</summary>
public sealed partial class MetricsTests
{
    private const string OpenText = "application/openmetrics-text";

    private static async Task<Bench> StartAsync(string token = "a token for figures\n")
    {
        var bench = await Bench.StartAsync();
        File.WriteAllText(bench.Root + "/figures", token);
        bench.More = [$"--IronKeep:MetricsTokenFile={bench.Root}/figures"];
        await bench.RestartAsync();
        return bench;
    }

    private static async Task<HttpResponseMessage> AskAsync(Bench bench, string? token, string? accept = null)
    {
        using var nobody = bench.Anonymous();
        using var request = new HttpRequestMessage(HttpMethod.Get, "/metrics");
        if (token is not null)
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", token);
        if (accept is not null)
            request.Headers.Accept.ParseAdd(accept);
        return await nobody.SendAsync(request);
    }

    private static async Task<string> TextAsync(Bench bench, string? accept = null)
    {
        using var answer = await AskAsync(bench, "a token for figures", accept);
        Assert.Equal(HttpStatusCode.OK, answer.StatusCode);
        return await answer.Content.ReadAsStringAsync();
    }

    private static async Task<(int Code, string Said)> CheckAsync(string program, string[] arguments, string input)
    {
        using var process = Process.Start(
            new ProcessStartInfo(program, arguments)
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        var said = await process.StandardOutput.ReadToEndAsync() + await process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        return (process.ExitCode, said);
    }

    private static string Docs(string name)
    {
        var at = AppContext.BaseDirectory;
        while (!Directory.Exists(Path.Combine(at, "docs", "metrics")))
            at = Path.GetDirectoryName(at)!;
        return Path.Combine(at, "docs", "metrics", name);
    }

    [Fact]
    public async Task The_figures_are_sound_for_the_programs_that_read_them_and_say_what_happened()
    {
        await using var bench = await StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(more: "fresh-within: 30 hours"));
        await bench.BackUpAsync();
        bench.Write("a", "2");
        await bench.BackUpAsync();
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.BackUpAsync();
        await bench.Services.GetRequiredService<StoreSentry>().LookAsync(default);
        await bench.Services.GetRequiredService<Facts.FactCarrier>().CarryAsync(default);

        var text = await TextAsync(bench);
        var (code, said) = await CheckAsync("promtool", ["check", "metrics"], text);
        Assert.True(code == 0, said);
        Assert.Empty(said);
        Assert.Contains("ironkeep_runs_total{kind=\"backup\",outcome=\"ok\"} 2", text);
        Assert.Contains("ironkeep_runs_total{kind=\"backup\",outcome=\"failed\"} 1", text);
        Assert.Contains("ironkeep_run_duration_seconds_count{kind=\"backup\"} 3", text);
        Assert.Contains("ironkeep_alerts_open{class=\"failed\",severity=\"failure\"} 1", text);
        Assert.Contains("ironkeep_alerts_opened_total{class=\"failed\"} 1", text);
        Assert.Contains("ironkeep_jobs{stands=\"fresh\"} 1", text);
        Assert.Contains("ironkeep_store_up{store=\"cellar\"} 1", text);
        Assert.Contains(
            "ironkeep_newest_good_copy_timestamp_seconds{backup_job=\"register\",machine=\"heron\"} " + bench.Clock.Now.ToUnixTimeSeconds(),
            text
        );
        Assert.Contains("ironkeep_fresh_within_seconds{backup_job=\"register\",machine=\"heron\"} 108000", text);

        var open = await TextAsync(bench, OpenText);
        Assert.EndsWith("# EOF\n", open);
        const string Parse =
            "import sys; from prometheus_client.openmetrics.parser import text_string_to_metric_families as read; "
            + "print(sum(len(f.samples) for f in read(sys.stdin.read())))";
        (code, said) = await CheckAsync("/usr/bin/python3", ["-c", Parse], open);
        Assert.True(code == 0 && int.Parse(said.Trim(), System.Globalization.CultureInfo.InvariantCulture) > 20, said);

        // What is not there any more has no series; what is kept for some seconds is made anew afterwards.
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.ApplyAsync(bench.Charter().Replace("register", "other", StringComparison.Ordinal));
        Assert.Contains("backup_job=\"register\"", await TextAsync(bench));
        bench.Clock.Now = bench.Clock.Now.AddSeconds(5);
        Assert.DoesNotContain("backup_job=\"register\"", await TextAsync(bench));
    }

    [Fact]
    public async Task The_token_opens_the_figures_and_nothing_else_and_without_one_there_are_none()
    {
        await using var bench = await StartAsync();
        foreach (var wrong in new[] { null, "", "a token", "a token for figure", "a token for figures2" })
        {
            using var refused = await AskAsync(bench, wrong);
            Assert.Equal(HttpStatusCode.Unauthorized, refused.StatusCode);
            Assert.Equal("Bearer", refused.Headers.WwwAuthenticate.ToString());
            Assert.DoesNotContain("ironkeep_", await refused.Content.ReadAsStringAsync());
        }
        // Whoever is signed in needs it too, and it signs nobody in.
        Assert.Equal(HttpStatusCode.Unauthorized, (await bench.Http.GetAsync("/metrics")).StatusCode);
        using var nobody = bench.Anonymous();
        using var request = new HttpRequestMessage(HttpMethod.Get, "/api/v1/jobs");
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", "a token for figures");
        Assert.Equal(HttpStatusCode.Unauthorized, (await nobody.SendAsync(request)).StatusCode);
        // An empty file, or none, opens nothing.
        File.WriteAllText(bench.Root + "/figures", "\n");
        Assert.Equal(HttpStatusCode.Unauthorized, (await AskAsync(bench, "")).StatusCode);
        File.Delete(bench.Root + "/figures");
        Assert.Equal(HttpStatusCode.Unauthorized, (await AskAsync(bench, "a token for figures")).StatusCode);
        bench.More = [];
        await bench.RestartAsync();
        Assert.Equal(HttpStatusCode.NotFound, (await AskAsync(bench, "a token for figures")).StatusCode);
    }

    /// <summary>Rules and dashboard name figures that there are, with labels that they have.</summary>
    [Fact]
    public async Task Rules_and_dashboard_ask_for_figures_that_exist()
    {
        await using var bench = await StartAsync();
        var (code, said) = await CheckAsync("promtool", ["check", "rules", Docs("ironkeep.rules.yml")], "");
        Assert.True(code == 0, said);
        var known = Regex
            .Matches(await TextAsync(bench), "^# TYPE (\\S+)", RegexOptions.Multiline)
            .Select(m => m.Groups[1].Value)
            .ToHashSet();
        var dashboard = File.ReadAllText(Docs("dashboard.json"));
        _ = JsonDocument.Parse(dashboard);
        var asked = Figures().Matches(File.ReadAllText(Docs("ironkeep.rules.yml")) + dashboard).Select(m => m.Value).Distinct().ToList();
        Assert.True(asked.Count > 8);
        Assert.All(asked, figure => Assert.Contains(figure, known));
        var described = File.ReadAllText(Docs("../metrics.md"));
        Assert.All(known, figure => Assert.Contains($"`{figure}`", described));
    }

    [GeneratedRegex("ironkeep_[a-z_]+")]
    private static partial Regex Figures();
}
