using System.Diagnostics;
using System.Text.RegularExpressions;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Demo;

/// <summary>
/// The other machines of the observatory with agents of their own: curlew and plover each with the agent as it is, the small ones in the
/// hides as a fleet in one program. They join when the nights are played, and carry out their jobs over TLS like any other. Their programs
/// end with this one, however that ends.
/// </summary>
internal sealed partial class Machines : IDisposable
{
    private static readonly string[] Single = ["curlew", "plover"],
        Fleet = ["tern-1", "tern-2", "tern-3", "tern-4", "tern-5", "tern-6"];
    private const string LittleSun = "--often-away tern-2 tern-5";

    /// <summary>How long the first copies are waited for; what comes later is seen to come.</summary>
    private static readonly TimeSpan Waits = TimeSpan.FromSeconds(20);
    private readonly List<Process> programs = [];

    /// <summary>The charter with the machines and their jobs: sections that it has grow, others are added.</summary>
    public static async Task<string> InAsync(string charter, string charterFile)
    {
        var more = await File.ReadAllTextAsync(Path.Combine(Path.GetDirectoryName(Path.GetFullPath(charterFile))!, "grown.yaml"));
        foreach (var part in Section().Split(more).Where(p => Section().IsMatch(p)))
        {
            var head = "\n" + part[..(part.IndexOf('\n') + 1)];
            charter = charter.Contains(head, StringComparison.Ordinal)
                ? charter.Replace(head, "\n" + part.TrimEnd() + "\n", StringComparison.Ordinal)
                : $"{charter.TrimEnd()}\n\n{part.TrimEnd()}\n";
        }
        return charter;
    }

    [GeneratedRegex(@"^(?=[a-z-]+:\n)", RegexOptions.Multiline)]
    private static partial Regex Section();

    /// <summary>Lets them join, starts them, and waits for the first copies.</summary>
    public static async Task<Machines> BeginAsync(IServiceProvider services, Charter charter, string folder, string person)
    {
        var address = services.GetRequiredService<AgentListening>().Address!;
        var machines = new Machines();
        foreach (var name in Single)
        {
            var home = $"{folder}/{name}";
            await JoinAsync(
                name,
                "ironkeep-agent",
                $"join {address} --code {await CodeAsync(services, name, person)} --folder {Quoted(home)}"
            );
            machines.Start("ironkeep-agent", $"work --folder {Quoted(home)}", $"{home}/agent.log");
        }
        var fleet = $"{folder}/fleet";
        Directory.CreateDirectory(fleet);
        var codes = new List<string>();
        foreach (var name in Fleet)
            codes.Add($"{name} {await CodeAsync(services, name, person)}");
        await File.WriteAllLinesAsync($"{fleet}/codes", codes);
        await JoinAsync("the fleet", "ironkeep-fleet", $"join {address} --codes {Quoted(fleet + "/codes")} --folder {Quoted(fleet)}");
        File.Delete($"{fleet}/codes");
        machines.Start("ironkeep-fleet", $"work --folder {Quoted(fleet)} {LittleSun} --failing tern-4 --cycle 1800", $"{fleet}/fleet.log");
        await FirstCopiesAsync(services, charter, person);
        return machines;
    }

    public void Dispose()
    {
        foreach (var program in programs)
            program.StandardInput.Close();
        foreach (var program in programs)
        {
            program.WaitForExit(5000);
            program.Dispose();
        }
    }

    private static async Task<string> CodeAsync(IServiceProvider services, string machine, string person)
    {
        var (code, _, _) = await services
            .GetRequiredService<AgentBook>()
            .EnrolAsync(machine, services.GetRequiredService<AgentListening>().Print, person, CancellationToken.None);
        return code.ToString();
    }

    private static async Task FirstCopiesAsync(IServiceProvider services, Charter charter, string person)
    {
        var factory = services.GetRequiredService<IDbContextFactory<KeepContext>>();
        await using var db = await factory.CreateDbContextAsync();
        foreach (var job in charter.Placed.All.Where(j => Single.Contains(j.Machine) || Fleet.Contains(j.Machine)))
            await services.GetRequiredService<RunNow>().BeginAsync(db, job, person, CancellationToken.None);
        var began = Stopwatch.StartNew();
        while (began.Elapsed < Waits && await db.Runs.AsNoTracking().AnyAsync(r => Single.Contains(r.Machine) && r.State != RunState.Ended))
            await Task.Delay(200);
    }

    private static async Task JoinAsync(string who, string program, string arguments)
    {
        using var joining = Shell($"exec dotnet \"$0\" {arguments} > /dev/null", program);
        joining.StandardInput.Close();
        await joining.WaitForExitAsync();
        if (joining.ExitCode != 0)
            throw new StartRefusedException($"the agent of {who} could not join; its words stand above");
    }

    // It ends when nobody holds the other end of its input any more.
    private void Start(string program, string arguments, string log) =>
        programs.Add(Shell($"dotnet \"$0\" {arguments} > {Quoted(log)} 2>&1 & cat > /dev/null; kill $!; wait", program));

    private static string Quoted(string path) => "'" + path.Replace("'", "'\\''", StringComparison.Ordinal) + "'";

    private static Process Shell(string script, string program)
    {
        var start = new ProcessStartInfo("sh") { RedirectStandardInput = true };
        foreach (var word in new[] { "-c", script, Path.Combine(AppContext.BaseDirectory, program + ".dll") })
            start.ArgumentList.Add(word);
        return Process.Start(start)!;
    }
}
