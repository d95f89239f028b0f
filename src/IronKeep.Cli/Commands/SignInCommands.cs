using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using Spectre.Console;

namespace IronKeep.Cli.Commands;

internal static class SignInCommands
{
    public static Command Make()
    {
        var name = new Option<string?>("--name") { Description = "Your name on the service" };
        var code = new Option<string?>("--code") { Description = "The one-time code of a new service: makes you its first person" };
        var fromInput = new Option<bool>("--password-stdin") { Description = "Read the password from standard input" };
        return Common.Verb("sign-in", "Signs this client in with a token of its own", async (parsed, client, cancel) =>
        {
            var person = parsed.GetValue(name) ?? (Console.IsInputRedirected ? Environment.UserName : await AnsiConsole.AskAsync<string>("Name:", cancel));
            var password = parsed.GetValue(fromInput) || Console.IsInputRedirected
                ? (await Console.In.ReadLineAsync(cancel) ?? "").TrimEnd('\r', '\n')
                : await new TextPrompt<string>("Password:").Secret().ShowAsync(AnsiConsole.Console, cancel);
            if (parsed.GetValue(code) is { } first)
                await client.PostAsync<object>("first-person", new FirstPersonRequest(first, person, password), cancel);
            var token = await client.PostAsync<TokenAnswer>("tokens", new TokenRequest(person, password, $"ironkeep on {Environment.MachineName}"), cancel);
            new Credentials(client.Address, token.Token).Save();
            Show.Line($"signed in to {client.Address} as {person}; the token is in {Credentials.FileName}");
            return Root.Done;
        }, name, code, fromInput);
    }
}
