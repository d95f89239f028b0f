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
    private string Office => Path.Combine(programs.Root, "office");
    private string Data => Path.Combine(programs.Root, "cameras");

    private async Task BeginAsync()
    {
        await programs.BeginAsync();
        Directory.CreateDirectory(Data);
        Directory.CreateDirectory(Office);
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
              office: { takes: {{Office}}, into: cellar, policy: few }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", programs.Root + "/charter.yaml", "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        agent = await programs.JoinAsync("curlew", Folder);
    }

    private async Task<JsonElement> RunAsync(string outcome, string job = "cameras")
    {
        var said = await programs.ClientAsync("job", "run", job, "--output", "json");
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
    public async Task A_copy_is_given_back_on_its_machine_and_that_of_another_only_with_a_reason()
    {
        await BeginAsync();
        await Shell(
            $"cd {Data}; mkdir -p a/b; seq 1 400000 > a/numbers; for i in $(seq 900); do echo $i > a/b/$i; done; ln -s b a/link; "
                + "ln a/numbers a/same; chmod 640 a/numbers; truncate -s 5M a/hole; head -c 20000000 /dev/urandom > film"
        );
        await RunAsync("ok");
        var target = Path.Combine(programs.Root, "given");
        var given = await programs.ClientAsync("copy", "restore", "newest:cameras", "--to", target, "--machine", "curlew");
        Assert.True(given.ExitCode == 0, given.ToString());
        Assert.Contains("on curlew", given.Out);
        Assert.Equal("", await Shell($"diff -r --no-dereference {Data} {target}{Data}; stat -c %h {target}{Data}/a/same | grep -v 2"));
        // Its limits and reports are those of a restore here: what is there stays, and is named.
        var again = JsonSerializer.Deserialize<JsonElement>(
            (
                await programs.ClientAsync(["copy", "restore", "newest:cameras", "--to", target, "--machine", "curlew", "--output", "json"])
            ).Out
        );
        Assert.Equal("failed", again.GetProperty("outcome").GetString());
        Assert.Contains("exists already", again.GetProperty("sentence").GetString());
        var log = (await programs.ClientAsync("run", "log", $"{again.GetProperty("id")}")).Out;
        // 905 entries, each once, and the first of them in the run's own sentence.
        Assert.Equal(906, log.Split('\n').Count(l => l.Contains("exists already and was left", StringComparison.Ordinal)));
        foreach (var into in (string[])[Folder, Folder + "/sent/x"])
        {
            var own = await programs.ClientAsync("copy", "restore", "newest:cameras", "--to", into, "--machine", "curlew");
            Assert.Contains("the agent's own folder", own.ToString());
        }
        Assert.True(File.Exists(Folder + "/key.pem"));

        await File.WriteAllTextAsync(Office + "/wages", "much");
        await RunAsync("ok", "office");
        string[] wages = ["copy", "restore", "newest:office", "--to", target, "--machine", "curlew"];
        var refused = await programs.ClientAsync(wages);
        Assert.Equal(3, refused.ExitCode);
        Assert.Contains("say why", refused.ToString());
        Assert.False(Directory.Exists(target + Office));
        var reasoned = await programs.ClientAsync([.. wages, "--reason", "the office moves to curlew", "--output", "json"]);
        Assert.True(reasoned.ExitCode == 0, reasoned.ToString());
        Assert.Equal("much", await File.ReadAllTextAsync(target + Office + "/wages"));
        var run = JsonSerializer.Deserialize<JsonElement>(reasoned.Out).GetProperty("id").GetInt64();
        Assert.Contains("the office moves to curlew", (await programs.ClientAsync("run", "log", $"{run}")).Out);
        var nowhere = await programs.ClientAsync(
            "copy",
            "restore",
            "newest:office",
            "--to",
            target,
            "--machine",
            "plover",
            "--reason",
            "x"
        );
        Assert.Equal(3, nowhere.ExitCode);
    }

    /// <summary>Not how fast it is, but that it is never faster: by the clock of the run, however busy the machine.</summary>
    [Fact]
    public async Task A_line_is_taken_no_more_of_than_the_charter_says_there_and_back()
    {
        await BeginAsync();
        var charter = await File.ReadAllTextAsync(programs.Root + "/charter.yaml");
        await File.WriteAllTextAsync(
            programs.Root + "/charter.yaml",
            charter.Replace(
                "{ site: hides }",
                "{ site: hides, line: [100 MB/s, 8 Mbit/s from 00:00 to 12:00, 8 Mbit/s from 12:00 to 00:00] }"
            )
        );
        var applied = await programs.ClientAsync("charter", "apply", programs.Root + "/charter.yaml", "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        await Shell($"head -c 5000000 /dev/urandom > {Data}/film");
        Assert.True(Seconds(await RunAsync("ok")) > 4);
        var given = await programs.ClientAsync([
            "copy",
            "restore",
            "newest:cameras",
            "--to",
            programs.Root + "/given",
            "--machine",
            "curlew",
            "--output",
            "json",
        ]);
        Assert.True(Seconds(JsonSerializer.Deserialize<JsonElement>(given.Out)) > 2, given.Out);
        Assert.Equal("", await Shell($"diff -r {Data} {programs.Root}/given{Data}"));

        static double Seconds(JsonElement run) =>
            (run.GetProperty("ended").GetDateTimeOffset() - run.GetProperty("began").GetDateTimeOffset()).TotalSeconds;
    }

    [Fact]
    public async Task A_restore_whose_agent_or_service_is_killed_ends_by_name_and_leaves_no_half_file()
    {
        await BeginAsync();
        await Shell($"cd {Data}; for i in $(seq 40); do head -c 6000000 /dev/urandom > film-$i; done");
        await RunAsync("ok");
        for (var round = 0; round < 2; round++)
        {
            var target = Path.Combine(programs.Root, $"given-{round}");
            var begun = JsonSerializer.Deserialize<JsonElement>(
                (
                    await programs.ClientAsync([
                        "copy",
                        "restore",
                        "newest:cameras",
                        "--to",
                        target,
                        "--machine",
                        "curlew",
                        "--no-wait",
                        "--output",
                        "json",
                    ])
                ).Out
            );
            while (!Directory.Exists(target) || Directory.GetFileSystemEntries(target).Length == 0)
                await Task.Delay(20);
            if (round == 0)
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
            var run = await EndedAsync(begun.GetProperty("id").GetInt64());
            Assert.True(
                run.GetProperty("outcome").GetString() is "ok" || run.GetProperty("failure").GetString() == "interrupted",
                $"{run}"
            );
            foreach (var file in Directory.Exists(target + Data) ? Directory.GetFiles(target + Data) : [])
                Assert.Equal("", await Shell($"cmp {file} {Data}/{Path.GetFileName(file)}"));
            // Over what came back, all of it.
            var all = await programs.ClientAsync([
                "copy",
                "restore",
                "newest:cameras",
                "--to",
                target,
                "--machine",
                "curlew",
                "--existing",
                "overwrite",
            ]);
            // Warned of the folder in which the one that was killed had worked.
            Assert.True(all.ExitCode is 0 or 1, all.ToString());
            Assert.Equal("", await Shell($"diff -r {Data} {target}{Data}"));
        }
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
            var run = await EndedAsync(begun.GetProperty("id").GetInt64());
            Assert.True(
                run.GetProperty("outcome").GetString() is "ok" or "warned" || run.GetProperty("failure").GetString() == "interrupted",
                $"{run}"
            );
        }
        await RunAsync("ok");
        await RestoresAsync();
        Assert.Equal(0, (await programs.ClientAsync("store", "check", "cellar", "--depth", "deep")).ExitCode);
    }

    private async Task<JsonElement> EndedAsync(long id)
    {
        for (var i = 0; ; i++)
        {
            var run = JsonSerializer.Deserialize<JsonElement>((await programs.ClientAsync("run", "show", $"{id}", "--output", "json")).Out);
            if (run.GetProperty("state").GetString() == "ended")
                return run;
            Assert.True(i < 600, $"{run}");
            await Task.Delay(100);
        }
    }

    private static async Task<string> Shell(string script)
    {
        using var shell = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo("bash", ["-c", script]) { RedirectStandardOutput = true }
        )!;
        return await shell.StandardOutput.ReadToEndAsync();
    }
}
