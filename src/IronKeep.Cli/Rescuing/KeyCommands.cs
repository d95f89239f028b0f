using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Pooled;

namespace IronKeep.Cli.Rescuing;

/// <summary>
/// The secrets that open an encrypted store; no data is written anew. A store is named as the charter names it, then the service
/// answers, or by its folder (with a slash), then no service is needed.
/// </summary>
internal static class KeyCommands
{
    private static readonly Argument<string> Store = new("STORE")
    {
        Description = "The store's name, or its folder (with a slash in it), which needs no service",
    };

    public static Command Make() => Common.Noun("key", "The secrets that open an encrypted store", List(), Add(), Withdraw());

    private static Command List() =>
        Verb(
            "list",
            "Which secrets open the store, without their content",
            (parsed, store) => Print(parsed, store.KeyWraps().Select(w => new StoreKeyAnswer(w.Id, w.Label, w.Kind, w.Made, false))),
            async (parsed, client, path, cancel) => Print(parsed, await client.GetAsync<IReadOnlyList<StoreKeyAnswer>>(path, cancel))
        );

    private static int Print(ParseResult parsed, IEnumerable<StoreKeyAnswer> keys)
    {
        if (Common.AsJson(parsed))
            Show.Json(keys);
        else
            Show.Table(
                ["id", "label", "kind", "made", ""],
                keys.Select(w =>
                    new[] { w.Id, w.Label, w.Kind.Replace('-', ' '), Show.When(w.Made), w.UsedByService ? "used by the service" : "" }
                ),
                "the store does not encrypt, so it has no keys"
            );
        return Root.Done;
    }

    private static Command Add()
    {
        var label = new Option<string>("--label") { Description = "What people call it", Required = true };
        var keyFile = new Option<string?>("--new-key-file")
        {
            Description = "A file of 16 bytes and more, best random, that opens the store from now on",
        };
        var phraseFile = new Option<string?>("--new-passphrase-file") { Description = "A file with another passphrase" };
        var sheet = new Option<string?>("--recovery-sheet")
        {
            Description = "Writes a new recovery sheet to this new file, to be printed and then removed",
        };
        return Verb(
            "add",
            "Lets another secret open the store",
            (parsed, store) =>
            {
                var (key, phrase, paper) = Chosen(parsed);
                var now = DateTimeOffset.UtcNow;
                var code = paper is null ? "" : RecoverySheet.NewCode();
                var secret =
                    key is not null ? Secret.KeyFile(File.ReadAllBytes(key))
                    : phrase is not null ? Secret.Passphrase(File.ReadAllText(phrase))
                    : Secret.Recovery(code);
                // The sheet first: a code that opens the store and stands nowhere would help nobody.
                if (paper is not null)
                    WriteAlone(paper, RecoverySheet.Text(parsed.GetValue(label)!, store.Head.Id, store.Place.Name, code, now));
                var wrap = store.AddKey(parsed.GetValue(label)!, secret, now);
                return Say(wrap.Kind, wrap.Label, wrap.Id, paper);
            },
            async (parsed, client, path, cancel) =>
            {
                if (Chosen(parsed).Paper is not { } paper)
                    throw new AnswerException(
                        Root.Refused,
                        "a key file or passphrase does not travel to the service; name the store by its folder, on the machine that has it"
                    );
                if (File.Exists(paper))
                    throw new AnswerException(Root.Refused, $"{paper} exists already; name a new file for the sheet");
                var made = await client.PostAsync<RecoverySheetAnswer>(
                    path + "/recovery-sheets",
                    new RecoverySheetRequest(parsed.GetValue(label)!),
                    cancel
                );
                WriteAlone(paper, made.Sheet);
                return Say(Secret.RecoverySheetKind, parsed.GetValue(label)!, made.Id, paper);
            },
            label,
            keyFile,
            phraseFile,
            sheet
        );

        (string? Key, string? Phrase, string? Paper) Chosen(ParseResult parsed)
        {
            var chosen = (parsed.GetValue(keyFile), parsed.GetValue(phraseFile), parsed.GetValue(sheet));
            return new[] { chosen.Item1, chosen.Item2, chosen.Item3 }.Count(o => o is not null) == 1
                ? chosen
                : throw new AnswerException(
                    Root.NotUnderstood,
                    "say what to add: --new-key-file FILE, --new-passphrase-file FILE or --recovery-sheet FILE"
                );
        }
    }

    private static int Say(string kind, string label, string id, string? paper)
    {
        Show.Line(
            $"The {kind.Replace('-', ' ')} '{label}' opens the store from now on (id {id})"
                + (paper is null ? "" : $"; print {paper}, lock it away, and remove the file")
        );
        return Root.Done;
    }

    private static Command Withdraw()
    {
        var id = new Argument<string>("ID") { Description = "As 'store key list' names it" };
        return Verb(
            "withdraw",
            "A secret opens the store no more; the last one is refused",
            (parsed, store) =>
            {
                store.WithdrawKey(parsed.GetValue(id)!);
                return Withdrawn();
            },
            async (parsed, client, path, cancel) =>
            {
                await client.DeleteAsync<IReadOnlyList<StoreKeyAnswer>>($"{path}/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                return Withdrawn();
            },
            id
        );

        static int Withdrawn()
        {
            Show.Line("withdrawn; whoever copied the store's folder before can still open that copy with it");
            return Root.Done;
        }
    }

    /// <summary>A new file that its owner alone may read.</summary>
    private static void WriteAlone(string path, string text)
    {
        using var file = new FileStream(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }
        );
        using var writer = new StreamWriter(file);
        writer.WriteLine(text);
    }

    private static Command Verb(
        string name,
        string description,
        Func<ParseResult, PooledStore, int> inFolder,
        Func<ParseResult, KeepClient, string, CancellationToken, Task<int>> byService,
        params Symbol[] symbols
    )
    {
        var command = new Command(name, description) { Store };
        foreach (var option in SecretOptions.All)
            command.Options.Add(option);
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
                var store = parsed.GetValue(Store)!;
                if (store.Contains('/', StringComparison.Ordinal))
                    return SecretOptions.Open(parsed, store, opened => inFolder(parsed, opened));
                using var client = Common.Client(parsed);
                return await byService(
                    parsed,
                    client,
                    string.Create(CultureInfo.InvariantCulture, $"stores/{Uri.EscapeDataString(store)}/keys"),
                    cancel
                );
            }
        );
        return command;
    }
}
