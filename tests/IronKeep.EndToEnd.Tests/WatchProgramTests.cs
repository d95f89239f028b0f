using System.Diagnostics;
using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>Commands that are wrapped, with the real client against the real service.</summary>
public sealed class WatchProgramTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    private async Task<string> BeginAsync()
    {
        await programs.BeginAsync();
        var charter = Path.Combine(programs.Root, "watched.yaml");
        await File.WriteAllTextAsync(
            charter,
            """
            charter: 1
            log-rules:
              sender: { failed: fatal, ok: sent, figures: "{items} readings", exit-codes: { ok: [0, 24] } }
            jobs:
              sender: { watched: yes, when: "daily at 03:00", log-rules: sender }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", charter);
        Assert.True(applied.ExitCode == 0, applied.ToString());
        var made = await programs.ClientAsync("job", "address", "sender");
        return made.Out.Split('\n')[0].Trim();
    }

    private async Task<List<JsonElement>> RunsAsync() =>
        [
            .. JsonDocument
                .Parse((await programs.ClientAsync("run", "list", "--job", "sender", "--output", "json")).Out)
                .RootElement.EnumerateArray(),
        ];

    [Fact]
    public async Task A_wrapped_command_keeps_its_output_and_its_status_and_its_report_waits_for_the_service()
    {
        var address = await BeginAsync();
        // Bytes, arguments and streams are its own.
        var said = await programs.ClientAsync(
            "watch",
            "sender",
            "--address",
            address,
            "--",
            "sh",
            "-c",
            "printf 'a\\377b\\n120 readings\\nsent\\n'; printf \"$1\" >&2; exit 24",
            "sh",
            "two words"
        );
        Assert.Equal((24, "two words"), (said.ExitCode, said.Error.Trim()));
        Assert.EndsWith("120 readings\nsent\n", said.Out);
        var run = Assert.Single(await RunsAsync());
        Assert.Equal(
            ("ok", 120, 24),
            (
                run.GetProperty("outcome").GetString(),
                run.GetProperty("figures").GetProperty("items").GetInt64(),
                run.GetProperty("exitCode").GetInt32()
            )
        );

        // An address that is none keeps nobody from his backup.
        var odd = await programs.ClientAsync("watch", "sender", "--address", "not an address", "--", "sh", "-c", "exit 3");
        Assert.True(odd.ExitCode == 3 && odd.Error.Contains("is not an address", StringComparison.Ordinal), odd.ToString());

        // The service is away: nothing of the command changes, and its reports wait in order.
        programs.Kill();
        Assert.Equal(
            0,
            (await programs.ClientAsync("watch", "sender", "--address", address, "--", "sh", "-c", "echo 5 readings; echo sent")).ExitCode
        );
        Assert.Equal(137, (await programs.ClientAsync("watch", "sender", "--address", address, "--", "sh", "-c", "kill -9 $$")).ExitCode);
        var waiting = await programs.ClientAsync("deliver");
        Assert.True(waiting.ExitCode == 4 && waiting.Error.Contains("Reports wait in", StringComparison.Ordinal), waiting.ToString());
        await programs.StartServiceAsync();
        Assert.Equal(0, (await programs.ClientAsync("watch", "sender", "--address", address, "--", "echo", "fatal")).ExitCode);
        // What was left behind may be at it at this very moment.
        while ((await programs.ClientAsync("deliver")).ExitCode != 0)
            await Task.Delay(100);
        var runs = (await RunsAsync())
            .AsEnumerable()
            .Reverse()
            .Select(r =>
                $"{r.GetProperty("outcome").GetString()} {r.GetProperty("failure").GetString()} {r.GetProperty("exitCode").GetInt32()}"
            )
            .ToList();
        Assert.Equal(["ok  24", "ok  0", "failed exit-code 137", "failed reported 0"], runs);
        Assert.DoesNotContain(address[^40..], programs.ServiceOutput);
    }

    [Fact]
    public async Task A_signal_goes_on_to_the_command_and_one_that_leaves_something_running_is_not_waited_for()
    {
        var address = await BeginAsync();
        var ready = Path.Combine(programs.Root, "ready");
        var running = programs.ClientAsync(
            "watch",
            "sender",
            "--address",
            address,
            "--",
            "sh",
            "-c",
            $"trap 'echo caught; exit 9' TERM; touch {ready}; while :; do sleep 0.05; done"
        );
        while (!File.Exists(ready))
            await Task.Delay(20);
        // The client that wraps it is the shell's parent.
        foreach (var client in Process.GetProcesses().Where(p => Wraps(p, ready)))
            Process.Start("kill", ["-TERM", $"{client.Id}"]).WaitForExit();
        var said = await running.WaitAsync(TimeSpan.FromMinutes(4));
        Assert.True(said is { ExitCode: 9 } && said.Out.Contains("caught", StringComparison.Ordinal), said.ToString());
        Assert.Equal(
            0,
            (
                await programs
                    .ClientAsync("watch", "sender", "--address", address, "--", "sh", "-c", "sleep 300 & echo sent")
                    .WaitAsync(TimeSpan.FromMinutes(4))
            ).ExitCode
        );
        Assert.Equal(["failed", "ok"], (await RunsAsync()).AsEnumerable().Reverse().Select(r => r.GetProperty("outcome").GetString()));
    }

    private static bool Wraps(Process process, string ready)
    {
        try
        {
            var line = File.ReadAllText($"/proc/{process.Id}/cmdline").Split('\0');
            return line.Contains("watch") && line.Any(w => w.Contains(ready, StringComparison.Ordinal));
        }
        catch (IOException)
        {
            return false;
        }
    }
}
