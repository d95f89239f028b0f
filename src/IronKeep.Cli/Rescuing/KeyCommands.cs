using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Pooled;

namespace IronKeep.Cli.Rescuing;

/// <summary>The secrets that open an encrypted store, worked on in its folder: no data is written anew, and no service is needed.</summary>
internal static class KeyCommands
{
    private static readonly Argument<string> Folder = new("FOLDER") { Description = "The store's folder" };

    public static Command Make() => Common.Noun("key", "The secrets that open an encrypted store", List(), Add(), Withdraw());

    private static Command List() => Verb("list", "Which secrets open the store, without their content", (parsed, store) =>
    {
        var wraps = store.KeyWraps().Select(w => new { w.Id, w.Label, w.Kind, w.Made });
        if (Common.AsJson(parsed)) Show.Json(wraps);
        else Show.Table(["id", "label", "kind", "made"], wraps.Select(w => new[] { w.Id, w.Label, w.Kind.Replace('-', ' '), $"{w.Made.UtcDateTime:yyyy-MM-dd HH:mm}Z" }), "the store does not encrypt, so it has no keys");
        return Root.Done;
    });

    private static Command Add()
    {
        var label = new Option<string>("--label") { Description = "What people call it", Required = true };
        var keyFile = new Option<string?>("--new-key-file") { Description = "A file of 16 bytes and more, best random, that opens the store from now on" };
        var phraseFile = new Option<string?>("--new-passphrase-file") { Description = "A file with another passphrase" };
        var sheet = new Option<string?>("--recovery-sheet") { Description = "Writes a new recovery sheet to this new file, to be printed and then removed" };
        return Verb("add", "Lets another secret open the store", (parsed, store) =>
        {
            var (key, phrase, paper) = (parsed.GetValue(keyFile), parsed.GetValue(phraseFile), parsed.GetValue(sheet));
            if (new[] { key, phrase, paper }.Count(o => o is not null) != 1) throw new AnswerException(Root.NotUnderstood, "say what to add: --new-key-file FILE, --new-passphrase-file FILE or --recovery-sheet FILE");
            var now = DateTimeOffset.UtcNow;
            var code = paper is null ? "" : RecoverySheet.NewCode();
            var secret = key is not null ? Secret.KeyFile(File.ReadAllBytes(key)) : phrase is not null ? Secret.Passphrase(File.ReadAllText(phrase)) : Secret.Recovery(code);
            // The sheet first: a code that opens the store and stands nowhere would help nobody.
            if (paper is not null) WriteAlone(paper, RecoverySheet.Text(parsed.GetValue(label)!, store.Head.Id, store.Place.Name, code, now));
            var wrap = store.AddKey(parsed.GetValue(label)!, secret, now);
            Show.Line($"the {wrap.Kind.Replace('-', ' ')} '{wrap.Label}' opens the store from now on (id {wrap.Id})" + (paper is null ? "" : $"; print {paper}, lock it away, and remove the file"));
            return Root.Done;
        }, label, keyFile, phraseFile, sheet);
    }

    private static Command Withdraw()
    {
        var id = new Argument<string>("ID") { Description = "As 'store key list' names it" };
        return Verb("withdraw", "A secret opens the store no more; the last one is refused", (parsed, store) =>
        {
            store.WithdrawKey(parsed.GetValue(id)!);
            Show.Line("withdrawn; whoever copied the store's folder before can still open that copy with it");
            return Root.Done;
        }, id);
    }

    /// <summary>A new file that its owner alone may read.</summary>
    private static void WriteAlone(string path, string text)
    {
        using var file = new FileStream(path, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite });
        using var writer = new StreamWriter(file);
        writer.WriteLine(text);
    }

    private static Command Verb(string name, string description, Func<ParseResult, PooledStore, int> action, params Symbol[] symbols)
    {
        var command = new Command(name, description) { Folder };
        foreach (var option in SecretOptions.All) command.Options.Add(option);
        foreach (var symbol in symbols)
        {
            if (symbol is Option option) command.Options.Add(option);
            if (symbol is Argument argument) command.Arguments.Add(argument);
        }
        command.SetAction((parsed, _) => Task.FromResult(SecretOptions.Open(parsed, parsed.GetValue(Folder)!, store => action(parsed, store))));
        return command;
    }
}
