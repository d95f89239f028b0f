using System.CommandLine;
using System.CommandLine.Help;
using IronKeep.Cli.Client;
using IronKeep.Cli.Commands;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Rescuing;
using IronKeep.Cli.Shell;
using IronKeep.Cli.Trying;
using IronKeep.Cli.Wrapping;

namespace IronKeep.Cli;

/// <summary>
/// The client's command line. Exit codes: 0 done, 1 done with findings, 2 not understood, 3 refused, 4 failed or unreachable.
/// </summary>
public static class Root
{
    public const int Done = 0;
    public const int Findings = 1;
    public const int NotUnderstood = 2;
    public const int Refused = 3;
    public const int Failed = 4;

    public static async Task<int> RunAsync(string[] args)
    {
        var root = new RootCommand("The client of Iron Keep: defines, runs, looks, restores. Sign in once with 'ironkeep sign-in'.");
        root.Options.Remove(root.Options.OfType<HelpOption>().Single());
        root.Options.Add(new HelpOption("--help", "-h"));
        root.Options.Add(Common.Output);
        root.Options.Add(Common.Url);
        root.Options.Add(Common.Utc);
        foreach (
            var command in (Command[])
                [
                    SignInCommands.Make(),
                    DutyCommands.Make(),
                    TryCommands.Make(),
                    CharterCommands.Make(),
                    TimetableCommands.Make(),
                    ForecastCommands.Make(),
                    JobCommands.Make(),
                    WatchCommand.Make(),
                    WatchCommand.Deliver(),
                    RunCommands.Make(),
                    CopyCommands.Make(),
                    PruneCommands.Make(),
                    StoreCommands.Make(),
                    RescueCommands.Make(),
                    AlertCommands.Make(),
                    DefinitionCommands.Make(),
                    ServiceCommands.Channels(),
                    ServiceCommands.Make(),
                    SignInCommands.People(),
                    SignInCommands.Sessions(),
                ]
        )
            root.Subcommands.Add(command);
        root.Subcommands.Add(CompletionCommand.Make());
        root.Subcommands.Add(ManPages.Make(root));
        var parsed = root.Parse(args);
        if (parsed.Errors.Count > 0)
        {
            foreach (var error in parsed.Errors)
                await Console.Error.WriteLineAsync(error.Message);
            await Console.Error.WriteLineAsync(
                $"see 'ironkeep {string.Join(' ', args.TakeWhile(a => !a.StartsWith('-')).Take(1).Append("--help"))}'"
            );
            return NotUnderstood;
        }
        Show.InUtc = parsed.GetValue(Common.Utc);
        try
        {
            return await parsed.InvokeAsync(
                new InvocationConfiguration
                {
                    EnableDefaultExceptionHandler = false,
                    ProcessTerminationTimeout = args is [WatchCommand.Word, ..] ? null : TimeSpan.FromSeconds(2),
                }
            );
        }
        catch (AnswerException e)
        {
            Show.Error(e.Message);
            foreach (var mistake in e.Mistakes)
                Show.Error($"  line {mistake.Line}, column {mistake.Column}, {mistake.About}: {mistake.Message}");
            return e.ExitCode;
        }
        catch (OperationCanceledException)
        {
            return Failed;
        }
    }
}
