using System.Collections.Immutable;
using System.Diagnostics;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Runs.Steps;

namespace IronKeep.Runs.Tests;

/// <summary>Steps around a run, with real commands: what they may, when they end, and what is owed when nobody ended them.</summary>
public sealed class StepsTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("steps-").FullName;
    private readonly List<string> said = [];
    private AllowedCommands allowed;

    public StepsTests() =>
        allowed = new AllowedCommands([
            .. new[] { "*" }.Select(w => new StepDefinition("any", ["bash", "-c", w])),
            new StepDefinition("as", ["bash", "-c", "*"]) { As = "nobody" },
            new StepDefinition("none", ["/no/such/program"]),
        ]);

    public void Dispose() => Directory.Delete(root, true);

    private StepRunner Runner => new(() => allowed, "/etc/ironkeep/agent.yaml");
    private OwedSteps Notes => new(root + "/owed");

    private void Log(LogSeverity severity, string text)
    {
        lock (said)
            said.Add(text);
    }

    private static RunStep Sh(string script, double limit = 30, string? user = null) =>
        new("sh", ["bash", "-c", script], user, TimeSpan.FromSeconds(limit));

    private Task<string?> RunAsync(RunStep step) => Runner.RunAsync(step, ImmutableDictionary<string, string>.Empty, Log, default);

    private string Trace =>
        File.Exists(root + "/trace") ? File.ReadAllText(root + "/trace").Replace("\n", " ", StringComparison.Ordinal).Trim() : "";

    private RunStep Mark(string word, int code = 0) => Sh($"echo {word} >> {root}/trace; exit {code}");

    private StepsAround Around(RunSteps steps) => new(new OwedRun(7, "register", DateTimeOffset.UnixEpoch, steps), Runner, Notes, Log);

    [Fact]
    public async Task A_step_runs_in_clean_surroundings_and_what_it_says_is_in_the_log()
    {
        Environment.SetEnvironmentVariable("IRONKEEP_TEST_SECRET", "hush");
        Assert.Null(await RunAsync(Sh("env; echo trouble >&2; printf 'a\\033[31mb'; cat")));
        Assert.Contains("sh: trouble", said);
        Assert.Contains("sh: a[31mb", said);
        Assert.DoesNotContain(said, s => s.Contains("hush", StringComparison.Ordinal));
        Assert.Contains("sh: LANG=C.UTF-8", said);
        Assert.Equal("ended with 3: no", await RunAsync(Sh("echo no; exit 3")));
        Assert.Equal("ended with 4", await RunAsync(Sh("exit 4")));
        Assert.StartsWith("cannot be run", await RunAsync(new RunStep("x", ["/no/such/program"], null, TimeSpan.FromSeconds(5))));
        if (Environment.UserName == "root")
        {
            said.Clear();
            Assert.Null(await RunAsync(Sh("id -un; id -Gn", user: "nobody")));
            Assert.Equal(["sh: nobody", "sh: nogroup"], said);
        }
    }

    [Fact]
    public async Task A_step_that_does_not_end_is_ended_with_all_that_it_began_and_one_that_leaves_something_behind_is_not_waited_for()
    {
        var watch = Stopwatch.StartNew();
        Assert.Contains("did not end within 1 s", await RunAsync(Sh($"sleep 300 & echo $! > {root}/child; wait", limit: 1)));
        var child = int.Parse(File.ReadAllText(root + "/child"), System.Globalization.CultureInfo.InvariantCulture);
        Assert.True(
            SpinWait.SpinUntil(
                () => !File.Exists($"/proc/{child}/cmdline") || File.ReadAllText($"/proc/{child}/cmdline").Length == 0,
                10_000
            )
        );
        Assert.Null(await RunAsync(Sh($"setsid sleep 60 & echo $! > {root}/child")));
        Process.GetProcessById(int.Parse(File.ReadAllText(root + "/child"), System.Globalization.CultureInfo.InvariantCulture)).Kill();
        // However much it says, it never waits for us, and the last of it is kept.
        Assert.Equal(
            "ended with 9: the end",
            await RunAsync(Sh("head -c 50000000 /dev/zero | tr '\\0' x; seq 20000; echo the end; exit 9"))
        );
        Assert.InRange(said.Count, 100, 250);
        Assert.True(watch.Elapsed < TimeSpan.FromMinutes(1), $"{watch.Elapsed}");
        using var cancel = new CancellationTokenSource(200);
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() =>
            Runner.RunAsync(Sh("sleep 300"), ImmutableDictionary<string, string>.Empty, Log, cancel.Token)
        );
    }

    [Fact]
    public async Task Nothing_runs_that_the_machine_does_not_list_or_that_others_may_change()
    {
        Assert.Contains(
            "list 'rm -rf x' in /etc/ironkeep/agent.yaml",
            await RunAsync(new RunStep("x", ["rm", "-rf", "x"], null, TimeSpan.FromSeconds(5)))
        );
        Assert.Contains("as root", await RunAsync(Sh("true", user: "root")));
        Assert.Contains("not allowed", await RunAsync(new RunStep("x", default, null, TimeSpan.FromSeconds(5))));
        var file = new AllowedFile(root + "/agent.yaml");
        Assert.Empty(file.Read().All);
        Assert.Empty(new AllowedFile(root + "/no/such/agent.yaml").Read().All);
        File.WriteAllText(file.Path, "allows: { a: { command: [true] } }");
        File.SetUnixFileMode(file.Path, (UnixFileMode)0b110_100_100);
        Assert.Single(file.Read().All);
        File.SetUnixFileMode(file.Path, (UnixFileMode)0b110_110_110);
        Assert.Contains("others than root may change", Assert.Throws<IOException>(() => file.Read()).Message);
        File.Delete(file.Path);
        File.WriteAllText(root + "/other.yaml", "allows: { a: { command: [true] } }");
        File.CreateSymbolicLink(file.Path, root + "/other.yaml");
        Assert.Contains("no file", Assert.Throws<IOException>(() => file.Read()).Message);
        File.Delete(file.Path);
        File.WriteAllText(file.Path, "allows: [");
        Assert.Contains("line", Assert.Throws<IOException>(() => file.Read()).Message);
        // What cannot be read allows nothing, and the step says why.
        var runner = new StepRunner(file.Read, file.Path);
        Assert.Contains(
            "not allowed on this machine",
            await runner.RunAsync(Sh("true"), ImmutableDictionary<string, string>.Empty, Log, default)
        );
    }

    [Fact]
    public async Task Those_after_run_whatever_became_of_those_before_and_what_was_down_is_measured()
    {
        var steps = new RunSteps(
            [Mark("stop")],
            Sh($"echo ask >> {root}/trace; test $(grep -c ask {root}/trace) -ge 3"),
            TimeSpan.FromSeconds(30),
            [Mark("happy", 5)],
            [Mark("sad")],
            [Mark("start", 6), Mark("tell")]
        );
        var around = Around(steps);
        await around.BeforeAsync(default);
        Assert.Equal("stop ask ask ask", Trace);
        Assert.Equal((7L, "register"), Assert.Single(Notes.All().Owed) is var owed ? (owed.Run, owed.Job) : default);
        var ending = await around.AfterAsync(true);
        Assert.Equal("stop ask ask ask happy start tell", Trace);
        Assert.Contains("step sh after the copy ended with 6", ending.Problem);
        Assert.DoesNotContain("ended with 5", ending.Problem);
        Assert.Contains("ended with 5", ending.AfterSuccessProblem);
        Assert.True(ending.Down > TimeSpan.FromSeconds(1.9));
        Assert.Empty(Notes.All().Owed);

        File.Delete(root + "/trace");
        around = Around(steps with { Before = [Mark("stop", 1), Mark("never")] });
        Assert.Equal(FailureClass.HookFailed, (await Assert.ThrowsAsync<RunFailedException>(() => around.BeforeAsync(default))).Class);
        await around.AfterAsync(false);
        Assert.Equal("stop sad start tell", Trace);

        around = Around(steps with { Before = [], Until = Sh("echo not yet; exit 1"), Patience = TimeSpan.FromSeconds(1.5) });
        Assert.Contains("not yet", (await Assert.ThrowsAsync<RunFailedException>(() => around.BeforeAsync(default))).Message);
        Assert.Null((await around.AfterAsync(false)).Down);
    }

    /// <summary>Killed before the end, at any point: the next start finds what is owed, as it was ordered.</summary>
    [Fact]
    public async Task What_is_owed_is_on_the_disk_before_the_first_step_and_survives()
    {
        var steps = new RunSteps(
            [Sh($"ls {root}/owed > {root}/seen; echo stop >> {root}/trace")],
            null,
            TimeSpan.Zero,
            [Mark("happy")],
            [Mark("sad")],
            [Mark("start")]
        );
        await Around(steps).BeforeAsync(default);
        Assert.Equal("7.json", File.ReadAllText(root + "/seen").Trim());
        // A new start, which knows nothing else.
        File.WriteAllText(root + "/owed/9.json", "{ torn");
        var (all, unreadable) = new OwedSteps(root + "/owed").All();
        Assert.Contains("9.json", Assert.Single(unreadable));
        var ending = await new StepsAround(Assert.Single(all), Runner, Notes, Log).AfterAsync(false);
        Assert.Equal("stop sad start", Trace);
        Assert.Null(ending.Problem);
        Assert.Empty(Notes.All().Owed);
        // Where it cannot be noted no step begins.
        File.Delete(root + "/owed/9.json");
        Directory.Delete(root + "/owed");
        File.WriteAllText(root + "/owed", "in the way");
        await Assert.ThrowsAsync<RunFailedException>(() => Around(steps).BeforeAsync(default));
        Assert.Equal("stop sad start", Trace);
    }
}
