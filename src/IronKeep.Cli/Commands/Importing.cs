using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>Brings the machines of an inventory into the charter.</summary>
internal static class Importing
{
    public static Command Make()
    {
        var file = new Argument<string>("FILE")
        {
            Description = "The list: CSV with a header, or a JSON array of objects; '-' reads what an inventory's command writes",
        };
        var source = new Option<string>("--source")
        {
            Description = "What the list is called; machines that it brought before and has no more are those that go",
            DefaultValueFactory = _ => "inventory",
        };
        var columns = new Option<string[]>("--column")
        {
            Description = "KEY=COLUMN where a column is not called as the key is: name, site, owner, tags, importance",
        };
        var apply = new Option<bool>("--apply") { Description = "Do it; without it only what it would mean is shown" };
        var retire = new Option<string?>("--retire-until")
        {
            Description = "Retire the machines that go, and keep their copies until this day; without it they stay as they are",
        };
        var owner = new Option<string?>("--copies-owner") { Description = "With --retire-until: who decides about the copies" };
        var decide = new Option<string?>("--decide-by") { Description = "With --retire-until: by which day that is decided" };
        var confirm = CharterCommands.Confirm;
        return Common.Verb(
            "import",
            "Bring the machines of a list into the charter, again and again; shows first who comes, goes and changes",
            async (parsed, client, cancel) =>
            {
                RetireWords? words = null;
                if (parsed.GetValue(retire) is { } until)
                    words =
                        parsed.GetValue(owner) is { } who && parsed.GetValue(decide) is { } day
                            ? new RetireWords($"{DateTime.Now:yyyy-MM-dd}", until, who, day)
                            : throw new AnswerException(Root.NotUnderstood, "--retire-until goes with --copies-owner and --decide-by");
                var request = new ImportRequest(
                    (await CharterCommands.ReadAsync(parsed.GetValue(file)!, cancel)).Yaml,
                    parsed.GetValue(source)!,
                    ColumnsOf(parsed.GetValue(columns) ?? []),
                    words
                );
                var answer = await client.PostAsync<ImportAnswer>("machines-import/preview", request, cancel);
                if (answer.Mistakes.Count == 0 && parsed.GetValue(apply))
                    answer = await client.PostAsync<ImportAnswer>(
                        $"machines-import?revision={answer.Revision}&confirm={(parsed.GetValue(confirm) ? "true" : "false")}",
                        request,
                        cancel
                    );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer, parsed.GetValue(apply), words is not null);
                return answer.Mistakes.Count > 0 ? Root.NotUnderstood : Root.Done;
            },
            file,
            source,
            columns,
            apply,
            retire,
            owner,
            decide,
            confirm
        );
    }

    private static Dictionary<string, string> ColumnsOf(string[] given)
    {
        var columns = new Dictionary<string, string>();
        foreach (var pair in given)
        {
            if (pair.Split('=', 2) is not [{ Length: > 0 } key, { Length: > 0 } column])
                throw new AnswerException(Root.NotUnderstood, $"'{pair}' is not KEY=COLUMN");
            columns[key] = column;
        }
        return columns;
    }

    private static void Print(ImportAnswer answer, bool applied, bool retires)
    {
        foreach (var m in answer.Mistakes)
            Show.Line(m.Line > 0 ? $"{m.Line}: {m.About}: {m.Message}" : $"{m.About}: {m.Message}");
        if (answer.Mistakes.Count > 0)
            return;
        Show.Line(
            $"{Counted.Of(answer.Listed, "machine")} listed: {answer.Comes.Count} {(applied ? "came" : "would come")}, "
                + $"{answer.Changes.Count} {(applied ? "changed" : "would change")}, {answer.Goes.Count} not listed any more"
        );
        if (answer.NotUsed.Count > 0)
            Show.Line($"Nothing is made of {Counted.Of(answer.NotUsed.Count, "column")}: {string.Join(", ", answer.NotUsed)}");
        foreach (var name in answer.Comes)
            Show.Line($"  + {name}");
        foreach (var change in answer.Changes)
            Show.Line(
                $"  ~ {change.Machine}: "
                    + string.Join("; ", change.Fields.Select(f => $"{f.Field}: {f.Before ?? "(none)"} -> {f.After ?? "(none)"}"))
            );
        foreach (var name in answer.Goes)
            Show.Line(
                $"  - {name} {(retires ? applied ? "is retired" : "would be retired" : "stays as it is; retire it where it is gone")}"
            );
        foreach (var name in answer.Retired)
            Show.Line($"  ! {name} is listed although it is retired; take 'retired' out of the charter where it is back");
        CharterCommands.Print(new CharterDiffAnswer(answer.Revision, [], answer.Consequences) { Reach = answer.Reach }, "");
        if (!applied && answer.Comes.Count + answer.Changes.Count + (retires ? answer.Goes.Count : 0) > 0)
            Show.Line("Nothing was changed; do it with --apply.");
    }
}
