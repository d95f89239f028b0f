using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>Single objects of the charter, read and changed one by one.</summary>
internal static class DefinitionCommands
{
    public static Command Make() =>
        Common.Noun(
            "definition",
            "Single objects of the charter: stores, policies, channels, jobs, settings",
            List(),
            One(),
            Set(),
            Remove()
        );

    private static Argument<string> Kind =>
        new("KIND") { Description = "store, policy, channel, job, or settings (whose name is 'charter')" };
    private static Argument<string> Name => new("NAME") { Description = "The object's name" };

    private static Command List() => Common.Verb("list", "Every object of the charter in force", async (parsed, client, cancel) =>
        {
            var all = await client.GetAsync<IReadOnlyList<DefinitionAnswer>>("definitions", cancel);
            if (Common.AsJson(parsed))
                Show.Json(all);
            else
                Show.Table(
                    ["kind", "name", "fields"],
                    all.Select(d =>
                        new[] { d.Kind, d.Name, string.Join("; ", d.Fields.Select(f => $"{f.Key}: {string.Join(", ", f.Value)}")) }
                    ),
                    "nothing is declared yet"
                );
            return Root.Done;
        });

    private static Command One()
    {
        var (kind, name) = (Kind, Name);
        return Common.Verb(
            "show",
            "One object, as it stands in the charter",
            async (parsed, client, cancel) =>
            {
                var found = await client.GetAsync<DefinitionAnswer>(PathOf(parsed.GetValue(kind)!, parsed.GetValue(name)!), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(found);
                else
                    Console.Out.Write(found.Yaml);
                return Root.Done;
            },
            kind,
            name
        );
    }

    private static Command Set()
    {
        var (kind, name) = (Kind, Name);
        var fields = new Argument<string[]>("FIELD=VALUE")
        {
            Description = "Fields to set; a list has its values one after the other, FIELD=A FIELD=B; FIELD= takes the field out",
            Arity = ArgumentArity.OneOrMore,
        };
        var make = new Option<bool>("--new") { Description = "Make a new object; without it one that is there is changed" };
        var dry = new Option<bool>("--dry-run") { Description = "Only show what it would mean" };
        var confirm = CharterCommands.Confirm;
        return Common.Verb(
            "set",
            "Changes fields of one object, or makes a new one",
            async (parsed, client, cancel) =>
            {
                var path = PathOf(parsed.GetValue(kind)!, parsed.GetValue(name)!);
                var before = parsed.GetValue(make) ? null : await ThereAsync(client, path, cancel);
                var request = new DefinitionRequest(Merge(before?.Fields, parsed.GetValue(fields)!));
                if (parsed.GetValue(dry))
                    return Preview(parsed, await client.PostAsync<PreviewAnswer>(path + "/preview", request, cancel));
                var answer = await client.PutAsync<CharterDiffAnswer>(
                    parsed.GetValue(confirm) ? path + "?confirm=true" : path,
                    request,
                    cancel,
                    before?.Tag ?? "*"
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    CharterCommands.Print(answer, "changed nothing: this was in force already");
                return Root.Done;
            },
            kind,
            name,
            fields,
            make,
            dry,
            confirm
        );
    }

    private static async Task<DefinitionAnswer> ThereAsync(KeepClient client, string path, CancellationToken cancel)
    {
        try
        {
            return await client.GetAsync<DefinitionAnswer>(path, cancel);
        }
        catch (AnswerException e) when (e.Code == ProblemCodes.NotThere)
        {
            throw new AnswerException(e.ExitCode, $"{e.Message}, or make a new one with --new", code: e.Code);
        }
    }

    private static Command Remove()
    {
        var (kind, name, confirm) = (Kind, Name, CharterCommands.Confirm);
        return Common.Verb(
            "remove",
            "Takes one object out of the charter; copies stay where they are",
            async (parsed, client, cancel) =>
            {
                var path = PathOf(parsed.GetValue(kind)!, parsed.GetValue(name)!);
                var before = await client.GetAsync<DefinitionAnswer>(path, cancel);
                var answer = await client.DeleteAsync<CharterDiffAnswer>(
                    parsed.GetValue(confirm) ? path + "?confirm=true" : path,
                    cancel,
                    before.Tag
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    CharterCommands.Print(answer, "changed nothing");
                return Root.Done;
            },
            kind,
            name,
            confirm
        );
    }

    private static int Preview(ParseResult parsed, PreviewAnswer preview)
    {
        if (Common.AsJson(parsed))
        {
            Show.Json(preview);
            return preview.Mistakes.Count == 0 ? Root.Done : Root.NotUnderstood;
        }
        foreach (var m in preview.Mistakes)
            Show.Line($"{m.About}{(m.Field is null ? "" : $", {m.Field}")}: {m.Message}");
        if (preview.Mistakes.Count > 0)
            return Root.NotUnderstood;
        CharterCommands.Print(
            new CharterDiffAnswer(0, preview.Changes, preview.Consequences) { Reach = preview.Reach },
            "would change nothing"
        );
        if (preview.Machines is { } machines)
            Show.Line(
                machines.Count == 0
                    ? "  takes no machine"
                    : $"  takes {Counted.Of(machines.Count, "machine")}: {string.Join(", ", machines)}"
            );
        foreach (var due in preview.NextDue)
            Show.Line($"  due {Show.Zoned(due.Local)}   {due.Utc:yyyy-MM-dd HH:mm}Z");
        if (preview.SteadyState is { } keeps)
            Show.Line($"  {keeps}");
        foreach (var p in preview.Paths)
            Show.Line(
                p.Exists
                    ? $"  {p.Path}: {(p.Counted ? "" : "more than ")}{p.Items} files, {Show.Size(p.Bytes)}"
                    : $"  {p.Path} does not exist"
            );
        foreach (var p in preview.Policies)
            Show.Line($"  {p.Job} in {p.Store}: {p.Keeps} copies stay, {p.Expires} would go");
        if (preview.RoomBytes is { } room)
            Show.Line($"  room on its file system: {Show.Size(room)}");
        return Root.Done;
    }

    private static Dictionary<string, IReadOnlyList<string>> Merge(
        IReadOnlyDictionary<string, IReadOnlyList<string>>? before,
        string[] given
    )
    {
        var merged = before?.ToDictionary(f => f.Key, f => f.Value) ?? [];
        foreach (var group in given.GroupBy(g => g.Split('=')[0]))
        {
            if (group.Any(g => !g.Contains('=', StringComparison.Ordinal)))
                throw new AnswerException(Root.NotUnderstood, $"'{group.First()}' is not FIELD=VALUE");
            var values = group.Select(g => g[(g.IndexOf('=', StringComparison.Ordinal) + 1)..]).Where(v => v.Length > 0).ToList();
            if (values.Count == 0)
                merged.Remove(group.Key);
            else
                merged[group.Key] = values;
        }
        return merged;
    }

    private static string PathOf(string kind, string name) => $"definitions/{Uri.EscapeDataString(kind)}/{Uri.EscapeDataString(name)}";
}
