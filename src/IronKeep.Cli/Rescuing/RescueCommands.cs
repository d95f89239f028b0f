using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Core.Quantities;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;

namespace IronKeep.Cli.Rescuing;

/// <summary>Reads a store in a folder with no service and no catalogue, and changes nothing in it.</summary>
internal static class RescueCommands
{
    private const int MostHits = 10_000;

    private static readonly Argument<string> Folder = new("FOLDER") { Description = "The store's folder" };
    private static readonly Argument<string> Copy = new("COPY") { Description = "The copy's id, or 'newest'" };

    public static Command Make()
    {
        var rescue = new Command(
            "rescue",
            "Opens a store with no service: list, browse, find, verify, restore, export. Nothing in the store is changed"
        )
        {
            Folder,
        };
        rescue.Subcommands.Add(List());
        rescue.Subcommands.Add(Browse());
        rescue.Subcommands.Add(Find());
        rescue.Subcommands.Add(Verify());
        rescue.Subcommands.Add(Restore());
        rescue.Subcommands.Add(Export());
        return rescue;
    }

    private static Command List() => Verb("list", "The copies in the store", (parsed, store, _) =>
        {
            var contents = store.ReadContents();
            if (Common.AsJson(parsed))
                Show.Json(
                    contents.Copies.Select(c => new ListedCopy(
                        c.Record.Id,
                        c.Record.Job,
                        c.Record.Machine,
                        c.Record.Taken,
                        c.Record.Items,
                        c.Record.Bytes,
                        c.Binned
                    ))
                );
            else
                Show.Table(
                    ["copy", "job", "machine", "taken", ">items", ">size", "in the bin since"],
                    contents.Copies.Select(c =>
                        new[]
                        {
                            c.Record.Id,
                            c.Record.Job,
                            c.Record.Machine,
                            Time(c.Record.Taken),
                            $"{c.Record.Items}",
                            Show.Size(c.Record.Bytes),
                            c.Binned is { } binned ? Time(binned) : "-",
                        }
                    ),
                    "the store holds no copy"
                );
            foreach (var damaged in contents.Damaged)
                Show.Error($"Copy {damaged.CopyId}: {damaged.Problem}");
            return contents.Damaged.Length > 0 ? Root.Findings : Root.Done;
        });

    private static Command Browse()
    {
        var path = new Argument<string>("PATH") { Description = "A folder in the copy", DefaultValueFactory = _ => "/" };
        return Verb(
            "browse",
            "What a folder of a copy holds",
            (parsed, store, _) =>
            {
                var record = Record(store, parsed);
                var entry = TreeWalk.Find(store, record, Names(parsed.GetValue(path)!))
                    ?? throw new AnswerException(
                        Root.Refused,
                        $"copy {record.Id} holds no '{parsed.GetValue(path)}'; begin with 'browse {record.Id} /'"
                    );
                var entries = entry.Kind == EntryKind.Folder ? store.EnumerateFolder(entry.Content) : [entry];
                if (Common.AsJson(parsed))
                    Show.Json(
                        entries.Select(e => new ListedEntry(
                            NameText.Show(e.Name),
                            Kebab.Of(e.Kind),
                            e.Size,
                            e.Modified.ToDateTimeOffset(),
                            Convert.ToString(e.Mode, 8),
                            e.Owner
                        ))
                    );
                else
                    Show.Table(
                        ["name", "kind", ">size", "modified", "mode", "owner"],
                        entries.Select(e =>
                            new[]
                            {
                                NameText.Show(e.Name),
                                Kebab.Of(e.Kind),
                                Show.Size(e.Size),
                                Time(e.Modified.ToDateTimeOffset()),
                                Convert.ToString(e.Mode, 8).PadLeft(4, '0'),
                                e.Owner.Length > 0 ? e.Owner : $"{e.User}",
                            }
                        ),
                        "the folder is empty"
                    );
                return Root.Done;
            },
            Copy,
            path
        );
    }

    private static Command Find()
    {
        var pattern = new Argument<string>("PATTERN")
        {
            Description = "A part of a name, or a pattern with * and ?; with a slash in it, of a path",
        };
        return Verb(
            "find",
            "Files and folders by name, in all copies",
            (parsed, store, cancel) =>
            {
                var search = new TreeSearch(store, parsed.GetValue(pattern)!, MostHits);
                var hits = store
                    .ReadContents()
                    .Copies.SelectMany(c => search.In(c.Record, cancel).Select(h => (Copy: c.Record, Hit: h)))
                    .GroupBy(h => h.Hit.Path)
                    .OrderBy(g => g.Key, StringComparer.Ordinal)
                    .ToList();
                if (Common.AsJson(parsed))
                    Show.Json(hits.Select(g => new ListedPath(g.Key, [.. g.Select(h => h.Copy.Id)])));
                else
                    Show.Table(
                        ["path", ">copies", "newest copy", ">size"],
                        hits.Select(g => new[] { g.Key, $"{g.Count()}", g.Last().Copy.Id, Show.Size(g.Last().Hit.Entry.Size) }),
                        "nothing of that name in any copy"
                    );
                return Root.Done;
            },
            pattern
        );
    }

    private static Command Verify()
    {
        var deep = new Option<bool>("--deep") { Description = "Decrypts, decompresses and hashes every chunk besides" };
        return Verb(
            "verify",
            "Re-reads every byte and compares it with what was written",
            (parsed, store, cancel) =>
            {
                var report = StoreCheck.Run(
                    store,
                    CheckScope.Everything with
                    {
                        OnlyLooks = true,
                        Depth = parsed.GetValue(deep) ? CheckDepth.Deep : CheckDepth.Content,
                    },
                    null,
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(report);
                else
                {
                    Show.Line(
                        $"{Counted.Of(report.Packs.Length, "pack")} ({new ByteSize(report.Bytes)}) read, "
                            + $"{Counted.Of(report.Whole.Length, "copy", "copies")} whole, {report.Copies.Length} hurt"
                    );
                    foreach (var pack in report.Damage)
                        Show.Line($"Pack {pack.Pack}: {pack.Problem}");
                    foreach (var copy in report.Copies)
                    {
                        Show.Line($"Copy {copy.CopyId} cannot give back {Counted.Of(copy.Count, "path")}:");
                        foreach (var path in copy.Paths)
                            Show.Line($"  {path}");
                        if (copy.Count > copy.Paths.Length)
                            Show.Line($"  and {copy.Count - copy.Paths.Length} more");
                    }
                    foreach (var file in report.Files)
                        Show.Line(file);
                }
                return report.Sound ? Root.Done : Root.Findings;
            },
            deep
        );
    }

    private static Command Restore()
    {
        var to = new Option<string>("--to") { Description = "The folder to restore below; it is made when missing", Required = true };
        var paths = new Argument<string[]>("PATHS")
        {
            Description = "Files and folders; everything when none is named",
            Arity = ArgumentArity.ZeroOrMore,
        };
        return Verb(
            "restore",
            "Brings files back below a folder",
            (parsed, store, cancel) =>
            {
                using var restorer = new TreeRestorer(store);
                var report = restorer.Restore(Record(store, parsed), parsed.GetValue(paths)!, parsed.GetValue(to)!, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(report);
                else
                {
                    foreach (var problem in report.Problems)
                        Show.Error($"{problem.Path}: {problem.Problem}");
                    Show.Line(
                        $"{Counted.Of(report.Files, "file")} ({new ByteSize(report.Bytes)}), {Counted.Of(report.Folders, "folder")} and "
                            + $"{Counted.Of(report.Links, "link")} restored to {parsed.GetValue(to)}"
                    );
                }
                return report.Problems.Count > 0 ? Root.Findings : Root.Done;
            },
            Copy,
            paths,
            to
        );
    }

    private static Command Export()
    {
        var paths = new Argument<string[]>("PATHS")
        {
            Description = "Files and folders; everything when none is named",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var tar = new Option<string?>("--tar")
        {
            Description = "A pax tar archive in this new file; - for standard output; compressed when it ends in .zst",
        };
        var bag = new Option<string?>("--bag") { Description = "A BagIt bag with SHA-256 manifests in this new folder" };
        return Verb(
            "export",
            "Writes a copy in an open format",
            (parsed, store, cancel) =>
                ExportWriter.Write(
                    store,
                    Record(store, parsed),
                    parsed.GetValue(paths)!,
                    parsed.GetValue(tar),
                    parsed.GetValue(bag),
                    cancel
                ),
            Copy,
            paths,
            tar,
            bag
        );
    }

    private static Command Verb(
        string name,
        string description,
        Func<ParseResult, PooledStore, CancellationToken, int> action,
        params Symbol[] symbols
    )
    {
        var command = new Command(name, description);
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
            (parsed, cancel) =>
                Task.FromResult(SecretOptions.Open(parsed, parsed.GetValue(Folder)!, store => action(parsed, store, cancel)))
        );
        return command;
    }

    private static CopyRecord Record(PooledStore store, ParseResult parsed)
    {
        var id = parsed.GetValue(Copy)!;
        return (id == "newest" ? store.ReadContents().Copies.LastOrDefault(c => c.Binned is null)?.Record : store.ReadRecord(id))
            ?? throw new AnswerException(Root.Refused, $"the store holds no copy '{id}'; 'ironkeep rescue FOLDER list' names them");
    }

    private static List<byte[]> Names(string path) =>
        NameText.ReadPath(path)
        ?? throw new AnswerException(Root.NotUnderstood, $"'{path}' cannot be read: a backslash must be doubled or begin \\xNN");

    private static string Time(DateTimeOffset time) =>
        time.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture);
}
