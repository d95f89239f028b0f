using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Contracts;

namespace IronKeep.Cli.Commands;

/// <summary>Writes a copy in an open format, through the service.</summary>
internal static class CopyExport
{
    public static Command Make()
    {
        var id = CopyCommands.Id;
        var paths = new Argument<string[]>("PATH")
        {
            Description = "Files or folders in the copy; all when none is given",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var tar = new Option<string?>("--tar")
        {
            Description =
                "A pax tar archive in this new file on the service's machine (an absolute path), compressed when it ends in .zst; - sends "
                + "it to standard output here",
        };
        var bag = new Option<string?>("--bag")
        {
            Description = "A BagIt bag with SHA-256 manifests in this new folder on the service's machine (an absolute path)",
        };
        return Common.Verb(
            "export",
            "Writes a copy, or some of its paths, in an open format",
            async (parsed, client, cancel) =>
            {
                var (file, folder, wanted) = (parsed.GetValue(tar), parsed.GetValue(bag), parsed.GetValue(paths) ?? []);
                if (file is null == folder is null)
                    throw new AnswerException(Root.NotUnderstood, "say what to write: --tar FILE or --bag FOLDER");
                var copy = await CopyCommands.FindAsync(client, parsed.GetValue(id)!, cancel);
                if (file == "-")
                {
                    await using var output = Console.OpenStandardOutput();
                    await client.GetBytesAsync(
                        $"{CopyCommands.At(copy, "archive")}&{string.Join('&', wanted.Select(p => $"path={Uri.EscapeDataString(p)}"))}",
                        output,
                        cancel
                    );
                    return Root.Done;
                }
                var run = await client.PostAsync<RunAnswer>(
                    CopyCommands.At(copy, "exports"),
                    new ExportRequest(wanted, file is null ? "bag" : "tar", file ?? folder!),
                    cancel
                );
                return await Watching.BegunAsync(parsed, client, run, cancel);
            },
            id,
            paths,
            tar,
            bag,
            Watching.NoWait
        );
    }
}
