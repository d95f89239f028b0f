using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class CopyCommands
{
    public static Command Make() =>
        Common.Noun(
            "copy",
            "What can be given back",
            [List(), One(), Browse(), CopyDifferences.Make(), Restore(), CopyExport.Make(), .. CopyCareCommands.All()]
        );

    internal static Argument<string> Id =>
        new("COPY")
        {
            Description = "The copy's id, ID@STORE where it is in several stores, or 'newest:JOB' for the newest good copy of a job",
        };

    private static Command List()
    {
        var job = new Option<string?>("--job") { Description = "Only of this job" };
        var store = new Option<string?>("--store") { Description = "Only in this store" };
        var machine = new Option<string?>("--machine") { Description = "Only of this machine" };
        var state = new Option<string?>("--state")
        {
            Description = "Only in this state: unchecked, sound, unsound, partial, missing, held, suspect or in-bin",
        };
        var since = new Option<string?>("--since") { Description = "Only taken from then on: a date, an instant, or '3 days' (ago)" };
        var until = new Option<string?>("--until") { Description = "Only taken before then, in the same forms" };
        var most = new Option<int>("--most") { Description = "How many", DefaultValueFactory = _ => 100 };
        return Common.Verb(
            "list",
            "Copies, newest first, those in the bin included",
            async (parsed, client, cancel) =>
            {
                var query = new List<string>();
                if (parsed.GetValue(job) is { } j)
                    query.Add($"job={Uri.EscapeDataString(j)}");
                if (parsed.GetValue(store) is { } s)
                    query.Add($"store={Uri.EscapeDataString(s)}");
                if (parsed.GetValue(machine) is { } m)
                    query.Add($"machine={Uri.EscapeDataString(m)}");
                if (parsed.GetValue(state) is { } word)
                    query.Add($"state={Uri.EscapeDataString(word)}");
                if (parsed.GetValue(since) is { } from)
                    query.Add($"since={Until.ReadPast(from).UtcDateTime:yyyy-MM-ddTHH:mm:ss.fffffffZ}");
                if (parsed.GetValue(until) is { } to)
                    query.Add($"until={Until.ReadPast(to).UtcDateTime:yyyy-MM-ddTHH:mm:ss.fffffffZ}");
                var copies = await client.ListAsync<CopyAnswer>($"copies?{string.Join('&', query)}", parsed.GetValue(most), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(copies);
                else
                    Show.Table(
                        ["copy", "job", "machine", "store", "taken", "kind", "state", "checked", ">items", ">size", ">stored", ""],
                        copies.Select(c =>
                            new[]
                            {
                                c.Id,
                                c.Job,
                                c.Machine,
                                c.Store,
                                Show.When(c.Taken),
                                c.Kind is { } kind ? Kebab.Of(kind) : "-",
                                c.State.Word(),
                                Show.When(c.CheckedAt),
                                $"{c.Items}",
                                Show.Size(c.Bytes),
                                Show.Size(c.StoredBytes),
                                c.BinnedAt is not null ? $"in the bin since {Show.When(c.BinnedAt)}"
                                : c.Hold is { Over: false } hold ? $"held until {Show.When(hold.Until)}"
                                : c.Doubt is not null ? "suspect"
                                : "",
                            }
                        ),
                        query.Count == 0
                            ? "no copies yet; run a job with 'ironkeep job run NAME'"
                            : "no copy fits; leave out one of the conditions"
                    );
                return Root.Done;
            },
            job,
            store,
            machine,
            state,
            since,
            until,
            most
        );
    }

    private static Command One()
    {
        var id = Id;
        return Common.Verb(
            "show",
            "One copy: where it lies, what it holds, who holds it",
            async (parsed, client, cancel) =>
            {
                var copy = await FindAsync(client, parsed.GetValue(id)!, cancel);
                if (Common.AsJson(parsed))
                {
                    Show.Json(copy);
                    return Root.Done;
                }
                Show.Line($"Copy {copy.Id} of {copy.Job} on {copy.Machine}, in store {copy.Store}");
                Show.Line($"  taken   {Show.When(copy.Taken)}, ended {Show.When(copy.Ended)}");
                if (copy.Kind is { } kind)
                    Show.Line($"  kind    {Kebab.Of(kind)}");
                if (copy.Hold is { Over: false } hold)
                    Show.Line($"  HELD    by {hold.By} until {Show.When(hold.Until)}: {hold.Reason}");
                if (copy.Doubt is not null)
                    Show.Line($"  SUSPECT {copy.Doubt}; confirm it with 'ironkeep run confirm {copy.RunId}'");
                Show.Line(
                    $"  state   "
                        + $"{copy.State.Word()}{(copy.CheckedAt is null ? "" : $", checked {Show.When(copy.CheckedAt)}")}"
                        + $"{(copy.BinnedAt is null ? "" : $"; in the bin since {Show.When(copy.BinnedAt)}")}"
                );
                Show.Line(
                    $"  holds   {Counted.Of(copy.Items, "item")}, {Show.Size(copy.Bytes)}; skipped {copy.Skipped}; "
                        + $"{Show.Size(copy.NewBytes)} were new, "
                        + $"{Show.Size(copy.StoredBytes)} stored"
                );
                foreach (var path in copy.Damage)
                    Show.Line($"  cannot be given back: {path}");
                if (copy.DamageCount > copy.Damage.Count)
                    Show.Line($"  and {copy.DamageCount - copy.Damage.Count} more");
                return copy.State is CopyState.Unsound or CopyState.Missing ? Root.Findings : Root.Done;
            },
            id
        );
    }

    private static Command Browse()
    {
        var id = Id;
        var path = new Argument<string?>("PATH")
        {
            Description = "A folder in the copy; without it, the first folder that holds more than one folder",
            Arity = ArgumentArity.ZeroOrOne,
        };
        return Common.Verb(
            "browse",
            "The entries of a folder in a copy",
            async (parsed, client, cancel) =>
            {
                var copy = await FindAsync(client, parsed.GetValue(id)!, cancel);
                var folder = await client.GetAsync<FolderAnswer>(
                    $"{At(copy, "entries")}{(parsed.GetValue(path) is { } at ? $"&path={Uri.EscapeDataString(at)}" : "")}",
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(folder);
                else
                    Show.Line(folder.Path);
                if (!Common.AsJson(parsed))
                    Show.Table(
                        ["mode", "owner", "group", ">size", "modified", "name"],
                        folder.Entries.Select(e =>
                            new[]
                            {
                                e.Mode,
                                e.Owner,
                                e.Group,
                                e.Kind == "folder" ? $"{Show.Size(e.Size)} in {e.Items}"
                                : e.Kind == "file" ? Show.Size(e.Size)
                                : e.Kind,
                                Show.When(e.Modified),
                                e.Kind == "folder" ? e.Name + "/"
                                : e.LinkTarget is null ? e.Name
                                : $"{e.Name} -> {e.LinkTarget}",
                            }
                        ),
                        $"{folder.Path} is empty"
                    );
                return Root.Done;
            },
            id,
            path
        );
    }

    private static Command Restore()
    {
        var id = Id;
        var paths = new Argument<string[]>("PATH")
        {
            Description = "Files or folders in the copy; all when none is given",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var to = new Option<string>("--to")
        {
            Description = "An absolute folder; paths are kept below it; '/' gives files back to where they came from",
            Required = true,
        };
        var machine = new Option<string?>("--machine")
        {
            Description = "The machine whose agent writes it; the service's own when not given",
        };
        var reason = new Option<string?>("--reason")
        {
            Description = "Why a copy of another machine is to be on that machine; needed for that",
        };
        var existing = new Option<string>("--existing")
        {
            Description = "What happens where a file exists already: keep (it stays and is reported), overwrite, or beside",
            DefaultValueFactory = _ => "keep",
        };
        return Common.Verb(
            "restore",
            "Gives back a copy, or some of its paths",
            async (parsed, client, cancel) =>
            {
                var copy = await FindAsync(client, parsed.GetValue(id)!, cancel);
                var run = await client.PostAsync<RunAnswer>(
                    At(copy, "restores"),
                    new RestoreRequest(
                        parsed.GetValue(paths) ?? [],
                        parsed.GetValue(to)!,
                        parsed.GetValue(existing),
                        parsed.GetValue(machine),
                        parsed.GetValue(reason)
                    ),
                    cancel
                );
                return await Watching.BegunAsync(parsed, client, run, cancel);
            },
            id,
            paths,
            to,
            machine,
            reason,
            existing,
            Watching.NoWait
        );
    }

    /// <summary>Where something is asked of one copy in the store in which it was found.</summary>
    internal static string At(CopyAnswer copy, string what) =>
        $"copies/{Uri.EscapeDataString(copy.Id)}/{what}?store={Uri.EscapeDataString(copy.Store)}";

    internal static async Task<CopyAnswer> FindAsync(Client.KeepClient client, string id, CancellationToken cancel)
    {
        const string newest = "newest:";
        if (!id.StartsWith(newest, StringComparison.Ordinal))
        {
            var (copy, store) = id.IndexOf('@', StringComparison.Ordinal) is var at and > 0
                ? (id[..at], $"?store={Uri.EscapeDataString(id[(at + 1)..])}")
                : (id, "");
            return await client.GetAsync<CopyAnswer>($"copies/{Uri.EscapeDataString(copy)}{store}", cancel);
        }
        // newest:JOB, or newest:JOB@MACHINE of one that is on several.
        var named = id[newest.Length..].Split('@', 2);
        var job = await client.GetAsync<JobAnswer>(JobCommands.At(named[0], named.ElementAtOrDefault(1)), cancel);
        return job.NewestGoodCopy
            ?? throw new Client.AnswerException(
                Root.Refused,
                $"job {job.Name} has no good copy; run it with 'ironkeep job run {job.Name}'"
            );
    }
}
