using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Rescuing;
using IronKeep.Cli.Shell;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class StoreCommands
{
    public static Command Make() =>
        Common.Noun(
            "store",
            "Where copies lie",
            List(),
            Begin("check", "Re-reads every byte of a store and compares it with what was written", "checks", Depth),
            Begin("reclaim", "Frees the bytes of copies whose time in the bin is over", "reclaims"),
            Begin("heal", "Brings back what damaged copies lack from the other stores that hold copies of the same jobs", "heals"),
            Attach(),
            KeyCommands.Make()
        );

    private static readonly Option<string?> Depth = MakeDepth();

    private static Option<string?> MakeDepth()
    {
        var option = new Option<string?>("--depth")
        {
            Description = "presence: is everything there; content: are the packs what was written (usual); deep: every chunk besides",
        };
        option.AcceptOnlyFromAmong("presence", "content", "deep");
        return option;
    }

    private static string Reading(StoreAnswer s) =>
        s.Reading is not { TotalBytes: > 0 } r ? "-" : $"{r.ReadWithin30DaysBytes * 100 / r.TotalBytes} %";

    private static Command List() =>
        Common.Verb("list", "All stores, with their room and their last verification", async (parsed, client, cancel) =>
        {
            var stores = await client.GetAsync<IReadOnlyList<StoreAnswer>>("stores", cancel);
            if (Common.AsJson(parsed))
                Show.Json(stores);
            else
                Show.Table(
                    [
                        "store",
                        "folder",
                        "state",
                        ">used",
                        ">free",
                        ">copies",
                        ">in the bin",
                        ">unsound",
                        ">missing",
                        ">read in 30 days",
                        "last check",
                        "encryption",
                    ],
                    stores.Select(s =>
                        new[]
                        {
                            s.Name,
                            s.Folder,
                            s.Reachable
                                ? s.NearlyFull
                                    ? "NEARLY FULL"
                                    : "reachable"
                                : "UNREACHABLE",
                            Show.Size(s.UsedBytes),
                            Show.Size(s.FreeBytes),
                            $"{s.Copies}",
                            $"{s.InBin}",
                            $"{s.Unsound}",
                            $"{s.Missing}",
                            Reading(s),
                            s.LastCheck is null ? "never" : $"{Show.Stands(s.LastCheck)} {Show.When(s.LastCheck.Ended)}",
                            s.Encryption ?? "-",
                        }
                    ),
                    "no stores yet; declare one in a charter"
                );
            foreach (var store in stores.Where(s => !s.Reachable))
                Show.Error($"{store.Name}: {store.Problem}");
            return stores.All(s => s.Reachable) ? Root.Done : Root.Findings;
        });

    private static Command Attach()
    {
        var folder = new Argument<string>("FOLDER") { Description = "The store's folder on the service's machine, an absolute path" };
        var name = new Option<string?>("--name") { Description = "What the charter calls it; else the folder's own name" };
        var key = new Option<string?>("--key-file") { Description = "The file on the service's machine with the store's key" };
        var phrase = new Option<string?>("--passphrase-file")
        {
            Description = "The file on the service's machine with the store's passphrase",
        };
        return Common.Verb(
            "attach",
            "Takes a store that lies in a folder into the charter, and what it holds into the catalogue",
            async (parsed, client, cancel) =>
            {
                var path = parsed.GetValue(folder)!;
                var answer = await client.PostAsync<AttachAnswer>(
                    "stores",
                    new AttachRequest(
                        parsed.GetValue(name) ?? Path.GetFileName(path.TrimEnd('/')),
                        path,
                        parsed.GetValue(key),
                        parsed.GetValue(phrase)
                    ),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Show.Line(
                        $"Store {answer.Store.Name} is attached: "
                            + $"{Counted.Of(answer.Store.Copies, "copy", "copies")}"
                            + $"{(answer.Store.InBin > 0 ? $" and {answer.Store.InBin} in the bin" : "")}, "
                            + $"{answer.Learned} of them new to the catalogue; 'ironkeep store check {answer.Store.Name}' reads them back"
                    );
                foreach (var problem in answer.Problems)
                    Show.Error(problem);
                return answer.Problems.Count == 0 ? Root.Done : Root.Findings;
            },
            folder,
            name,
            key,
            phrase
        );
    }

    private static Command Begin(string verb, string description, string path, Option<string?>? depth = null)
    {
        var name = CompletionCommand.Store(new Argument<string>("STORE") { Description = "The store's name" });
        return Common.Verb(
            verb,
            description,
            async (parsed, client, cancel) =>
            {
                var run = await client.PostAsync<RunAnswer>(
                    $"stores/{Uri.EscapeDataString(parsed.GetValue(name)!)}"
                        + $"/{path}{(depth is not null && parsed.GetValue(depth) is { } how ? $"?depth={how}" : "")}",
                    null,
                    cancel
                );
                return await Watching.BegunAsync(parsed, client, run, cancel);
            },
            depth is null ? [name, Watching.NoWait] : [name, depth, Watching.NoWait]
        );
    }
}
