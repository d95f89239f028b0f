using System.CommandLine;
using System.CommandLine.Help;
using System.Globalization;
using System.Reflection;
using System.Runtime.InteropServices;
using IronKeep.Agent.Hearing;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Runs.Steps;
using IronKeep.Runs.Surroundings;

namespace IronKeep.Agent;

/// <summary>What the agent knows, as it is shown.</summary>
internal sealed record Shown(
    string Folder,
    string? Machine,
    string? Service,
    string? Address,
    string? ServicePrint,
    DateTimeOffset? JoinedAt,
    bool AtWork,
    Contact? Contact,
    int Owed,
    int ToTell
);

/// <summary>
/// The agent's command line. Exit codes: 0 done, 1 done with findings, 2 not understood, 3 refused, 4 failed or unreachable.
/// </summary>
public static class Root
{
    private const int MostShown = 5;
    private const string DropVariable = "IRONKEEP_AGENT_REPORTS";
    internal const int Done = 0,
        Findings = 1,
        NotUnderstood = 2,
        Refused = 3,
        Failed = 4;

    internal static string Version { get; } =
        typeof(Root).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()!.InformationalVersion.Split('+')[0];

    private static readonly Option<string> Folder = new("--folder")
    {
        Description = "The agent's own folder; else IRONKEEP_AGENT_FOLDER",
        DefaultValueFactory = _ =>
            Environment.GetEnvironmentVariable("IRONKEEP_AGENT_FOLDER") is { Length: > 0 } given ? given : AgentHome.Usual,
        Recursive = true,
    };

    public static async Task<int> RunAsync(string[] args)
    {
        var root = new RootCommand("The agent of Iron Keep: joins this machine to a service and stays in contact with it.");
        root.Options.Remove(root.Options.OfType<HelpOption>().Single());
        root.Options.Add(new HelpOption("--help", "-h"));
        root.Options.Add(Folder);
        root.Subcommands.Add(Join());
        root.Subcommands.Add(Work());
        root.Subcommands.Add(Show());
        var parsed = root.Parse(args);
        if (parsed.Errors.Count > 0)
        {
            foreach (var problem in parsed.Errors)
                await Console.Error.WriteLineAsync(problem.Message);
            await Console.Error.WriteLineAsync("see 'ironkeep-agent --help'");
            return NotUnderstood;
        }
        try
        {
            return await parsed.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
        }
        catch (AgentException e)
        {
            await Console.Error.WriteLineAsync(Sentence.Begin(e.Message));
            return e.ExitCode;
        }
        catch (LineException e)
        {
            await Console.Error.WriteLineAsync(Sentence.Begin(e.Message));
            return e.Fault == LineFault.Refused ? Refused : Failed;
        }
        catch (OperationCanceledException)
        {
            return Failed;
        }
    }

    private static Command Join()
    {
        var address = new Argument<string>("address") { Description = "Where the service takes agents, such as https://keep.example:7421" };
        var code = new Option<string>("--code") { Description = "The code that 'ironkeep machine enrol' printed", Required = true };
        var again = new Option<bool>("--again") { Description = "Join although this machine has joined already, here or elsewhere" };
        var join = new Command("join", "Let this machine join a service, with the code that it gave for it") { address, code, again };
        join.SetAction(
            async (parsed, cancel) =>
            {
                if (!JoinCode.TryParse(parsed.GetValue(code)!, out var given, out var problem))
                    throw new AgentException(NotUnderstood, problem);
                var at = Address(parsed.GetValue(address)!);
                var home = new AgentHome(parsed.GetValue(Folder)!);
                home.Make();
                if (home.Joined() is { } before && !parsed.GetValue(again))
                    throw new AgentException(
                        Refused,
                        $"this machine joined the service on {before.Service} as {before.Machine} already; with '--again' it joins anew"
                    );
                using var key = home.Key();
                using var line = new ServiceLine(at, given.ServicePrint.ToArray(), key);
                var answer = await line.JoinAsync(given, cancel);
                home.Save(
                    new Joined(at, Convert.ToHexStringLower(given.ServicePrint.Span), answer.Machine, answer.Service, DateTimeOffset.UtcNow)
                );
                home.Save(new Contact(DateTimeOffset.UtcNow, answer.RightUntil, null, null));
                await Console.Out.WriteLineAsync(
                    $"This machine is {answer.Machine} and serves the service on {answer.Service} from now on. Start its agent with "
                        + "'systemctl enable --now ironkeep-agent', or here with 'ironkeep-agent work'."
                );
                return Done;
            }
        );
        return join;
    }

    private static Command Work()
    {
        var allows = new Option<string>("--allows")
        {
            Description = "The file that lists the commands that the service may order here",
            DefaultValueFactory = _ => AllowedFile.Usual,
        };
        var aloneAfter = new Option<string>("--alone-after")
        {
            Description = "How long the service may be away before jobs into stores on this machine's own disks are carried out without it",
            DefaultValueFactory = _ => "2 minutes",
        };
        var drop = new Option<string?>("--reports")
        {
            Description =
                $"The folder in which wrapped commands of watched jobs leave their reports; else {DropVariable}, else {DropFolder.Usual}, "
                + "or below a folder of the agent's that is not the usual one",
        };
        var work = new Command("work", "Stay in contact with the service, until stopped") { allows, aloneAfter, drop };
        work.SetAction(
            async (parsed, cancel) =>
            {
                var home = new AgentHome(parsed.GetValue(Folder)!);
                var joined = home.Joined() ?? throw NotJoined();
                using var held = await home.HoldAsync()
                    ?? throw new AgentException(Refused, $"an agent is at work in {home.Folder} already; stop it first");
                using var key = home.Key();
                var standing = new MachineStanding();
                // The first word to the service is to say how the machine stands.
                await standing.FirstAsync(TimeSpan.FromSeconds(2));
                using var line = new ServiceLine(joined.Address, Convert.FromHexString(joined.ServicePrint), key, standing);
                // A service manager stops by this signal, and the parser's own would wait.
                using var stopping = CancellationTokenSource.CreateLinkedTokenSource(cancel);
                using var stop = PosixSignalRegistration.Create(PosixSignal.SIGTERM, context =>
                {
                    context.Cancel = true;
                    stopping.Cancel();
                });
                await new Agent.Work(
                    home,
                    line,
                    new AllowedFile(parsed.GetValue(allows)!),
                    standing,
                    Away(parsed.GetValue(aloneAfter)!),
                    parsed.GetValue(drop) ?? DropFolderOf(home),
                    Console.Out
                ).RunAsync(stopping.Token);
                return Done;
            }
        );
        return work;
    }

    private static string DropFolderOf(AgentHome home) =>
        Environment.GetEnvironmentVariable(DropVariable) is { Length: > 0 } given ? given
        : home.Folder == AgentHome.Usual ? DropFolder.Usual
        : Path.Combine(home.Folder, "left-reports");

    private static TimeSpan Away(string text) =>
        Span.TryParse(text, out var span, out var problem)
            ? span.ToDuration().ToTimeSpan()
            : throw new AgentException(NotUnderstood, $"'--alone-after': {problem}");

    private static Command Show()
    {
        var json = new Option<string>("--output") { Description = "text or json", DefaultValueFactory = _ => "text" };
        json.AcceptOnlyFromAmong("text", "json");
        var show = new Command("show", "What the agent knows: whom it serves and when they last spoke") { json };
        show.SetAction(parsed =>
        {
            var home = new AgentHome(parsed.GetValue(Folder)!);
            var (joined, contact) = (home.Joined(), home.Contact());
            var shown = new Shown(
                home.Folder,
                joined?.Machine,
                joined?.Service,
                joined?.Address,
                joined?.ServicePrint,
                joined?.At,
                joined is not null && IsAtWork(home),
                contact,
                new OwedSteps(home.OwedFolder).All() is var (owed, bad) ? owed.Count + bad.Count : 0,
                joined is null ? 0 : new Journal(home.JournalFolder, TextWriter.Null).All().Count
            );
            if (parsed.GetValue(json) == "json")
                Console.WriteLine(AgentJson.Write(shown));
            else if (joined is null)
                throw NotJoined();
            else
                Print(shown);
            return joined is null || contact?.Problem is not null || !shown.AtWork ? Findings : Done;
        });
        return show;
    }

    private static void Print(Shown shown)
    {
        Line("machine", shown.Machine!);
        Line("serves", $"the service on {shown.Service} at {shown.Address}");
        Line("its key", KeyPrint.Show(Convert.FromHexString(shown.ServicePrint!)));
        Line("joined", When(shown.JoinedAt));
        Line("agent", shown.AtWork ? "at work" : "NOT at work; start it with 'systemctl start ironkeep-agent'");
        Line("last contact", When(shown.Contact?.At));
        Line("right until", $"{When(shown.Contact?.RightUntil)}, renewed with each contact");
        var next = shown.Contact?.Next ?? [];
        foreach (var (due, at) in next.Take(MostShown).Select((d, i) => (d, i)))
            Line(at == 0 ? "next due" : "", $"{When(due.Due)}  {due.Job}");
        if (next.Count > MostShown)
            Line("", $"and {next.Count - MostShown} more jobs");
        foreach (var (doing, at) in (shown.AtWork ? shown.Contact?.Doing ?? [] : []).Select((d, i) => (d, i)))
            Line(at == 0 ? "in hand" : "", $"{doing.What}, since {When(doing.Since)}");
        if (shown.Owed > 0)
            Line("OWED", $"the steps after {Counted.Of(shown.Owed, "run")} are still to be run or told of");
        if (shown.ToTell > 0)
            Line("on its own", $"{Counted.Of(shown.ToTell, "run")} that the service is still to hear of");
        if (shown.Contact is { Problem: { } problem, ProblemSince: var since })
            Line("PROBLEM", $"since {When(since)}: {problem}");

        static void Line(string what, string words) => Console.WriteLine($"{what, -14}{words}");
    }

    private static string When(DateTimeOffset? at) =>
        at?.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss zzz", CultureInfo.InvariantCulture) ?? "never";

    private static bool IsAtWork(AgentHome home)
    {
        using var held = home.TryHold();
        return held is null;
    }

    private static AgentException NotJoined() =>
        new(Refused, "this machine has not joined a service yet; give 'ironkeep-agent join' with a code from 'ironkeep machine enrol'");

    private static string Address(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var uri) && uri is { Scheme: "https", PathAndQuery: "/", UserInfo.Length: 0 }
            ? uri.ToString()
            : throw new AgentException(
                NotUnderstood,
                $"'{text}' is no address of a service for agents; write such as https://keep.example:7421"
            );
}
