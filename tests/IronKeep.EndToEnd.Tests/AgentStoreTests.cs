using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// A store on a machine's own disk: its agent writes there by itself, and the service looks after it over the agent's line. Real programs.
/// </summary>
public sealed class AgentStoreTests : IDisposable
{
    private readonly Programs programs = new();
    private System.Diagnostics.Process? agent;

    public void Dispose()
    {
        if (agent is { HasExited: false })
            agent.Kill();
        programs.Dispose();
    }

    private string At(string name) => Path.Combine(programs.Root, name);

    private async Task AllowAsync(string yaml)
    {
        await File.WriteAllTextAsync(At("agent.yaml"), yaml);
        File.SetUnixFileMode(At("agent.yaml"), (UnixFileMode)0b110_100_100);
    }

    private async Task<Said> ApplyAsync(string more = "")
    {
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            $$"""
            charter: 1
            machines: { curlew: {} }
            stores:
              cellar: { folder: {{programs.StoreFolder}} }
              disk: { folder: {{At("disk")}}, via: agent, on: curlew, bin: 0 days }
            policies: { few: { keep: newest 1, at-least: 1 } }
            jobs:
              cameras: { on: curlew, takes: {{At("data")}}, into: disk, policy: few{{more}} }
            """
        );
        return await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm");
    }

    private async Task<JsonElement> RunAsync(string outcome)
    {
        var said = await programs.ClientAsync("job", "run", "cameras", "--output", "json");
        var run = JsonSerializer.Deserialize<JsonElement>(said.Out);
        Assert.True(run.GetProperty("outcome").GetString() == outcome, said.ToString());
        return run;
    }

    private static string Shell(string script)
    {
        using var shell = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo("bash", ["-c", script]) { RedirectStandardOutput = true }
        )!;
        var said = shell.StandardOutput.ReadToEnd();
        shell.WaitForExit();
        return said;
    }

    [Fact]
    public async Task A_store_on_another_machine_is_written_there_and_looked_after_from_here()
    {
        Directory.CreateDirectory(At("data"));
        Directory.CreateDirectory(At("disk"));
        Shell($"cd {At("data")}; seq 200000 > numbers; head -c 20000000 /dev/urandom > film; mkdir deep; echo a > deep/a");
        await AllowAsync($"stores: [{At("disk")}]\n");
        await programs.BeginAsync();
        // The machine is away when its store is declared: it is made before the first copy.
        Assert.Equal(0, (await ApplyAsync()).ExitCode);
        agent = await programs.JoinAsync("curlew", At("agent"));
        var first = await RunAsync("ok");
        Assert.True(first.GetProperty("figures").GetProperty("storedBytes").GetInt64() > 20_000_000);
        Assert.True(Directory.GetFiles(At("disk"), "*", SearchOption.AllDirectories).Length > 2);
        var same = await RunAsync("ok");
        Assert.Equal(0, same.GetProperty("figures").GetProperty("readBytes").GetInt64());
        Shell($"cd {At("data")}; echo b > deep/b; rm numbers");
        await RunAsync("ok");
        // Everything that the service does with a store it does with this one.
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "disk", "--depth", "deep")).ExitCode);
        Assert.Contains("deep", (await programs.ClientAsync("copy", "browse", "newest:cameras", At("data"))).Out);
        Assert.Equal(0, (await programs.ClientAsync("copy", "restore", "newest:cameras", "--to", At("back"))).ExitCode);
        Assert.Equal("", Shell($"diff -r {At("data")} {At("back")}{At("data")}"));
        Assert.Equal(
            0,
            (await programs.ClientAsync("copy", "restore", "newest:cameras", "--machine", "curlew", "--to", At("there"))).ExitCode
        );
        Assert.Equal("", Shell($"diff -r {At("data")} {At("there")}{At("data")}"));
        var plan = JsonSerializer.Deserialize<JsonElement>(
            (await programs.ClientAsync("prune", "plan", "cameras", "--output", "json")).Out
        );
        var pruned = await programs.ClientAsync(
            "prune",
            "apply",
            plan.GetProperty("fingerprint").GetString()!,
            "--confirm",
            "the test wants it"
        );
        Assert.True(pruned.ExitCode is 0 or 1, pruned.ToString());
        var reclaimed = await programs.ClientAsync("store", "reclaim", "disk");
        Assert.True(reclaimed.ExitCode == 0, reclaimed.ToString());
        var copies = JsonSerializer.Deserialize<JsonElement>((await programs.ClientAsync("copy", "list", "--output", "json")).Out);
        Assert.Equal(1, copies.GetArrayLength());
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "disk", "--depth", "deep")).ExitCode);

        // The agent is killed in the middle: interrupted by name, and the next one is whole.
        Shell($"head -c 300000000 /dev/urandom > {At("data/large")}");
        var begun = JsonSerializer.Deserialize<JsonElement>(
            (await programs.ClientAsync("job", "run", "cameras", "--no-wait", "--output", "json")).Out
        );
        while (!Directory.Exists(At("disk/work")) || Directory.GetFiles(At("disk/work")).Length == 0)
            await Task.Delay(20);
        agent.Kill();
        await agent.WaitForExitAsync();
        agent = programs.StartAgent(At("agent"));
        JsonElement ended;
        for (var tries = 0; ; tries++)
        {
            ended = JsonSerializer.Deserialize<JsonElement>(
                (await programs.ClientAsync("run", "show", $"{begun.GetProperty("id")}", "--output", "json")).Out
            );
            if (ended.GetProperty("state").GetString() == "ended")
                break;
            Assert.True(tries < 300, $"{ended}");
            await Task.Delay(100);
        }
        Assert.Equal("interrupted", ended.GetProperty("failure").GetString());
        // More than it usually takes, which is said.
        await RunAsync("suspect");
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "disk", "--depth", "deep")).ExitCode);

        // What the machine does not allow is neither written nor looked after there.
        await AllowAsync("stores: [/somewhere/else]\n");
        var refused = await RunAsync("failed");
        Assert.Contains("does not let a store lie in", refused.GetProperty("sentence").GetString());
    }
}
