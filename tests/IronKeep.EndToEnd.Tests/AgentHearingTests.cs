using System.Diagnostics;
using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// Watched jobs on a machine with an agent: it follows their logs and passes on what wrapped commands leave, also what happened while the
/// service was away and while the agent itself was killed. Real programs.
/// </summary>
public sealed class AgentHearingTests : IDisposable
{
    private readonly Programs programs = new();
    private Process? agent;

    public void Dispose()
    {
        if (agent is { HasExited: false })
            agent.Kill();
        programs.Dispose();
    }

    private string At(string name) => Path.Combine(programs.Root, name);

    private async Task<List<JsonElement>> RunsAsync(string job) =>
        [
            .. JsonSerializer
                .Deserialize<JsonElement>((await programs.ClientAsync("run", "list", "--job", job, "--output", "json")).Out)
                .EnumerateArray(),
        ];

    private static async Task UntilAsync(Func<Task<bool>> holds, string what)
    {
        for (var tries = 0; !await holds(); tries++)
        {
            Assert.True(tries < 1500, what);
            await Task.Delay(100);
        }
    }

    private void Night(string day, string words) =>
        File.AppendAllText(At("tide.log"), $"copy started 2026-11-{day} 03:00:00\n{words}\ncopy ended 2026-11-{day} 03:05:00\n");

    private async Task<Said> WatchAsync(params string[] command)
    {
        // Nothing names the service: no sign-in of this person, no address.
        var start = new ProcessStartInfo("dotnet", [Programs.PathOf("ironkeep"), "watch", "wind", "--", .. command])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        programs.Surround(start);
        start.Environment["XDG_CONFIG_HOME"] = At("nobody");
        start.Environment["IRONKEEP_AGENT_REPORTS"] = At("agent/left-reports");
        using var process = Process.Start(start)!;
        var said = process.StandardOutput.ReadToEndAsync();
        var error = await process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        return new Said(process.ExitCode, await said, error);
    }

    [Fact]
    public async Task Logs_and_wrapped_commands_are_heard_by_the_agent_through_kills_and_rotation_each_run_once()
    {
        await programs.BeginAsync();
        agent = await programs.JoinAsync("curlew", At("agent"));
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            $$"""
            charter: 1
            zone: UTC
            machines: { curlew: {} }
            log-rules:
              tide: { begins: "copy started {time}", ends: "copy ended {time}", ok: all sent, failed: cannot send }
              wind: { failed: "gust", ok: "calm" }
            jobs:
              tide: { watched: yes, on: curlew, heard-by: log, log: {{At("tide.log")}}, log-rules: tide, when: "daily at 03:00" }
              wind: { watched: yes, on: curlew, heard-by: check-in, log-rules: wind, when: "daily at 04:00" }
            """
        );
        Night("25", "all sent");
        var applied = await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        await UntilAsync(async () => (await RunsAsync("tide")).Count == 1, "the log was not heard");

        // The rules are at hand, so a line far before the end of what it wrote decides.
        await UntilAsync(() => Task.FromResult(File.Exists(At("agent/left-reports/rules/wind.rules"))), "no rules are there");
        var watched = await WatchAsync("sh", "-c", "echo a gust came; seq 1 200000; echo calm 2> /dev/null; exit 0");
        Assert.Equal((0, ""), (watched.ExitCode, watched.Error));
        await UntilAsync(
            async () => (await RunsAsync("wind")).Any(r => r.GetProperty("state").GetString() == "ended"),
            "what the command left was not heard"
        );
        var wind = Assert.Single(await RunsAsync("wind"));
        Assert.Equal(("curlew", "ok"), (wind.GetProperty("machine").GetString(), wind.GetProperty("outcome").GetString()));

        // With the service away: two nights with a rotation between them, and the agent killed.
        programs.Kill();
        Night("26", "all sent?\ncannot send 3 readings");
        File.Move(At("tide.log"), At("tide.log.1"));
        await UntilAsync(
            () => Task.FromResult(Directory.GetFiles(At("agent/heard-reports"), "*.json").Length > 0),
            "nothing was kept for the service"
        );
        Assert.Equal(3, (await WatchAsync("sh", "-c", "exit 3")).ExitCode);
        agent.Kill();
        await agent.WaitForExitAsync();
        Night("27", "all sent");
        agent = programs.StartAgent(At("agent"));
        await UntilAsync(
            () =>
                Task.FromResult(
                    Directory.GetFiles(At("agent/heard-reports"), "*.json").Length >= 4
                        && Directory.GetFiles(At("agent/left-reports"), "*.json").Length == 0
                ),
            "the agent did not go on without the service"
        );
        await programs.StartServiceAsync();
        await UntilAsync(async () => (await RunsAsync("tide")).Count == 3 && (await RunsAsync("wind")).Count == 2, "it was not told");
        await UntilAsync(
            () => Task.FromResult(Directory.GetFiles(At("agent/heard-reports"), "*.json").Length == 0),
            "what was told is kept"
        );
        Assert.Equal(
            ["27 ok", "26 failed", "25 ok"],
            (await RunsAsync("tide"))
                .OrderByDescending(r => r.GetProperty("began").GetDateTimeOffset())
                .Select(r => $"{r.GetProperty("began").GetDateTimeOffset():dd} {r.GetProperty("outcome").GetString()}")
        );
        Assert.Contains(await RunsAsync("wind"), r => r.GetProperty("outcome").GetString() == "failed");

        // A log that is read anew tells of nothing that was heard before.
        agent.Kill();
        await agent.WaitForExitAsync();
        Directory.Delete(At("agent/log-places"), recursive: true);
        File.Delete(At("agent/heard-jobs.json"));
        agent = programs.StartAgent(At("agent"));
        Night("28", "all sent");
        await UntilAsync(async () => (await RunsAsync("tide")).Count >= 4, "the log was not followed anew");
        await Task.Delay(TimeSpan.FromSeconds(3));
        Assert.Equal(4, (await RunsAsync("tide")).Count);
    }

    [Fact]
    public async Task What_lies_in_the_folder_for_reports_and_is_no_report_of_ours_does_no_harm()
    {
        await programs.BeginAsync();
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            """
            charter: 1
            machines: { curlew: {} }
            jobs: { wind: { watched: yes, on: curlew, heard-by: check-in, when: "daily at 04:00" } }
            """
        );
        Assert.Equal(0, (await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm")).ExitCode);
        agent = await programs.JoinAsync("curlew", At("agent"));
        var left = At("agent/left-reports");
        await UntilAsync(() => Task.FromResult(Directory.Exists(left)), "there is no folder for reports");
        Assert.Equal("1733", Convert.ToString((int)File.GetUnixFileMode(left), 8));
        string Report(string job, string id, int code = 9) =>
            $$$"""{"job":"{{{job}}}","request":{"state":"ended","exitCode":{{{code}}},"id":"{{{id}}}"}}""";
        await File.WriteAllTextAsync(At("secret"), Report("wind", "by-a-link"));
        File.CreateSymbolicLink(left + "/a.json", At("secret"));
        Process.Start("ln", [At("secret"), left + "/b.json"])!.WaitForExit();
        Process.Start("mkfifo", [left + "/c.json"])!.WaitForExit();
        Directory.CreateDirectory(left + "/d.json");
        await File.WriteAllTextAsync(left + "/e.json", "{\"job\": 7");
        await File.WriteAllTextAsync(left + "/f.json", Report("rain", "not-ours"));
        await File.WriteAllTextAsync(left + "/g.part", Report("wind", "half"));
        await File.WriteAllTextAsync(left + "/h.json", Report("wind", "of-another"));
        Process.Start("chown", ["nobody", left + "/h.json"])!.WaitForExit();
        await File.WriteAllTextAsync(left + "/i.json", "{}");
        File.Move(left + "/i.json", left + "/i.half");
        await File.WriteAllTextAsync(left + "/z.half", Report("wind", "good", 4));
        File.Move(left + "/z.half", left + "/z.json");
        await UntilAsync(async () => (await RunsAsync("wind")).Count > 0, "the one good report was not taken");
        await Task.Delay(TimeSpan.FromSeconds(2));
        Assert.Equal(4, Assert.Single(await RunsAsync("wind")).GetProperty("exitCode").GetInt32());
        Assert.Empty(await RunsAsync("rain"));
        Assert.Equal(
            ["d.json", "g.part", "i.half", "rules"],
            Directory.GetFileSystemEntries(left).Select(e => Path.GetFileName(e)!).Order()
        );
        Assert.Contains("by-a-link", await File.ReadAllTextAsync(At("secret")));
    }
}
