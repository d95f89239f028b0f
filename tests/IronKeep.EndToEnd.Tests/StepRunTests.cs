using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// Steps around copies, here and by an agent: real programs, killed in the middle, and what was stopped is started again.
/// </summary>
public sealed class StepRunTests : IDisposable
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

    private string Trace => File.Exists(At("trace")) ? string.Join(' ', File.ReadAllLines(At("trace"))) : "";

    private async Task BeginAsync(bool onCurlew)
    {
        Directory.CreateDirectory(At("data"));
        await File.WriteAllTextAsync(At("data/register"), "birds");
        foreach (
            var (name, script) in new[]
            {
                ("stop", $"echo stop >> {At("trace")}; echo stopped > {At("data/state")}"),
                ("check", $"test -e {At("took-hold")}"),
                ("start", $"echo start:$IRONKEEP_COPIES >> {At("trace")}; rm {At("data/state")}; ! test -e {At("start-fails")}"),
                ("happy", $"echo happy >> {At("trace")}"),
                ("dump", "seq 300000; echo dumped >&2"),
            }
        )
            await File.WriteAllTextAsync(At(name + ".sh"), script + "\n");
        await File.WriteAllTextAsync(At("took-hold"), "");
        // What the machine allows is said on the machine.
        await File.WriteAllTextAsync(
            At("agent.yaml"),
            $"allows:\n  stop: {{ command: [sh, {At("stop.sh")}] }}\n  check: {{ command: [sh, {At("check.sh")}] }}\n"
                + $"  start: {{ command: [sh, {At("start.sh")}] }}\n  dump: {{ command: [sh, {At("dump.sh")}] }}\n"
        );
        File.SetUnixFileMode(At("agent.yaml"), (UnixFileMode)0b110_100_100);
        await programs.BeginAsync();
        await ApplyAsync(onCurlew, "");
        if (!onCurlew)
            return;
        agent = await programs.JoinAsync("curlew", At("agent"));
    }

    private async Task ApplyAsync(bool onCurlew, string more)
    {
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            $$"""
            charter: 1
            machines: { curlew: { site: hides } }
            stores: { cellar: { folder: {{programs.StoreFolder}} } }
            policies: { few: { keep: newest 2, at-least: 1 } }
            steps:
              stop: { command: [sh, {{At("stop.sh")}}] }
              check: { command: [sh, {{At("check.sh")}}] }
              start: { command: [sh, {{At("start.sh")}}] }
              happy: { command: [sh, {{At("happy.sh")}}] }
              dump: { command: [sh, {{At("dump.sh")}}], keeps-as: register.sql }
            jobs:
              register: { takes: {{At("data")}}, streams: dump, into: cellar, policy: few, before: stop, until: check, patience: 30 minutes,
                always-after: start{{(onCurlew ? ", on: curlew" : "")}}{{more}} }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
    }

    private async Task<JsonElement> RunAsync() =>
        JsonSerializer.Deserialize<JsonElement>((await programs.ClientAsync("job", "run", "register", "--output", "json")).Out);

    private async Task<long> BegunAsync()
    {
        var said = await programs.ClientAsync("job", "run", "register", "--no-wait", "--output", "json");
        return JsonSerializer.Deserialize<JsonElement>(said.Out).GetProperty("id").GetInt64();
    }

    private async Task<JsonElement> UntilAsync(long id, Func<JsonElement, bool> holds)
    {
        for (var i = 0; ; i++)
        {
            var said = await programs.ClientAsync("run", "show", $"{id}", "--output", "json");
            var run = JsonSerializer.Deserialize<JsonElement>(said.Out);
            if (holds(run))
                return run;
            Assert.True(i < 600, $"{run} {Trace}");
            await Task.Delay(100);
        }
    }

    private async Task TraceIsAsync(string expected)
    {
        for (var i = 0; Trace != expected; i++)
        {
            Assert.True(i < 600, $"'{Trace}' is not '{expected}'");
            await Task.Delay(100);
        }
    }

    private static bool Ended(JsonElement run) => run.GetProperty("state").GetString() == "ended";

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_run_stops_copies_and_starts_again_and_what_the_machine_does_not_list_is_not_run(bool onCurlew)
    {
        await BeginAsync(onCurlew);
        var run = await RunAsync();
        Assert.True(run.GetProperty("outcome").GetString() == "ok", $"{run}");
        Assert.Contains("down for ", run.GetProperty("sentence").GetString());
        Assert.Equal("stop start:success", Trace);
        // The copy was made in between.
        var browsed = await programs.ClientAsync("copy", "restore", "newest:register", "--to", At("back"));
        Assert.Equal(0, browsed.ExitCode);
        Assert.Equal("stopped\n", await File.ReadAllTextAsync(At("back") + At("data/state")));
        Assert.Equal("300000", File.ReadLines(At("back") + "/.streams/dump/register.sql").Last());
        Assert.Contains("dump: dumped", (await programs.ClientAsync("run", "log", $"{run.GetProperty("id")}")).Out);
        Assert.Empty(Directory.GetFiles(onCurlew ? At("agent/owed-steps") : programs.DataFolder + "/owed-steps"));

        // A moment that a step holds still is what is taken, and the folder itself goes on.
        await File.WriteAllTextAsync(
            At("stop.sh"),
            $"echo stop >> {At("trace")}; cp -a {At("data")} {At("still")}; echo later > {At("data/register")}; touch {At("data/state")}\n"
        );
        await ApplyAsync(onCurlew, $", still-at: {At("data")} at {At("still")}");
        await File.WriteAllTextAsync(At("data/register"), "at the moment");
        var still = await RunAsync();
        Assert.True(still.GetProperty("outcome").GetString() == "ok", $"{still}");
        Assert.Equal(0, (await programs.ClientAsync("copy", "restore", "newest:register", "--to", At("moment"))).ExitCode);
        Assert.Equal("at the moment", await File.ReadAllTextAsync(At("moment") + At("data/register")));
        Directory.Delete(At("still"), true);
        await ApplyAsync(onCurlew, "");

        // What failed after it is a failure, with the copy there all the same.
        await File.WriteAllTextAsync(At("start-fails"), "");
        var failed = await RunAsync();
        Assert.Equal(("failed", "hook-failed"), (failed.GetProperty("outcome").GetString(), failed.GetProperty("failure").GetString()));
        Assert.StartsWith("Step start after the copy ended with 1", failed.GetProperty("sentence").GetString());
        File.Delete(At("start-fails"));
        await ApplyAsync(onCurlew, ", after-success: happy");
        var notListed = await RunAsync();
        Assert.Equal("warned", notListed.GetProperty("outcome").GetString());
        Assert.Contains("not allowed on this machine", notListed.GetProperty("sentence").GetString());
        Assert.DoesNotContain("happy", Trace);
        File.Delete(At("agent.yaml"));
        var nothing = await RunAsync();
        Assert.Equal("hook-failed", nothing.GetProperty("failure").GetString());
        Assert.Contains("not allowed", nothing.GetProperty("sentence").GetString());
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Cancelled_or_killed_in_the_middle_what_was_stopped_is_started_again_and_it_is_said(bool onCurlew)
    {
        await BeginAsync(onCurlew);
        File.Delete(At("took-hold"));
        var cancelled = await BegunAsync();
        await TraceIsAsync("stop");
        await programs.ClientAsync("run", "cancel", $"{cancelled}");
        var run = await UntilAsync(cancelled, Ended);
        Assert.Equal("cancelled", run.GetProperty("outcome").GetString());
        await TraceIsAsync("stop start:failure");

        var killed = await BegunAsync();
        await TraceIsAsync("stop start:failure stop");
        if (onCurlew)
        {
            agent!.Kill();
            await agent.WaitForExitAsync();
            Assert.Equal("stop start:failure stop", Trace);
            agent = programs.StartAgent(At("agent"));
        }
        else
        {
            programs.Kill();
            Assert.Equal("stop start:failure stop", Trace);
            await programs.StartServiceAsync();
        }
        await TraceIsAsync("stop start:failure stop start:failure");
        run = await UntilAsync(killed, Ended);
        Assert.Equal("interrupted", run.GetProperty("failure").GetString());
        for (var i = 0; !(await programs.ClientAsync("run", "log", $"{killed}")).Out.Contains("steps after are run now"); i++)
        {
            Assert.True(i < 300);
            await Task.Delay(100);
        }
        if (!onCurlew)
            return;
        // The service is gone and comes back: the agent hears that the run is over, and starts again what it stopped.
        File.Delete(At("trace"));
        await BegunAsync();
        await TraceIsAsync("stop");
        programs.Kill();
        await programs.StartServiceAsync();
        await TraceIsAsync("stop start:failure");
        // Stopped in good order it starts again what it stopped before it ends, and the run does not wait for it.
        var stopped = await BegunAsync();
        await TraceIsAsync("stop start:failure stop");
        System.Diagnostics.Process.Start("kill", ["-TERM", $"{agent!.Id}"]).WaitForExit();
        await agent.WaitForExitAsync();
        Assert.Equal("stop start:failure stop start:failure", Trace);
        Assert.Equal("interrupted", (await UntilAsync(stopped, Ended)).GetProperty("failure").GetString());
        agent = programs.StartAgent(At("agent"));
        await File.WriteAllTextAsync(At("took-hold"), "");
        Assert.Equal("ok", (await RunAsync()).GetProperty("outcome").GetString());
        await TraceIsAsync("stop start:failure stop start:failure stop start:success");
    }
}
