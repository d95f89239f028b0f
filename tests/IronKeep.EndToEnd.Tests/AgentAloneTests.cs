using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// A machine whose service is away carries its jobs into its own store on time, and says so when it is back: real programs, the service
/// killed, the agent killed in the middle.
/// </summary>
public sealed class AgentAloneTests : IDisposable
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

    private async Task<JsonElement> JsonAsync(params string[] words) =>
        JsonSerializer.Deserialize<JsonElement>((await programs.ClientAsync([.. words, "--output", "json"])).Out);

    private string[] Journal => Directory.Exists(At("agent/journal")) ? Directory.GetFiles(At("agent/journal"), "*.json") : [];

    private static async Task UntilAsync(Func<Task<bool>> holds, string what)
    {
        for (var tries = 0; !await holds(); tries++)
        {
            Assert.True(tries < 1500, what);
            await Task.Delay(100);
        }
    }

    private bool HasEnded(int count) =>
        Journal.Count(f =>
            JsonSerializer.Deserialize<JsonElement>(File.ReadAllText(f)).GetProperty("ended").ValueKind != JsonValueKind.Null
        ) >= count;

    [Fact]
    public async Task Jobs_into_a_machines_own_store_go_on_without_the_service_and_are_matched_when_it_is_back()
    {
        Directory.CreateDirectory(At("data"));
        Directory.CreateDirectory(At("disk"));
        await File.WriteAllTextAsync(At("data/a"), "birds");
        await File.WriteAllTextAsync(At("note.sh"), $"echo $1 >> {At("trace")}\n");
        await File.WriteAllTextAsync(
            At("agent.yaml"),
            $"stores: [{At("disk")}]\nallows: {{ note: {{ command: [sh, {At("note.sh")}, '*'] }} }}\n"
        );
        File.SetUnixFileMode(At("agent.yaml"), (UnixFileMode)0b110_100_100);
        await programs.BeginAsync();
        agent = await programs.JoinAsync("curlew", At("agent"), "--alone-after", "0 minutes");
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            $$"""
            charter: 1
            zone: UTC
            machines: { curlew: {} }
            stores:
              disk: { folder: {{At("disk")}}, via: agent, on: curlew }
            policies: { few: { keep: newest 50 } }
            steps:
              stop: { command: [sh, {{At("note.sh")}}, stop] }
              start: { command: [sh, {{At("note.sh")}}, start] }
            jobs:
              cameras: { on: curlew, takes: {{At(
                "data"
            )}}, into: disk, policy: few, when: every 1 minutes, before: stop, always-after: start }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        await programs.ClientAsync("job", "run", "cameras");
        await UntilAsync(
            () =>
                Task.FromResult(
                    File.Exists(At("agent/standing-orders.json"))
                        && File.ReadAllText(At("agent/standing-orders.json")).Contains("cameras", StringComparison.Ordinal)
                ),
            "the agent does not know what it is to do on its own"
        );
        programs.Kill();
        await UntilAsync(() => Task.FromResult(HasEnded(1)), "nothing was done without the service");
        // Killed in the middle of the next: that is said too, and what it stopped is started.
        await File.WriteAllTextAsync(At("note.sh"), $"echo $1 >> {At("trace")}; test $1 = start || sleep 20\n");
        await UntilAsync(() => Task.FromResult(Journal.Length > 1), "the next was not begun");
        await UntilAsync(() => Task.FromResult(File.ReadAllLines(At("trace"))[^1] == "stop"), "its step was not begun");
        agent.Kill();
        await agent.WaitForExitAsync();
        await File.WriteAllTextAsync(At("note.sh"), $"echo $1 >> {At("trace")}\n");
        agent = programs.StartAgent(At("agent"), "--alone-after", "0 minutes");
        await UntilAsync(() => Task.FromResult(HasEnded(2) && File.ReadAllLines(At("trace"))[^1] == "start"), "what was stopped is down");
        await UntilAsync(
            async () =>
                (await programs.RunAsync("ironkeep-agent", null, "show", "--folder", At("agent"))).Out.Contains(
                    "on its own",
                    StringComparison.Ordinal
                ),
            "it does not say so"
        );
        var entries = Journal.Select(f => JsonSerializer.Deserialize<JsonElement>(File.ReadAllText(f))).ToList();
        var done = entries.First(e => e.GetProperty("outcome").GetString() == "ok");

        await programs.StartServiceAsync();
        await UntilAsync(
            () =>
                Task.FromResult(
                    Journal.All(f => !entries.Exists(e => f.Contains(e.GetProperty("id").GetString()!, StringComparison.Ordinal)))
                ),
            "the journal was not taken"
        );
        JsonElement run = default;
        await UntilAsync(
            async () =>
            {
                var runs = await JsonAsync("run", "list", "--most", "100");
                run = runs.EnumerateArray()
                    .FirstOrDefault(r =>
                        r.GetProperty("by").GetProperty("words").GetString() == "curlew on its own"
                        && r.GetProperty("due").ValueKind == JsonValueKind.String
                        && r.GetProperty("due").GetDateTimeOffset() == done.GetProperty("due").GetDateTimeOffset()
                    );
                return run.ValueKind == JsonValueKind.Object;
            },
            "its run is not known"
        );
        Assert.Equal("ok", run.GetProperty("outcome").GetString());
        var copy = done.GetProperty("copies")[0].GetProperty("copyId").GetString()!;
        await UntilAsync(
            async () => (await JsonAsync("copy", "list")).EnumerateArray().Any(c => c.GetProperty("id").GetString() == copy),
            "its copy is not known"
        );
        Assert.Equal(0, (await programs.ClientAsync("copy", "restore", copy, "--to", At("back"))).ExitCode);
        Assert.Equal("birds", await File.ReadAllTextAsync(At("back") + At("data/a")));
        // Each minute is one planned run, and none was served twice.
        var all = (await JsonAsync("run", "list", "--most", "100")).EnumerateArray().ToList();
        Assert.Contains(all, r =>
            r.GetProperty("failure").GetString() == "interrupted"
            && r.GetProperty("by").GetProperty("words").GetString() == "curlew on its own"
        );
        foreach (
            var due in all.Where(r =>
                    r.GetProperty("outcome").GetString() == "ok"
                    && r.GetProperty("due").ValueKind == JsonValueKind.String
                    && r.GetProperty("by").GetProperty("words").GetString() != "catch-up"
                )
                .GroupBy(r => r.GetProperty("due").GetDateTimeOffset())
        )
            Assert.Single(due);
    }
}
