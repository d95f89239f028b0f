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
        return Common.Verb(
            "sign-in",
            "Signs this client in with a token of its own",
            async (parsed, client, cancel) =>
            {
                var person = parsed.GetValue(name)
                    ?? (Console.IsInputRedirected ? Environment.UserName : await AnsiConsole.AskAsync<string>("Name:", cancel));
                var password = await AskAsync("Password:", parsed.GetValue(fromInput), cancel);
                if (parsed.GetValue(code) is { } first)
                    await client.PostAsync<object>("first-person", new FirstPersonRequest(first, person, password), cancel);
                var token = await client.PostAsync<TokenAnswer>(
                    "tokens",
                    new TokenRequest(person, password, $"ironkeep on {Environment.MachineName}"),
                    cancel
                );
                new Credentials(client.Address, token.Token).Save();
                Show.Line($"Signed in to {client.Address} as {person}; the token is in {Credentials.FileName}");
                return Root.Done;
            },
            name,
            code,
            fromInput
        );
    }

    public static Command People() => Common.Noun("person", "The people who may sign in", ListPeople(), Add(), Remove(), Password());

    public static Command Sessions() => Common.Noun("session", "The browsers in which you are signed in", ListSessions(), End());

    private static Command ListPeople() => Common.Verb("list", "Everybody who may sign in", async (parsed, client, cancel) =>
        {
            var people = await client.GetAsync<IReadOnlyList<PersonAnswer>>("people", cancel);
            if (Common.AsJson(parsed))
                Show.Json(people);
            else
                Show.Table(["person", "since"], people.Select(p => new[] { p.Name, Show.When(p.Made) }), "nobody");
            return Root.Done;
        });

    private static Command Add()
    {
        var name = new Argument<string>("NAME") { Description = "The person's name" };
        var fromInput = FromInput("Read the new person's password from standard input");
        return Common.Verb(
            "add",
            "Lets another person sign in, with a password that you give and they change",
            async (parsed, client, cancel) =>
            {
                var password = await AskAsync("Password of the new person:", parsed.GetValue(fromInput), cancel);
                await client.PostAsync<object>("people", new PersonRequest(parsed.GetValue(name)!, password), cancel);
                Show.Line($"{parsed.GetValue(name)} may sign in now");
                return Root.Done;
            },
            name,
            fromInput
        );
    }

    private static Command Remove()
    {
        var name = new Argument<string>("NAME") { Description = "The person's name" };
        return Common.Verb(
            "remove",
            "Takes a person out, with all sessions and tokens at once",
            async (parsed, client, cancel) =>
            {
                await client.DeleteAsync<object>($"people/{Uri.EscapeDataString(parsed.GetValue(name)!)}", cancel);
                Show.Line($"{parsed.GetValue(name)} may not sign in any more");
                return Root.Done;
            },
            name
        );
    }

    private static Command Password()
    {
        var fromInput = FromInput("Read the present and the new password from standard input, a line each");
        return Common.Verb(
            "password",
            "Changes your password; your sessions in browsers end, tokens stay",
            async (parsed, client, cancel) =>
            {
                var current = await AskAsync("Present password:", parsed.GetValue(fromInput), cancel);
                var next = await AskAsync("New password:", parsed.GetValue(fromInput), cancel);
                await client.PutAsync<object>("password", new PasswordRequest(current, next), cancel);
                Show.Line("The password is changed; browsers have to sign in again");
                return Root.Done;
            },
            fromInput
        );
    }

    private static Command ListSessions() =>
        Common.Verb("list", "The browsers in which you are signed in", async (parsed, client, cancel) =>
        {
            var sessions = await client.GetAsync<IReadOnlyList<BrowserSession>>("sessions", cancel);
            if (Common.AsJson(parsed))
                Show.Json(sessions);
            else
                Show.Table(
                    ["session", "from", "since", "last seen", "browser"],
                    sessions.Select(s => new[] { s.Id, s.Address, Show.When(s.Made), Show.When(s.LastSeen), s.Program }),
                    "no browser is signed in as you"
                );
            return Root.Done;
        });

    private static Command End()
    {
        var id = new Argument<string>("SESSION") { Description = "The session, as 'session list' shows it" };
        return Common.Verb(
            "end",
            "Ends a session at once",
            async (parsed, client, cancel) =>
            {
                await client.DeleteAsync<object>($"sessions/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                Show.Line("That session is over");
                return Root.Done;
            },
            id
        );
    }

    private static Option<bool> FromInput(string description) => new("--password-stdin") { Description = description };

    private static async Task<string> AskAsync(string prompt, bool fromInput, CancellationToken cancel) =>
        fromInput || Console.IsInputRedirected
            ? (await Console.In.ReadLineAsync(cancel) ?? "").TrimEnd('\r', '\n')
            : await new TextPrompt<string>(prompt).Secret().ShowAsync(AnsiConsole.Console, cancel);
}
