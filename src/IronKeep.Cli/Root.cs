using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Parsing;
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
                    MachineCommands.Make(),
                    WatchCommand.Make(),
                    WatchCommand.Deliver(),
                    RunCommands.Make(),
                    CopyCommands.Make(),
                    PruneCommands.Make(),
                    StoreCommands.Make(),
                    RescueCommands.Make(),
                    AlertCommands.Make(),
                    TellCommands.Make(),
                    ReportCommands.Make(),
                    RotationCommands.Make(),
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
        var problems = parsed.Errors.Select(e => e.Message).Concat(OptionsThatAreNone(parsed, args)).ToList();
        if (problems.Count > 0)
        {
            foreach (var problem in problems)
                await Console.Error.WriteLineAsync(problem);
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
            // What was said as a form of fields has no lines.
            foreach (var mistake in e.Mistakes.Where(m => !e.Message.Contains(m.Message, StringComparison.Ordinal)))
                Show.Error(
                    $"  {(mistake.Line > 0 ? $"line {mistake.Line}, column {mistake.Column}, " : "")}{mistake.About}: {mistake.Message}"
                );
            return e.ExitCode;
        }
        catch (OperationCanceledException)
        {
            return Failed;
        }
    }

    /// <summary>
    /// Words that look like options and would be taken for names: a mistyped option must not become the name of what is looked for or
    /// made. What belongs to a wrapped command is its own.
    /// </summary>
    private static IEnumerable<string> OptionsThatAreNone(ParseResult parsed, string[] args)
    {
        if (args is [WatchCommand.Word, ..])
            yield break;
        Token? before = null;
        foreach (var token in parsed.Tokens.TakeWhile(t => t.Type != TokenType.DoubleDash))
        {
            if (token is { Type: TokenType.Argument, Value: ['-', _, ..] } && before?.Type != TokenType.Option)
                yield return $"There is no option '{token.Value}' here; a name that begins so goes after '--'";
            before = token;
        }
    }
}
