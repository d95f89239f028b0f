using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Contracts;

namespace IronKeep.Cli.Shell;

/// <summary>
/// Completion of words in a shell. The scripts ask the client itself what fits at the cursor, so that they never lag behind it; names of
/// jobs, stores and channels come from the service, when it answers at once.
/// </summary>
internal static class CompletionCommand
{
    /// <summary>How long a key press may wait for names.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMilliseconds(400);

    private const string Bash = """
        # ironkeep in bash: put "source <(ironkeep completion bash)" into ~/.bashrc.
        _ironkeep() {
            local IFS=$'\n' word=${COMP_WORDS[COMP_CWORD]}
            COMPREPLY=($(compgen -W "$(ironkeep "[suggest:$COMP_POINT]" "$COMP_LINE" 2>/dev/null)" -- "$word"))
        }
        complete -o default -F _ironkeep ironkeep
        """;

    private const string Zsh = """
        #compdef ironkeep
        # ironkeep in zsh: put "source <(ironkeep completion zsh)" into ~/.zshrc, after compinit.
        _ironkeep() {
            local -a words_at
            words_at=("${(@f)$(ironkeep "[suggest:$CURSOR]" "$BUFFER" 2>/dev/null)}")
            if (( ${#words_at[1]} )); then compadd -a words_at; else _files; fi
        }
        compdef _ironkeep ironkeep
        """;

    private const string Fish = """
        # ironkeep in fish: put "ironkeep completion fish | source" into ~/.config/fish/config.fish.
        function __ironkeep_words
            set -l line (commandline -cp)
            ironkeep "[suggest:"(string length -- "$line")"]" "$line" 2>/dev/null
        end
        complete -c ironkeep -a '(__ironkeep_words)'
        """;

    public static Command Make()
    {
        var shell = new Argument<string>("SHELL") { Description = "bash, zsh or fish" };
        shell.AcceptOnlyFromAmong("bash", "zsh", "fish");
        var command = new Command("completion", "Prints the script that completes words in a shell") { shell };
        command.SetAction(parsed =>
        {
            Console.Out.WriteLine(
                parsed.GetValue(shell) switch
                {
                    "bash" => Bash,
                    "zsh" => Zsh,
                    _ => Fish,
                }
            );
            return Root.Done;
        });
        return command;
    }

    /// <summary>Lets an argument be completed by the names of what the service has; without an answer in time there are none.</summary>
    public static Argument<T> Completed<T>(this Argument<T> argument, Func<KeepClient, CancellationToken, Task<IEnumerable<string>>> names)
    {
        argument.CompletionSources.Add(context =>
        {
            try
            {
                using var client = KeepClient.Open(context.ParseResult.GetValue(Common.Url));
                using var limit = new CancellationTokenSource(Patience);
                return names(client, limit.Token)
                    .GetAwaiter()
                    .GetResult()
                    .Select(n => new System.CommandLine.Completions.CompletionItem(n));
            }
            catch (Exception e) when (e is AnswerException or OperationCanceledException or HttpRequestException)
            {
                return [];
            }
        });
        return argument;
    }

    public static Argument<string> Job(Argument<string> argument) =>
        argument.Completed(async (client, cancel) => (await client.GetAsync<IReadOnlyList<JobAnswer>>("jobs", cancel)).Select(j => j.Name));

    public static Argument<string> Store(Argument<string> argument) =>
        argument.Completed(
            async (client, cancel) => (await client.GetAsync<IReadOnlyList<StoreAnswer>>("stores", cancel)).Select(s => s.Name)
        );

    public static Argument<string> Channel(Argument<string> argument) =>
        argument.Completed(
            async (client, cancel) => (await client.GetAsync<IReadOnlyList<ChannelAnswer>>("channels", cancel)).Select(c => c.Name)
        );
}
