using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>What differs between two copies, as it was the day before.</summary>
internal static class CopyDifferences
{
    public static Command Make()
    {
        var one = CopyCommands.Id;
        var other = new Argument<string>("OTHER") { Description = "The copy to compare it with, in the same store" };
        var path = new Argument<string?>("PATH")
        {
            Description = "A folder in the copies; without it, the first folder in which they differ in more than one entry",
            Arity = ArgumentArity.ZeroOrOne,
        };
        return Common.Verb(
            "compare",
            "What differs in a folder between two copies; ends with 1 when anything does, or may",
            async (parsed, client, cancel) =>
            {
                var copy = await CopyCommands.FindAsync(client, parsed.GetValue(one)!, cancel);
                var with = Uri.EscapeDataString(parsed.GetValue(other)!);
                var at = parsed.GetValue(path);
                var found = await client.GetAsync<CopyDifferencesAnswer>(
                    $"{CopyCommands.At(copy, "differences")}&with={with}{(at is null ? "" : $"&path={Uri.EscapeDataString(at)}")}",
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(found);
                else
                    Print(found);
                return found.Entries.Count > 0 || found.Sums.Unreadable > 0 || !found.Complete ? Root.Findings : Root.Done;
            },
            one,
            other,
            path
        );
    }

    private static void Print(CopyDifferencesAnswer found)
    {
        Show.Line($"From {found.Before.Id}, taken {Show.When(found.Before.Taken)},");
        Show.Line($"to   {found.After.Id}, taken {Show.When(found.After.Taken)}, in {found.Path}:");
        var s = found.Sums;
        if (found.Entries.Count > 0)
            Show.Line(
                "  "
                    + Parts([
                        (s.Added, $"added ({Show.Size(s.AddedBytes)})"),
                        (s.Removed, $"removed ({Show.Size(s.RemovedBytes)})"),
                        (s.Changed, $"changed ({Show.Size(s.ChangedBytes)})"),
                        (s.Attributes, "only in owner, mode or time"),
                    ])
            );
        if (s.Unreadable > 0)
            Show.Line($"  {Counted.Of(s.Unreadable, "folder")} could not be read, because a listing is damaged");
        if (!found.Complete)
            Show.Line("  There is more than could be compared in ten seconds; compare a folder further down");
        Show.Table(
            ["change", ">before", ">after", "what differs below it", "name"],
            found.Entries.Select(e =>
                new[]
                {
                    e.Change,
                    SizeOf(e.KindBefore, e.SizeBefore),
                    SizeOf(e.KindAfter, e.SizeAfter),
                    e is { Change: "changed", KindAfter: "folder", KindBefore: "folder" } ? Below(e.Sums) : "",
                    (e.KindAfter ?? e.KindBefore) == "folder" ? e.Name + "/" : e.Name,
                }
            ),
            found.Complete ? $"nothing differs in {found.Path}" : $"nothing that differs was found in {found.Path} so far"
        );
    }

    private static string SizeOf(string? kind, long? size) =>
        kind is null ? "–"
        : kind is "file" or "folder" ? Show.Size(size ?? 0)
        : kind;

    private static string Below(DifferenceAnswer s) =>
        Parts([
            (s.Added, "added"),
            (s.Removed, "removed"),
            (s.Changed, "changed"),
            (s.Attributes, "in owner, mode or time"),
            (s.Unreadable, "not readable"),
        ]);

    private static string Parts(IEnumerable<(long Count, string Word)> parts) =>
        string.Join(", ", parts.Where(p => p.Count > 0).Select(p => $"{p.Count} {p.Word}"));
}
