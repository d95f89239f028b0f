using System.CommandLine;
using IronKeep.Cli.Client;

namespace IronKeep.Cli;

/// <summary>What all commands share.</summary>
internal static class Common
{
    public static Option<string> Output { get; } = MakeOutput();

    public static Option<string?> Url { get; } =
        new("--url") { Description = "The service's address; else IRONKEEP_URL, else the one you signed in to", Recursive = true };

    public static Option<bool> Utc { get; } =
        new("--utc") { Description = "Show times in UTC, not in this terminal's zone", Recursive = true };

    public static bool AsJson(ParseResult parsed) => parsed.GetValue(Output) == "json";

    public static KeepClient Client(ParseResult parsed) => KeepClient.Open(parsed.GetValue(Url));

    /// <summary>A command whose action talks to the service.</summary>
    public static Command Verb(
        string name,
        string description,
        Func<ParseResult, KeepClient, CancellationToken, Task<int>> action,
        params Symbol[] symbols
    )
    {
        var command = new Command(name, description);
        foreach (var symbol in symbols)
        {
            if (symbol is Option option)
                command.Options.Add(option);
            if (symbol is Argument argument)
                command.Arguments.Add(argument);
        }
        command.SetAction(
            async (parsed, cancel) =>
            {
                using var client = Client(parsed);
                return await action(parsed, client, cancel);
            }
        );
        return command;
    }

    public static Command Noun(string name, string description, params Command[] verbs)
    {
        var command = new Command(name, description);
        foreach (var verb in verbs)
            command.Subcommands.Add(verb);
        return command;
    }

    private static Option<string> MakeOutput()
    {
        var option = new Option<string>("--output")
        {
            Description = "text or json",
            DefaultValueFactory = _ => "text",
            Recursive = true,
        };
        option.AcceptOnlyFromAmong("text", "json");
        return option;
    }
}
