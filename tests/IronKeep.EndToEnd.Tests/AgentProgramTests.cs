using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>The agent as a program of its own beside the real service.</summary>
public sealed class AgentProgramTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    private string Folder => programs.Root + "/agent";

    private Task<Said> AgentAsync(params string[] args) => programs.RunAsync("ironkeep-agent", null, [.. args, "--folder", Folder]);

    /// <summary>What the agent shows, as soon as it is so.</summary>
    private async Task<Said> ShownAsync(string says)
    {
        for (var i = 0; ; i++)
        {
            var shown = await AgentAsync("show");
            if (shown.Out.Contains(says, StringComparison.Ordinal))
                return shown;
            Assert.True(i < 300, $"{says}: {shown}");
            await Task.Delay(200);
        }
    }

    /// <summary>An agent is at work and nothing is in its way.</summary>
    private async Task InContactAsync()
    {
        for (var i = 0; await AgentAsync("show") is var shown && shown.ExitCode != 0; i++)
        {
            Assert.True(i < 300, $"{shown}");
            await Task.Delay(200);
        }
    }

    [Fact]
    public async Task A_machine_joins_with_the_command_that_was_printed_and_stays_in_contact()
    {
        await programs.BeginAsync();
        Assert.Contains("has not joined", (await AgentAsync("show")).Error);
        Assert.Equal(3, (await AgentAsync("work")).ExitCode);
        var enrolled = await programs.ClientAsync("machine", "enrol", "curlew");
        Assert.Equal(0, enrolled.ExitCode);
        var words = enrolled
            .Out.Split('\n')
            .Single(l => l.Contains("ironkeep-agent join", StringComparison.Ordinal))
            .Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var (address, code) = (words[2], words[4]);
        var cut = await AgentAsync("join", address, "--code", code[..^2]);
        Assert.Equal((2, true), (cut.ExitCode, cut.Error.Contains("not copied whole", StringComparison.Ordinal)));
        Assert.Equal(2, (await AgentAsync("join", address.Replace("https", "http", StringComparison.Ordinal), "--code", code)).ExitCode);
        var joined = await AgentAsync("join", address, "--code", code);
        Assert.Equal((0, true), (joined.ExitCode, joined.Out.Contains("This machine is curlew", StringComparison.Ordinal)));
        // A slip of the hand does not make a machine another's.
        var again = await AgentAsync("join", address, "--code", code);
        Assert.Equal(
            (3, true),
            (again.ExitCode, again.Error.Contains("joined the service on heron as curlew already", StringComparison.Ordinal))
        );
        Assert.Equal("700 600 600\n", await Shell($"stat -c %a {Folder} {Folder}/key.pem {Folder}/service.json | xargs"));
        Assert.Equal(1, (await ShownAsync("NOT at work")).ExitCode);

        using var agent = programs.StartAgent(Folder);
        await InContactAsync();
        Assert.Contains("at work in", (await AgentAsync("work")).Error);
        // Nothing is copied yet, which is a finding.
        var listed = await programs.ClientAsync("machine", "list");
        Assert.True(
            listed.ExitCode == 1 && listed.Out.Contains("curlew is uncovered: no job takes it", StringComparison.Ordinal),
            listed.ToString()
        );
        var machine = JsonSerializer.Deserialize<JsonElement>(
            (await programs.ClientAsync("machine", "show", "curlew", "--output", "json")).Out
        );
        Assert.Equal("joined", machine.GetProperty("state").GetString());

        // The service is killed and comes back: the agent says so, and is in contact again by itself.
        programs.Kill();
        agent.Kill();
        await agent.WaitForExitAsync();
        using var lonely = programs.StartAgent(Folder);
        Assert.Equal(1, (await ShownAsync("cannot be reached")).ExitCode);
        await programs.StartServiceAsync();
        await InContactAsync();
        var shut = await programs.ClientAsync("machine", "shut-out", "curlew", "--reason", "it was stolen");
        Assert.Equal((0, true), (shut.ExitCode, shut.Out.Contains("is shut out", StringComparison.Ordinal)));
        Assert.Contains("shut out", (await programs.ClientAsync("machine", "show", "curlew")).Out);
        System.Diagnostics.Process.Start("kill", ["-TERM", $"{lonely.Id}"]).WaitForExit();
        await lonely.WaitForExitAsync();
        Assert.Equal(0, lonely.ExitCode);
        using var outside = programs.StartAgent(Folder);
        await ShownAsync("Machine curlew was shut out");
        outside.Kill();
    }

    /// <summary>Whoever answers in the service's place is told nothing: neither the code nor anything of the machine.</summary>
    [Fact]
    public async Task A_service_with_another_key_is_a_stranger()
    {
        await programs.BeginAsync();
        var words = (await programs.ClientAsync("machine", "enrol", "curlew")).Out.Split(
            [' ', '\n'],
            StringSplitOptions.RemoveEmptyEntries
        );
        var (address, code) = (
            words.Single(w => w.StartsWith("https://", StringComparison.Ordinal)),
            words.Single(w => w.StartsWith("join.", StringComparison.Ordinal))
        );
        await programs.StopAsync();
        File.Delete(programs.DataFolder + "/agent-key.pem");
        await programs.StartServiceAsync();
        var stranger = await AgentAsync("join", address, "--code", code);
        Assert.Equal(
            (4, true),
            (stranger.ExitCode, stranger.Error.Contains("is not the service that the code is of", StringComparison.Ordinal))
        );
        Assert.Equal(1, (await AgentAsync("show", "--output", "json")).ExitCode);
        Assert.DoesNotContain("joined from", programs.ServiceOutput);
        Assert.Equal(
            "enrolled",
            JsonSerializer
                .Deserialize<JsonElement>((await programs.ClientAsync("machine", "show", "curlew", "--output", "json")).Out)
                .GetProperty("state")
                .GetString()
        );
    }

    private static async Task<string> Shell(string script)
    {
        using var shell = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo("bash", ["-c", script]) { RedirectStandardOutput = true }
        )!;
        return await shell.StandardOutput.ReadToEndAsync();
    }
}
