using System.Diagnostics;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Demo;

/// <summary>
/// Another machine of the observatory, with an agent of its own: it joins when the nights are played, and carries out its job over TLS like
/// any other. Its program ends with this one, however that ends.
/// </summary>
internal sealed class PloverMachine : IDisposable
{
    public const string Name = "plover";
    private const string Job = "night-calls";
    private readonly Process agent;

    private PloverMachine(Process agent) => this.agent = agent;

    /// <summary>The charter with the machine and its job.</summary>
    public static async Task<string> InAsync(string charter, string charterFile)
    {
        var more = await File.ReadAllTextAsync(Path.Combine(Path.GetDirectoryName(Path.GetFullPath(charterFile))!, "plover.yaml"));
        var jobs = more.IndexOf("\njobs:\n", StringComparison.Ordinal);
        var machines = more.IndexOf("\nmachines:\n", StringComparison.Ordinal);
        return charter
            .Replace("\nmachines:\n", more[machines..jobs] + "\n", StringComparison.Ordinal)
            .Replace("\njobs:\n", more[jobs..].TrimEnd() + "\n", StringComparison.Ordinal);
    }

    /// <summary>Lets it join, starts its agent, and waits for the first copy of its job.</summary>
    public static async Task<PloverMachine> BeginAsync(IServiceProvider services, Charter charter, string folder, string person)
    {
        var (book, listening) = (services.GetRequiredService<AgentBook>(), services.GetRequiredService<AgentListening>());
        var (code, _, _) = await book.EnrolAsync(Name, listening.Print, person, CancellationToken.None);
        var home = $"{folder}/plover";
        using (var joining = Start($"exec dotnet \"$0\" join {listening.Address} --code {code} --folder \"$1\"", home))
        {
            joining.StandardInput.Close();
            await joining.WaitForExitAsync();
            if (joining.ExitCode != 0)
                throw new StartRefusedException("the agent of plover could not join; its words stand above");
        }
        // It ends when nobody holds the other end of its input any more.
        var machine = new PloverMachine(
            Start("dotnet \"$0\" work --folder \"$1\" > \"$1/agent.log\" 2>&1 & cat > /dev/null; kill $!; wait", home)
        );
        var factory = services.GetRequiredService<IDbContextFactory<KeepContext>>();
        await using var db = await factory.CreateDbContextAsync();
        var begun = await services.GetRequiredService<RunNow>().BeginAsync(db, charter.Jobs[Job], person, "heron", CancellationToken.None);
        for (var tries = 0; tries < 300 && begun.Run is { } run; tries++)
        {
            if (await db.Runs.AsNoTracking().AnyAsync(r => r.Id == run.Id && r.State == RunState.Ended))
                break;
            await Task.Delay(200);
        }
        return machine;
    }

    public void Dispose()
    {
        agent.StandardInput.Close();
        agent.WaitForExit(5000);
        agent.Dispose();
    }

    private static Process Start(string script, string home)
    {
        var start = new ProcessStartInfo("sh") { RedirectStandardInput = true };
        foreach (var word in new[] { "-c", script, Path.Combine(AppContext.BaseDirectory, "ironkeep-agent.dll"), home })
            start.ArgumentList.Add(word);
        return Process.Start(start)!;
    }
}
