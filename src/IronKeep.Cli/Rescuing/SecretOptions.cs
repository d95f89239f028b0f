using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Spectre.Console;

namespace IronKeep.Cli.Rescuing;

/// <summary>What opens a store, given by file so that no secret stands on a command line; a passphrase may be typed instead.</summary>
internal static class SecretOptions
{
    private static readonly Option<string?> KeyFile = new("--key-file") { Description = "The file with the store's key" };
    private static readonly Option<string?> PassphraseFile = new("--passphrase-file")
    {
        Description = "A file with the passphrase; else it is asked for",
    };
    private static readonly Option<string?> RecoveryFile = new("--recovery-file")
    {
        Description = "A file with the code of the recovery sheet, or with all of its text",
    };

    public static IReadOnlyList<Option> All { get; } = [KeyFile, PassphraseFile, RecoveryFile];

    /// <summary>Opens the store in a folder, does something with it, and tells what stands in the way.</summary>
    public static int Open(ParseResult parsed, string folder, Func<PooledStore, int> action)
    {
        try
        {
            var place = new FolderPlace(Path.GetFullPath(folder));
            using var store = PooledStore.OpenToRead(place, Read(parsed, PooledStore.ReadHead(place).Encrypts));
            return action(store);
        }
        catch (StoreKeyException e)
        {
            throw new AnswerException(Root.Refused, e.Message);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new AnswerException(Root.Failed, e.Message);
        }
    }

    private static Secret? Read(ParseResult parsed, bool needed)
    {
        if (!needed)
            return null;
        if (parsed.GetValue(KeyFile) is { } key)
            return Secret.KeyFile(File.ReadAllBytes(key));
        if (parsed.GetValue(PassphraseFile) is { } phrase)
            return Secret.Passphrase(File.ReadAllText(phrase));
        if (parsed.GetValue(RecoveryFile) is { } code)
            return Secret.Recovery(RecoverySheet.CodeIn(File.ReadAllText(code)));
        if (Console.IsInputRedirected)
            throw new AnswerException(Root.Refused, "the store is encrypted; give --key-file, --passphrase-file or --recovery-file");
        return Secret.Passphrase(AnsiConsole.Prompt(new TextPrompt<string>("Passphrase of the store:").Secret(null)));
    }
}
