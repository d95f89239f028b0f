using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>Jobs that an agent carries out for the service: real programs, real TLS on loopback, and what breaks in the middle.</summary>
public sealed class AgentRunTests : IDisposable
{
    private readonly Programs programs = new();
    private System.Diagnostics.Process? agent;

    public void Dispose()
    {
        if (agent is { HasExited: false })
            agent.Kill();
        programs.Dispose();
    }

    private string Folder => programs.Root + "/agent";
    private string Data => Path.Combine(programs.Root, "cameras");

    private async Task BeginAsync()
    {
        await programs.BeginAsync();
        Directory.CreateDirectory(Data);
        await File.WriteAllTextAsync(
            programs.Root + "/charter.yaml",
            $$"""
            charter: 1
            machines:
              curlew: { site: hides }
            stores:
              cellar: { folder: {{programs.StoreFolder}}, bin: 0 days }
            policies:
              few: { keep: newest 2, at-least: 1 }
            jobs:
              cameras: { on: curlew, takes: {{Data}}, into: cellar, policy: few }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", programs.Root + "/charter.yaml", "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        var words = (await programs.ClientAsync("machine", "enrol", "curlew")).Out.Split(
            [' ', '\n'],
            StringSplitOptions.RemoveEmptyEntries
        );
        var joined = await programs.RunAsync(
            "ironkeep-agent",
            null,
            "join",
            words.Single(w => w.StartsWith("https://", StringComparison.Ordinal)),
            "--code",
            words.Single(w => w.StartsWith("join.", StringComparison.Ordinal)),
            "--folder",
            Folder
        );
        Assert.True(joined.ExitCode == 0, joined.ToString());
        agent = programs.StartAgent(Folder);
    }

    private async Task<JsonElement> RunAsync(string outcome)
    {
        var said = await programs.ClientAsync("job", "run", "cameras", "--output", "json");
        var run = JsonSerializer.Deserialize<JsonElement>(said.Out);
        Assert.True(run.GetProperty("outcome").GetString() == outcome, said.ToString());
        return run;
    }

    private async Task RestoresAsync()
    {
        var target = Path.Combine(programs.Root, $"back-{Guid.NewGuid():n}");
        var said = await programs.ClientAsync("copy", "restore", "newest:cameras", "--to", target);
        Assert.True(said.ExitCode is 0 or 1, said.ToString());
        Assert.Equal("", await Shell($"diff -r --no-dereference {Data} {target}{Data}"));
    }

    [Fact]
    public async Task A_job_on_another_machine_is_carried_out_there_and_only_what_is_new_travels()
    {
        await BeginAsync();
        await Shell(
            $"cd {Data}; mkdir -p a/b; seq 1 300000 > a/numbers; head -c 30000000 /dev/urandom > a/b/film; ln -s film a/b/link; "
                + "chmod 640 a/numbers"
        );
        var first = await RunAsync("ok");
        Assert.Equal("curlew", first.GetProperty("machine").GetString());
        Assert.True(first.GetProperty("figures").GetProperty("newBytes").GetInt64() > 30_000_000);
        await RestoresAsync();
        var same = await RunAsync("ok");
        Assert.InRange(same.GetProperty("figures").GetProperty("newBytes").GetInt64(), 0, 5000);
        await Shell($"cd {Data}; printf x | dd of=a/b/film bs=1 seek=15000000 conv=notrunc 2> /dev/null; rm a/numbers; echo new > a/new");
        var changed = await RunAsync("ok");
        Assert.InRange(changed.GetProperty("figures").GetProperty("newBytes").GetInt64(), 1, 2_500_000);
        await RestoresAsync();
        // A path that is not there fails by name, from the other machine's mouth.
        Directory.Move(Data, Data + "-away");
        var failed = await RunAsync("failed");
        Assert.Contains($"{Data} does not exist", failed.GetProperty("sentence").GetString());
        Directory.Move(Data + "-away", Data);
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "cellar", "--depth", "deep")).ExitCode);
    }

    [Fact]
    public async Task Whoever_is_killed_in_the_middle_the_next_run_goes_on_and_every_copy_restores()
    {
        await BeginAsync();
        var random = new Random(7);
        for (var round = 0; round < 6; round++)
        {
            await Shell($"cd {Data}; for i in $(seq 12); do head -c 6000000 /dev/urandom > film-$((RANDOM % 20)); done");
            var begun = JsonSerializer.Deserialize<JsonElement>(
                (await programs.ClientAsync("job", "run", "cameras", "--no-wait", "--output", "json")).Out
            );
            await Task.Delay(random.Next(200, 1500));
            if (round % 2 == 0)
            {
                agent!.Kill();
                await agent.WaitForExitAsync();
                agent = programs.StartAgent(Folder);
            }
            else
            {
                programs.Kill();
                await programs.StartServiceAsync();
            }
            var id = begun.GetProperty("id").GetInt64();
            for (var i = 0; ; i++)
            {
                var run = JsonSerializer.Deserialize<JsonElement>(
                    (await programs.ClientAsync("run", "show", $"{id}", "--output", "json")).Out
                );
                if (run.GetProperty("state").GetString() == "ended")
                {
                    Assert.True(
                        run.GetProperty("outcome").GetString() is "ok" or "warned"
                            || run.GetProperty("failure").GetString() == "interrupted",
                        $"{run}"
                    );
                    break;
                }
                Assert.True(i < 600, $"{run}");
                await Task.Delay(100);
            }
        }
        await RunAsync("ok");
        await RestoresAsync();
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "cellar", "--depth", "deep")).ExitCode);
    }

    private static async Task<string> Shell(string script)
    {
        using var shell = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo("bash", ["-c", script]) { RedirectStandardOutput = true }
        )!;
        return await shell.StandardOutput.ReadToEndAsync();
    }
}
