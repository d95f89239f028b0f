using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

internal static class CharterCommands
{
    public static Command Make() =>
        Common.Noun(
            "charter",
            "The file that declares stores, policies and jobs",
            Check(),
            Diff(),
            Apply(),
            Export(),
            CompareCommand.Make(),
            AdoptCommand.Make()
        );

    private static Argument<string> File => new("FILE") { Description = "The charter's file, or - for standard input" };

    private static Command Check()
    {
        var file = File;
        return Common.Verb(
            "check",
            "Finds every mistake in a charter",
            async (parsed, client, cancel) =>
            {
                var name = parsed.GetValue(file)!;
                var answer = await client.PostAsync<CharterCheckAnswer>("charter/check", await ReadAsync(name, cancel), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else if (answer.Well)
                    Show.Line($"{name}: no mistakes");
                if (!Common.AsJson(parsed))
                    foreach (var n in answer.Notes)
                        Show.Line($"{name}:{n.Line}:{n.Column}: note: {n.About}: {n.Message}");
                if (!answer.Well && !Common.AsJson(parsed))
                    foreach (var m in answer.Mistakes)
                        Show.Line($"{name}:{m.Line}:{m.Column}: {m.About}: {m.Message}");
                return answer.Well ? Root.Done : Root.NotUnderstood;
            },
            file
        );
    }

    private static Command Diff()
    {
        var file = File;
        return Common.Verb(
            "diff",
            "Shows what a charter would change",
            async (parsed, client, cancel) =>
            {
                var answer = await client.PostAsync<CharterDiffAnswer>(
                    "charter/diff",
                    await ReadAsync(parsed.GetValue(file)!, cancel),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer, "changes nothing: it says what is in force");
                return answer.Changes.Count > 0 ? Root.Findings : Root.Done;
            },
            file
        );
    }

    internal static Option<bool> Confirm => new("--confirm") { Description = "Yes, what it means for copies is meant" };

    private static Command Apply()
    {
        var file = File;
        var confirm = Confirm;
        return Common.Verb(
            "apply",
            "Puts a charter in force, whole or not at all",
            async (parsed, client, cancel) =>
            {
                var text = await ReadAsync(parsed.GetValue(file)!, cancel);
                var before = await client.PostAsync<CharterDiffAnswer>("charter/diff", text, cancel);
                var answer = await client.PutAsync<CharterDiffAnswer>(
                    parsed.GetValue(confirm) ? "charter?confirm=true" : "charter",
                    text,
                    cancel,
                    $"\"r{before.Revision}\""
                );
                if (Common.AsJson(parsed))
                {
                    Show.Json(answer);
                    return Root.Done;
                }
                Print(answer, "changed nothing: this was in force already");
                if (answer.Changes.Count > 0)
                    Show.Line($"In force as revision {answer.Revision}");
                return Root.Done;
            },
            file,
            confirm
        );
    }

    private static Command Export() => Common.Verb("export", "Prints the charter in force", async (parsed, client, cancel) =>
        {
            var answer = await client.GetAsync<CharterAnswer>("charter", cancel);
            if (Common.AsJson(parsed))
                Show.Json(answer);
            else
                Console.Out.Write(answer.Yaml);
            return Root.Done;
        });

    internal static void Print(CharterDiffAnswer answer, string nothing)
    {
        if (answer.Changes.Count == 0 && nothing.Length > 0)
            Show.Line(nothing);
        foreach (var means in answer.Consequences)
            Show.Line($"COPIES   {means}");
        foreach (var change in answer.Changes)
        {
            Show.Line($"{change.Change.Word(), -8} {change.Object} {change.Name}");
            foreach (var field in change.Fields)
                Show.Line($"           {field.Field}: {field.Before ?? "(none)"} -> {field.After ?? "(none)"}");
        }
        // A job on one machine that changes as its own text does needs no second word.
        Print([
            .. answer.Reach.Where(r => r.Count != 1 || r.LetsGo != 0 || !answer.Changes.Any(c => c.Object == "job" && c.Name == r.Job)),
        ]);
    }

    /// <summary>Which jobs change on which machines, where that is more than the difference itself says.</summary>
    private static void Print(IReadOnlyList<ReachAnswer> reach)
    {
        foreach (var r in reach)
        {
            var on = Counted.Named(r.Machines, r.Count);
            Show.Line(
                r.Change switch
                {
                    ChangeKind.Added => $"MACHINES job {r.Job} takes {on}",
                    ChangeKind.Removed => $"MACHINES job {r.Job} leaves {on}",
                    _ => $"MACHINES job {r.Job} changes on {on}",
                }
            );
            foreach (var field in r.Fields)
                Show.Line($"           {field.Field}: {field.Before ?? "(none)"} -> {field.After ?? "(none)"}");
            if (r.LetsGo is null)
                Show.Line("           Its copies are too many to be judged while you wait; look at 'ironkeep prune plan' afterwards.");
            else if (r.LetsGo > 0)
                Show.Line($"           {Counted.Of(r.LetsGo.Value, "copy", "copies")} would go");
        }
    }

    internal static async Task<CharterText> ReadAsync(string file, CancellationToken cancel)
    {
        try
        {
            return new CharterText(
                file == "-" ? await Console.In.ReadToEndAsync(cancel) : await System.IO.File.ReadAllTextAsync(file, cancel)
            );
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new AnswerException(Root.NotUnderstood, $"the charter {file} cannot be read: {e.Message}");
        }
    }
}
