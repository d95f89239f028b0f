using System.Diagnostics;
using System.Text;
using System.Text.RegularExpressions;

namespace IronKeep.EndToEnd.Tests;

/// <summary>What a program said and how it ended.</summary>
internal sealed record Said(int ExitCode, string Out, string Error)
{
    public override string ToString() => $"exit {ExitCode}\n{Out}\n{Error}";
}

/// <summary>
/// The real programs, ironkeepd and ironkeep, as processes of their own over a folder of their own on a loopback port. The service
/// can be killed like a process that lost its power.
/// </summary>
internal sealed partial class Programs : IDisposable
{
    private readonly int port = Random.Shared.Next(20_000, 30_000);
    private readonly StringBuilder output = new();
    private Process? service;

    public Programs()
    {
        Root = Directory.CreateTempSubdirectory("programs-").FullName;
        Directory.CreateDirectory(Source);
    }

    public string Root { get; }

    /// <summary>What the service is started under, word by word; nothing: by itself.</summary>
    public string[] Under { get; set; } = [];
    public string Source => Path.Combine(Root, "source");
    public string StoreFolder => Path.Combine(Root, "cellar");
    public string DataFolder => Path.Combine(Root, "service");

    public string ServiceOutput
    {
        get
        {
            lock (output)
                return output.ToString();
        }
    }

    /// <summary>Starts the service and signs the client in as its first person.</summary>
    public async Task BeginAsync()
    {
        await StartServiceAsync();
        var code = Code().Matches(ServiceOutput)[^1].Groups[1].Value;
        var signedIn = await ClientWithInputAsync(
            "a long sentence\n",
            "sign-in",
            "--url",
            Address,
            "--name",
            "mira",
            "--code",
            code,
            "--password-stdin"
        );
        Assert.True(signedIn.ExitCode == 0, signedIn.ToString());
        await WriteCharterAsync("by-hand");
        var applied = await ClientAsync("charter", "apply", Path.Combine(Root, "charter.yaml"));
        Assert.True(applied.ExitCode == 0, applied.ToString());
    }

    public string Address => $"http://127.0.0.1:{port}";

    public async Task WriteCharterAsync(string job) =>
        await File.WriteAllTextAsync(
            Path.Combine(Root, "charter.yaml"),
            $$"""
            charter: 1
            stores:
              cellar: { folder: {{StoreFolder}}, bin: 0 days }
            policies:
              few: { keep: newest 1, at-least: 1 }
            jobs:
              {{job}}: { takes: {{Source}}, into: cellar, policy: few }
            """
        );

    public async Task StartServiceAsync()
    {
        service = Start(
            "ironkeepd",
            Under,
            $"--IronKeep:DataFolder={DataFolder}",
            $"--IronKeep:Listen={Address}",
            $"--IronKeep:AgentListen=https://127.0.0.1:{port - 10_000}",
            "--IronKeep:Machine=heron",
            $"--IronKeep:AllowedCommands={Path.Combine(Root, "agent.yaml")}"
        );
        service.OutputDataReceived += Keep;
        service.ErrorDataReceived += Keep;
        service.BeginOutputReadLine();
        service.BeginErrorReadLine();
        using var http = new HttpClient();
        for (var i = 0; ; i++)
        {
            try
            {
                if (await http.GetStringAsync(Address + "/health") == "ok")
                    return;
            }
            catch (HttpRequestException) when (i < 6000 && !service.HasExited)
            {
                await Task.Delay(50);
            }
        }
    }

    private void Keep(object sender, DataReceivedEventArgs line)
    {
        lock (output)
            output.AppendLine(line.Data);
    }

    /// <summary>Lets a machine join, with the code that the client prints, and starts its agent.</summary>
    public async Task<Process> JoinAsync(string machine, string folder, params string[] more)
    {
        var words = (await ClientAsync("machine", "enrol", machine)).Out.Split([' ', '\n'], StringSplitOptions.RemoveEmptyEntries);
        var joined = await RunAsync(
            "ironkeep-agent",
            null,
            "join",
            words.Single(w => w.StartsWith("https://", StringComparison.Ordinal)),
            "--code",
            words.Single(w => w.StartsWith("join.", StringComparison.Ordinal)),
            "--folder",
            folder
        );
        Assert.True(joined.ExitCode == 0, joined.ToString());
        return StartAgent(folder, more);
    }

    /// <summary>An agent at work in a folder of its own; whoever starts it stops it.</summary>
    public Process StartAgent(string folder, params string[] more)
    {
        var agent = Start("ironkeep-agent", [], ["work", "--folder", folder, "--allows", Path.Combine(Root, "agent.yaml"), .. more]);
        agent.OutputDataReceived += (_, _) => { };
        agent.ErrorDataReceived += (_, _) => { };
        agent.BeginOutputReadLine();
        agent.BeginErrorReadLine();
        return agent;
    }

    /// <summary>The machines of a fleet at work; whoever starts them stops them.</summary>
    public Process StartFleet(string folder, params string[] more)
    {
        var fleet = Start("ironkeep-fleet", [], ["work", "--folder", folder, .. more]);
        fleet.OutputDataReceived += (_, _) => { };
        fleet.ErrorDataReceived += (_, _) => { };
        fleet.BeginOutputReadLine();
        fleet.BeginErrorReadLine();
        return fleet;
    }

    /// <summary>SIGKILL: no clean-up of any kind.</summary>
    public void Kill()
    {
        service!.Kill();
        service.WaitForExit();
    }

    /// <summary>SIGTERM, and the exit code.</summary>
    public async Task<int> StopAsync()
    {
        Process.Start("kill", ["-TERM", $"{service!.Id}"]).WaitForExit();
        await service.WaitForExitAsync();
        return service.ExitCode;
    }

    public Task<Said> ClientAsync(params string[] args) => RunAsync("ironkeep", null, args);

    public Task<Said> ClientWithInputAsync(string input, string first, params string[] args) =>
        RunAsync("ironkeep", input, [first, .. args]);

    public async Task<Said> RunAsync(string program, string? input, params string[] args)
    {
        using var process = Start(program, [], args);
        if (input is not null)
            await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        var said = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        return new Said(process.ExitCode, await said, await error);
    }

    private Process Start(string program, string[] under, params string[] args)
    {
        string[] words = [.. under, "dotnet", PathOf(program), .. args];
        var start = new ProcessStartInfo(words[0], words[1..])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        Surround(start);
        return Process.Start(start)!;
    }

    /// <summary>Each program lies in its own folder, with its own settings beside it.</summary>
    public static string PathOf(string program)
    {
        var project = program switch
        {
            "ironkeepd" => "src/IronKeep.Service",
            "ironkeep-agent" => "src/IronKeep.Agent",
            "ironkeep-fleet" => "demo/IronKeep.Fleet",
            _ => "src/IronKeep.Cli",
        };
        var here = AppContext.BaseDirectory;
        return Path.GetFullPath(
            Path.Combine(here, "../../../../..", project, Path.GetRelativePath(Path.Combine(here, "../../.."), here), program + ".dll")
        );
    }

    /// <summary>The surroundings of every program: nothing of the person who runs the tests.</summary>
    public void Surround(ProcessStartInfo start)
    {
        start.Environment["XDG_CONFIG_HOME"] = Path.Combine(Root, "config");
        start.Environment["XDG_STATE_HOME"] = Path.Combine(Root, "state");
        start.Environment.Remove("IRONKEEP_URL");
        start.Environment.Remove("IRONKEEP_TOKEN");
    }

    public void Dispose()
    {
        if (service is { HasExited: false })
            Kill();
        service?.Dispose();
        Directory.Delete(Root, true);
    }

    [GeneratedRegex("one-time code: (\\w+)")]
    private static partial Regex Code();
}
