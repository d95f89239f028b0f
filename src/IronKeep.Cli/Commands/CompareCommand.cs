using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

internal static class CompareCommand
{
    private const int ShownCopies = 12;

    public static Command Make()
    {
        var first = new Argument<string>("A") { Description = "The one charter's file, or 'current' for the one in force" };
        var second = new Argument<string>("B") { Description = "The other charter's file, or - for standard input" };
        var dates = new Option<string[]>("--on")
        {
            Description = "Dates to look at; else in a week, a month, three months and a year",
            AllowMultipleArgumentsPerToken = true,
        };
        return Common.Verb(
            "compare",
            "Plays two charters over what exists, and says what each would keep",
            async (parsed, client, cancel) =>
            {
                var (a, b) = (parsed.GetValue(first)!, parsed.GetValue(second)!);
                var before = a == "current" ? null : (await CharterCommands.ReadAsync(a, cancel)).Yaml;
                var after =
                    b == "current"
                        ? (await client.GetAsync<CharterAnswer>("charter", cancel)).Yaml
                        : (await CharterCommands.ReadAsync(b, cancel)).Yaml;
                var answer = await client.PostAsync<ComparisonAnswer>(
                    "charter/compare",
                    new CompareRequest(
                        before,
                        after,
                        parsed.GetValue(dates) is { Length: > 0 } given ? [.. given.Select(Until.Read)] : null
                    ),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer, a, b);
                return answer.Changes.Count > 0 ? Root.Findings : Root.Done;
            },
            first,
            second,
            dates
        );
    }

    private static void Print(ComparisonAnswer answer, string a, string b)
    {
        CharterCommands.Print(new CharterDiffAnswer(0, answer.Changes, []), "the two say the same");
        if (answer.Changes.Count == 0)
            return;
        Show.Line();
        Show.Line(
            answer.AtOnce.Count == 0
                ? $"no copy that {a} keeps would expire at once under {b}"
                : $"{Counted.Of(answer.AtOnce.Count, "copy", "copies")} would expire at the first prune under {b}, and not under {a}:"
        );
        foreach (var c in answer.AtOnce.Take(ShownCopies))
            Show.Line($"  {c.CopyId}  {c.Job} in {c.Store}, taken {Show.When(c.Taken)}: {c.Reasons[^1]}");
        if (answer.AtOnce.Count > ShownCopies)
            Show.Line($"  and {answer.AtOnce.Count - ShownCopies} more");
        foreach (var date in answer.Dates)
        {
            Show.Line();
            Show.Line($"On {Show.When(date.At)[..10]}");
            Show.Table(
                ["  Job", "Store", $">Copies, {a}", $">{b}", $"Only under {a}", $"Only under {b}"],
                date.Places.Select(p =>
                    new[] { "  " + p.Job, p.Store, $"{p.Before}", $"{p.After}", Days(p.OnlyBefore), Days(p.OnlyAfter) }
                ),
                "  the same copies exist under both"
            );
            foreach (var s in date.Stores.Where(s => s.Before != s.After))
                Show.Line($"  store {s.Store}: {Show.Size(s.Before)} under {a}, {Show.Size(s.After)} under {b}");
        }
        foreach (var m in answer.Media.Where(m => (m.Before, m.ShortBefore) != (m.After, m.ShortAfter)))
            Show.Line(
                $"Rotation set {m.Set}: {Counted.Of(m.Before, "medium", "media")} written and {Counted.Of(m.ShortBefore, "night")} short "
                    + $"under {a}, {m.After} and {m.ShortAfter} under {b}"
            );
        foreach (var (findings, which) in new[] { (answer.OnlyBefore, a), (answer.OnlyAfter, b) })
        {
            if (findings.Count == 0)
                continue;
            Show.Line();
            Show.Line($"Only under {which}:");
            foreach (var f in findings)
                ForecastCommands.Finding(f);
        }
    }

    private static string Days(IReadOnlyList<DateTimeOffset> instants) =>
        instants.Count == 0
            ? "-"
            : string.Join(" ", instants.TakeLast(5).Select(i => Show.When(i)[..10]))
                + (instants.Count > 5 ? $" and {instants.Count - 5} more" : "");
}
