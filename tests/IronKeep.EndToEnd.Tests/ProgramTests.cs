using System.Diagnostics;
using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>The programs as a person meets them: exit codes, texts, and what is left after a kill.</summary>
public sealed class ProgramTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    [Fact]
    public async Task The_loop_from_a_charter_to_a_restored_tree_through_the_client()
    {
        await programs.BeginAsync();
        await Shell(
            "mkdir -p a/b; seq 1 50000 > a/b/numbers; printf x > a/one; ln -s one a/link; chmod 600 a/one; touch -d '2001-02-03 "
                + "04:05:06.7' a/one"
        );
        var first = await Ok("job", "run", "by-hand");
        Assert.Contains("OK", first.Out);
        Assert.Contains("taken    3 items", first.Out);
        await Shell("printf y > a/one");
        await Ok("job", "run", "by-hand");
        var copies = JsonSerializer.Deserialize<JsonElement>((await Ok("copy", "list", "--output", "json")).Out);
        var (newest, oldest) = (copies[0].GetProperty("id").GetString()!, copies[1].GetProperty("id").GetString()!);
        Assert.Contains("numbers", (await Ok("copy", "browse", oldest, programs.Source + "/a/b")).Out);

        await Ok("copy", "restore", oldest, "--to", programs.Root + "/all");
        await Ok("copy", "restore", newest, programs.Source + "/a/one", "--to", programs.Root + "/one");
        Assert.Equal("y", File.ReadAllText(programs.Root + "/one" + programs.Source + "/a/one"));
        Assert.Equal(
            "600 2001-02-03 04:05:06.700000000\n",
            await Shell($"stat -c '%a %y' '{programs.Root}/all{programs.Source}/a/one' | cut -c1-33")
        );
        Assert.Equal("one\n", await Shell($"readlink '{programs.Root}/all{programs.Source}/a/link'"));
        // A second time to the same place: nothing is overwritten, and it is said.
        var again = await programs.ClientAsync("copy", "restore", newest, programs.Source + "/a/one", "--to", programs.Root + "/one");
        Assert.Equal(4, again.ExitCode);
        Assert.Contains("exists already", again.Out);

        var plan = JsonSerializer.Deserialize<JsonElement>((await Ok("prune", "plan", "by-hand", "--output", "json")).Out);
        await Ok("prune", "apply", plan.GetProperty("fingerprint").GetString()!);
        Assert.Contains("1 copy left the bin", (await Ok("store", "reclaim", "cellar")).Out);
        await Ok("store", "check", "cellar");
        Assert.Equal(3, (await programs.ClientAsync("copy", "show", oldest)).ExitCode);
        Assert.Equal(0, (await programs.ClientAsync("duty")).ExitCode);

        // Every pack byte counts: one is turned, the check has findings and names the file.
        foreach (var pack in Directory.EnumerateFiles(programs.StoreFolder + "/packs", "*", SearchOption.AllDirectories))
            Flip(pack, 60);
        var check = await programs.ClientAsync("store", "check", "cellar");
        Assert.Equal(1, check.ExitCode);
        Assert.Contains(newest, check.Out);
        Assert.Equal(1, (await programs.ClientAsync("duty")).ExitCode);
        Assert.Contains("UNSOUND  store cellar", (await programs.ClientAsync("duty")).Out);
    }

    [Fact]
    public async Task A_service_killed_in_mid_run_says_interrupted_and_earlier_copies_are_whole()
    {
        await programs.BeginAsync();
        await Shell("mkdir d; head -c 3000000 /dev/urandom > d/kept");
        await Ok("job", "run", "by-hand");
        // A run that was quicker than the kill has made its copy, which is one of the earlier ones in the next round.
        var earlier = 1;
        for (var round = 0; round < 4; round++)
        {
            await Shell("for i in $(seq 40); do head -c 9000000 /dev/urandom > d/$i; done");
            var begun = await Ok("job", "run", "by-hand", "--no-wait", "--output", "json");
            var id = JsonSerializer.Deserialize<JsonElement>(begun.Out).GetProperty("id").GetInt64();
            // Not a fixed pause: killed as soon as it has read so many bytes.
            while (true)
            {
                var run = JsonSerializer.Deserialize<JsonElement>(
                    (await programs.ClientAsync("run", "show", $"{id}", "--output", "json")).Out
                );
                if (
                    run.GetProperty("state").GetString() == "ended"
                    || run.GetProperty("figures").GetProperty("readBytes").GetInt64() > 20_000_000 * round
                )
                    break;
            }
            programs.Kill();
            await programs.StartServiceAsync();
            var after = await programs.ClientAsync("run", "show", $"{id}");
            if (!after.Out.Contains("Interrupted", StringComparison.Ordinal))
            {
                earlier++;
                continue;
            }
            Assert.Equal(4, after.ExitCode);
            Assert.Contains("Run the job again", after.Out);
            Assert.Contains("Interrupted", (await programs.ClientAsync("duty")).Out);
            var copies = JsonSerializer.Deserialize<JsonElement>((await Ok("copy", "list", "--output", "json")).Out);
            Assert.Equal(earlier, copies.GetArrayLength());
            Assert.Contains("is sound", (await Ok("store", "check", "cellar")).Out);
            await Ok("copy", "restore", copies[0].GetProperty("id").GetString()!, "--to", $"{programs.Root}/back{round}");
            Assert.Equal("", await Shell($"cmp d/kept '{programs.Root}/back{round}{programs.Source}/d/kept'"));
            // The next run makes up for it and leaves nothing of the broken one behind.
            await Ok("job", "run", "by-hand");
            Assert.Equal(0, (await programs.ClientAsync("duty")).ExitCode);
            Assert.Empty(Directory.EnumerateFiles(programs.StoreFolder + "/work", "*.part"));
            return;
        }
        Assert.Fail("no run was at work when the service was killed");
    }

    [Fact]
    public async Task A_service_killed_in_mid_prune_and_mid_reclaim_carries_on_and_catalogue_and_store_agree()
    {
        await programs.BeginAsync();
        await Shell("seq 1 3000 > numbers");
        for (var i = 0; i < 12; i++)
        {
            await Shell($"echo {i} >> numbers");
            await Ok("job", "run", "by-hand");
        }
        var plan = JsonSerializer.Deserialize<JsonElement>(
            (await programs.ClientAsync("prune", "plan", "by-hand", "--output", "json")).Out
        );
        // Begun and not waited for; killed as soon as the first copy lies in the bin, and then in the middle of freeing bytes.
        var pruning = programs.ClientAsync(
            "prune",
            "apply",
            plan.GetProperty("fingerprint").GetString()!,
            "--confirm",
            "only the newest is wanted"
        );
        await UntilAsync(() => Count("bin") > 0);
        programs.Kill();
        await pruning;
        var moved = Count("bin");
        await programs.StartServiceAsync();
        await UntilAsync(() => Count("copies") == 1);
        Assert.Equal(11, Count("bin"));
        Assert.InRange(moved, 1, 11);
        await AgreeAsync(12);

        var reclaiming = programs.ClientAsync("store", "reclaim", "cellar");
        await UntilAsync(() => Count("bin") < 11);
        programs.Kill();
        await reclaiming;
        await programs.StartServiceAsync();
        await Ok("store", "reclaim", "cellar");
        Assert.Equal((1, 0), (Count("copies"), Count("bin")));
        await AgreeAsync(1);
        await Ok("store", "check", "cellar");
        await Ok("copy", "restore", "newest:by-hand", "--to", programs.Root + "/back");
        Assert.Equal("", await Shell($"cmp numbers '{programs.Root}/back{programs.Source}/numbers'"));

        int Count(string folder) =>
            Directory.Exists($"{programs.StoreFolder}/{folder}")
                ? Directory.EnumerateFiles($"{programs.StoreFolder}/{folder}", "*.copy").Count()
                : 0;

        async Task AgreeAsync(int copies)
        {
            for (var i = 0; ; i++)
            {
                var runs = JsonSerializer.Deserialize<JsonElement>((await Ok("run", "list", "--output", "json")).Out);
                if (runs.EnumerateArray().All(r => r.GetProperty("state").GetString() == "ended"))
                    break;
                Assert.InRange(i, 0, 200);
            }
            var known = JsonSerializer.Deserialize<JsonElement>((await Ok("copy", "list", "--output", "json")).Out);
            Assert.Equal(copies, known.GetArrayLength());
            Assert.Equal(Count("bin"), known.EnumerateArray().Count(c => c.GetProperty("binnedAt").ValueKind != JsonValueKind.Null));
        }
    }

    private static async Task UntilAsync(Func<bool> holds)
    {
        for (var i = 0; !holds(); i++)
        {
            Assert.InRange(i, 0, 120_000);
            await Task.Delay(1);
        }
    }

    [Fact]
    public async Task The_client_cares_for_single_objects_and_copies()
    {
        await programs.BeginAsync();
        await Shell("mkdir d; echo one > d/letter");
        await Ok("job", "run", "by-hand");
        await Shell("echo two > d/letter");
        Assert.Contains("before   run", (await Ok("job", "run", "by-hand")).Out);
        Assert.Contains("due", (await Ok("definition", "set", "job", "by-hand", "when=daily at 05:00", "--dry-run")).Out);
        await Ok("definition", "set", "job", "by-hand", "when=daily at 05:00", "fresh-within=2 days");
        Assert.Contains("when: daily at 05:00", (await Ok("charter", "export")).Out);
        Assert.Contains("when: daily at 05:00", (await Ok("definition", "show", "job", "by-hand")).Out);
        Assert.Equal(2, (await programs.ClientAsync("definition", "set", "job", "by-hand", "when=dayly at 05:00")).ExitCode);
        Assert.Equal(2, (await programs.ClientAsync("definition", "set", "job", "by-hand", "nonsense")).ExitCode);
        await Ok("definition", "set", "policy", "spare", "keep=7 daily", "--new");
        await Ok("definition", "remove", "policy", "spare");
        Assert.Contains("paused until", (await Ok("job", "pause", "by-hand", "--reason", "moving the disk", "--until", "3 days")).Out);
        Assert.Contains("PAUSED", (await Ok("job", "show", "by-hand")).Out);
        await Ok("job", "resume", "by-hand");
        Assert.Equal(2, (await programs.ClientAsync("job", "pause", "by-hand", "--reason", "x", "--until", "soon")).ExitCode);

        Assert.Contains("/d/letter", (await Ok("copy", "find", "letter")).Out);
        Assert.Equal(1, (await programs.ClientAsync("copy", "find", "no-such-name")).ExitCode);
        Assert.Equal(
            2,
            JsonSerializer
                .Deserialize<JsonElement>((await Ok("copy", "versions", "by-hand", programs.Source + "/d/letter", "--output", "json")).Out)
                .GetArrayLength()
        );
        var oldest = JsonSerializer
            .Deserialize<JsonElement>((await Ok("copy", "list", "--output", "json")).Out)[1]
            .GetProperty("id")
            .GetString()!;
        Assert.Contains("expire", (await Ok("copy", "why", oldest)).Out);
        var newest = JsonSerializer
            .Deserialize<JsonElement>((await Ok("copy", "list", "--output", "json")).Out)[0]
            .GetProperty("id")
            .GetString()!;
        var compared = await programs.ClientAsync("copy", "compare", newest, oldest);
        Assert.Equal(1, compared.ExitCode);
        Assert.Matches(@"1 changed \(\d+ B\)[^$]*letter", compared.Out);
        Assert.Contains("Nothing differs", (await Ok("copy", "compare", oldest, oldest)).Out);
        Assert.Contains(oldest, (await Ok("copy", "list", "--state", "unchecked", "--since", "2 days", "--machine", "heron")).Out);
        Assert.Contains("No copy fits", (await Ok("copy", "list", "--until", "2001-01-01")).Out);
        await Ok("copy", "hold", oldest, "--reason", "for the survey", "--until", "2099-01-01");
        Assert.Contains("held by mira until 2099-01-01", (await Ok("copy", "why", oldest)).Out);
        await Ok("copy", "release", oldest);
        await Ok(
            "prune",
            "apply",
            JsonSerializer
                .Deserialize<JsonElement>((await Ok("prune", "plan", "by-hand", "--output", "json")).Out)
                .GetProperty("fingerprint")
                .GetString()!
        );
        Assert.Contains("out of the bin", (await Ok("copy", "take-back", oldest)).Out);
        await Ok("copy", "restore", oldest, programs.Source + "/d/letter", "--to", "/", "--existing", "beside");
        Assert.Equal("one\ntwo\n", await Shell("cat d/letter.restored d/letter"));
        Assert.Contains("only to look at", (await Ok("prune", "plan", "by-hand", "--as-of", "2030-01-01T00:00:00Z")).Out);
        Assert.Contains("ready", (await Ok("service", "show")).Out);
        Assert.Equal(3, (await programs.ClientAsync("service", "confirm-clock")).ExitCode);
        Assert.Contains("nobody is told", (await Ok("channel", "list")).Out);
        Assert.Equal(0, (await programs.ClientAsync("alert", "list", "--class", "stale")).ExitCode);
        // What the service wrote for itself is a JSON object a line, and holds no secret.
        var log = await File.ReadAllTextAsync(Directory.EnumerateFiles(programs.DataFolder + "/logs", "*.jsonl").Single());
        Assert.All(log.Split('\n', StringSplitOptions.RemoveEmptyEntries), l =>
            Assert.True(JsonDocument.Parse(l).RootElement.TryGetProperty("@t", out _))
        );
        Assert.DoesNotContain("a long sentence", log);
    }

    [Fact]
    public async Task A_second_service_on_the_same_catalogue_refuses_to_start_and_a_stop_is_clean()
    {
        await programs.StartServiceAsync();
        var second = await programs.RunAsync(
            "ironkeepd",
            null,
            $"--IronKeep:DataFolder={programs.DataFolder}",
            "--IronKeep:Listen=http://127.0.0.1:1"
        );
        Assert.Equal(3, second.ExitCode);
        Assert.Contains("another Iron Keep service", second.Error);
        Assert.Contains(programs.DataFolder, second.Error);
        Assert.Equal(0, await programs.StopAsync());
        var bad = await programs.RunAsync(
            "ironkeepd",
            null,
            "--IronKeep:DataFolder=relative",
            "--IronKeep:RunsAtOnce=0",
            "--IronKeep:Machine=Not A Name"
        );
        Assert.Equal(3, bad.ExitCode);
        foreach (var setting in new[] { "DataFolder", "RunsAtOnce", "Machine" })
            Assert.Contains("IronKeep:" + setting, bad.Error);
    }

    [Fact]
    public async Task The_client_ends_with_the_code_that_tells_what_happened()
    {
        var nowhere = await programs.ClientAsync("duty", "--url", "http://127.0.0.1:1");
        Assert.Equal(4, nowhere.ExitCode);
        Assert.Contains("cannot be reached", nowhere.Error);
        Assert.Equal(2, (await programs.ClientAsync("dutty")).ExitCode);
        Assert.Equal(2, (await programs.ClientAsync("timetable", "--next", "soon")).ExitCode);
        await programs.BeginAsync();
        var unknown = await programs.ClientAsync("job", "run", "nothing");
        Assert.Equal(3, unknown.ExitCode);
        Assert.Contains("There is no job 'nothing' in the charter; see 'ironkeep job list'", unknown.Error);
        await programs.WriteCharterAsync("Bad Name");
        var charter = programs.Root + "/charter.yaml";
        var check = await programs.ClientAsync("charter", "check", charter);
        Assert.Equal(2, check.ExitCode);
        Assert.Contains($"{charter}:7:3: job Bad Name", check.Out);
        Assert.Equal(2, (await programs.ClientAsync("charter", "apply", charter)).ExitCode);
        await programs.WriteCharterAsync("other");
        Assert.Equal(1, (await programs.ClientAsync("charter", "diff", charter)).ExitCode);
        // The sign-in is for its owner alone, and no secret stands in what the service printed.
        var saved = programs.Root + "/config/ironkeep/client.json";
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(saved));
        Assert.DoesNotContain("ironkeep_", programs.ServiceOutput);
        Assert.DoesNotContain("a long sentence", programs.ServiceOutput);
    }

    private async Task<Said> Ok(params string[] args)
    {
        var said = await programs.ClientAsync(args);
        Assert.True(said.ExitCode == 0, $"ironkeep {string.Join(' ', args)}: {said}");
        return said;
    }

    private async Task<string> Shell(string command)
    {
        using var process = Process.Start(
            new ProcessStartInfo("/bin/bash", ["-c", command]) { WorkingDirectory = programs.Source, RedirectStandardOutput = true }
        )!;
        var output = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return output;
    }

    private static void Flip(string path, int at)
    {
        var bytes = File.ReadAllBytes(path);
        bytes[at] ^= 1;
        File.WriteAllBytes(path, bytes);
    }

    /// <summary>What cannot start says so in one sentence and ends with 3; what only asks starts nothing.</summary>
    [Fact]
    public async Task Help_and_version_start_nothing_and_a_start_that_cannot_be_says_why()
    {
        using var programs = new Programs();
        var data = Path.Combine(programs.Root, "fresh");
        foreach (var ask in new[] { "--help", "--version" })
        {
            var said = await programs.RunAsync("ironkeepd", null, ask, $"--IronKeep:DataFolder={data}");
            Assert.Equal(0, said.ExitCode);
            Assert.Contains("ironkeepd", said.Out);
            Assert.False(Directory.Exists(data));
        }
        using var taken = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        taken.Start();
        var port = ((System.Net.IPEndPoint)taken.LocalEndpoint).Port;
        var inUse = await programs.RunAsync(
            "ironkeepd",
            null,
            $"--IronKeep:DataFolder={data}",
            $"--IronKeep:Listen=http://127.0.0.1:{port}"
        );
        Assert.Equal(3, inUse.ExitCode);
        Assert.Contains("the address to listen on cannot be used", inUse.Error);
        Assert.DoesNotContain("   at ", inUse.Error);
        Directory.CreateDirectory(data + "2/catalogue.db");
        var broken = await programs.RunAsync("ironkeepd", null, $"--IronKeep:DataFolder={data}2", "--IronKeep:Listen=http://127.0.0.1:0");
        Assert.Equal(3, broken.ExitCode);
        Assert.DoesNotContain("   at ", broken.Error);
    }
}
