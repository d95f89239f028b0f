using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>Media that take turns.</summary>
internal static class RotationCommands
{
    public static Command Make()
    {
        var rotation = new Command("rotation", "Media that take turns: whose turn it is, what a set needs, and ready schemes");
        rotation.Subcommands.Add(Tonight());
        rotation.Subcommands.Add(Calendar());
        rotation.Subcommands.Add(Needs());
        rotation.Subcommands.Add(Schemes());
        rotation.Subcommands.Add(Scheme());
        return rotation;
    }

    /// <summary>Ends with findings where a night of the two has no free medium.</summary>
    private static Command Tonight() =>
        Common.Verb("tonight", "Which medium each set takes tonight and tomorrow, as its calendar plays", async (parsed, client, cancel) =>
        {
            var sets = await client.GetAsync<IReadOnlyList<RotationAnswer>>("rotations?nights=2", cancel);
            if (Common.AsJson(parsed))
                Show.Json(sets);
            else
                Show.Table(
                    ["Set", "Tonight", "Tomorrow", "Why tonight"],
                    sets.Select(s => new[] { s.Set, Medium(s.Nights, 0), Medium(s.Nights, 1), s.Nights is [var n, ..] ? n.Why : "" }),
                    None
                );
            return sets.Any(s => s.Nights.Any(n => n.Short)) ? Root.Findings : Root.Done;
        });

    private static Command Calendar()
    {
        var name = new Argument<string>("SET") { Description = "Which rotation set" };
        var nights = new Option<int>("--nights") { Description = "How many nights to show", DefaultValueFactory = _ => 28 };
        var first = new Option<string?>("--first") { Description = "From which night on, such as 2026-12-01; tonight unless said" };
        return Common.Verb(
            "calendar",
            "The medium of every night of a set as its calendar plays, and until when it is protected then",
            async (parsed, client, cancel) =>
            {
                var from = parsed.GetValue(first) is { } date ? $"&first={Uri.EscapeDataString(date)}" : "";
                var path = string.Create(CultureInfo.InvariantCulture, $"rotations?nights={parsed.GetValue(nights)}{from}");
                var sets = await client.GetAsync<IReadOnlyList<RotationAnswer>>(path, cancel);
                var asked = parsed.GetValue(name);
                if (sets.FirstOrDefault(s => s.Set == asked) is not { } set)
                    throw new AnswerException(
                        Root.Refused,
                        sets.Count == 0
                            ? None
                            : $"there is no rotation set '{asked}'; there are {string.Join(", ", sets.Select(s => s.Set))}"
                    );
                if (Common.AsJson(parsed))
                    Show.Json(set);
                else
                    Show.Table(
                        ["Night", "Medium", "Protected until", "Why"],
                        set.Nights.Select(n =>
                            new[]
                            {
                                Day(n),
                                n.Short ? "none is free" : n.Medium ?? "-",
                                n.ProtectedUntil is { } until ? Show.When(until)
                                : n.Medium is null ? ""
                                : "always",
                                n.Why,
                            }
                        ),
                        "the set begins later"
                    );
                return set.Nights.Any(n => n.Short) ? Root.Findings : Root.Done;
            },
            name,
            first,
            nights
        );
    }

    private static Command Needs() =>
        Common.Verb("needs", "How many media each group has and how many would be enough", async (parsed, client, cancel) =>
        {
            var sets = await client.GetAsync<IReadOnlyList<RotationAnswer>>("rotations?nights=1", cancel);
            if (Common.AsJson(parsed))
                Show.Json(sets);
            else
                Show.Table(
                    ["Set", "Group", ">Has", ">Enough", "How"],
                    sets.SelectMany(s =>
                        s.Groups.Select(g => new[] { s.Set, g.Group, $"{g.Has}", g.Enough is { } n ? $"{n}" : "none is", g.How })
                    ),
                    None
                );
            return sets.Any(s => s.Groups.Any(g => g.Enough is not { } n || g.Has < n)) ? Root.Findings : Root.Done;
        });

    private const string None = "no rotation set is declared; 'ironkeep rotation schemes' lists ready ones";

    private static string Medium(IReadOnlyList<NightAnswer> nights, int at) =>
        nights.Count <= at ? "has not begun"
        : nights[at].Short ? "none is free"
        : nights[at].Medium is not { } medium ? "-"
        : nights[at].Appends ? $"{medium}, goes on"
        : medium;

    private static string Day(NightAnswer night) =>
        DateTime.Parse(night.Date, CultureInfo.InvariantCulture).ToString("ddd d MMM", CultureInfo.InvariantCulture);

    private static Command Schemes() =>
        Common.Verb("schemes", "Disciplines of rotation media that are ready to start from", async (parsed, client, cancel) =>
        {
            var schemes = await client.GetAsync<IReadOnlyList<SchemeAnswer>>("rotations/schemes", cancel);
            if (Common.AsJson(parsed))
                Show.Json(schemes);
            else
                foreach (var scheme in schemes)
                {
                    Show.Line($"{scheme.Name}: {scheme.Words}");
                    foreach (var n in scheme.Numbers)
                        Show.Line($"    {n.Name}={n.Usual}  {n.Words} ({n.Least} to {n.Most})");
                    Show.Line();
                }
            return Root.Done;
        });

    private static Command Scheme()
    {
        var name = new Argument<string>("SCHEME") { Description = "Which scheme, as 'ironkeep rotation schemes' lists them" };
        var set = new Option<string>("--set") { Description = "The name of the rotation set to come, such as ferry", Required = true };
        var start = new Option<string?>("--start") { Description = "When a night's run begins; 20:00 unless said" };
        var first = new Option<string?>("--first") { Description = "The first night, such as 2026-12-01; tonight unless said" };
        var numbers = new Option<string[]>("--with")
        {
            Description = "A number of the scheme that is not to be the usual, such as weeks=5; may be given again",
        };
        var nights = new Option<int>("--nights") { Description = "How many nights to show", DefaultValueFactory = _ => 28 };
        var add = new Option<bool>("--add") { Description = "Bring the set into the charter" };
        return Common.Verb(
            "scheme",
            "What a ready scheme would be: its groups, nights, how many media it needs and how far back they reach",
            async (parsed, client, cancel) =>
            {
                var request = new SchemeRequest(
                    parsed.GetValue(set)!,
                    parsed.GetValue(start),
                    parsed.GetValue(first),
                    Numbers(parsed.GetValue(numbers) ?? [])
                );
                var path = $"rotations/schemes/{Uri.EscapeDataString(parsed.GetValue(name)!)}";
                var shown = string.Create(CultureInfo.InvariantCulture, $"{path}/preview?nights={parsed.GetValue(nights)}");
                var play = await client.PostAsync<SchemePlayAnswer>(shown, request, cancel);
                if (play.Mistakes.Count == 0 && parsed.GetValue(add))
                    await client.PostAsync<SchemePlayAnswer>(path, request, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(play);
                else
                    Print(play, request.Set, parsed.GetValue(add));
                return play.Mistakes.Count > 0 ? Root.NotUnderstood : Root.Done;
            },
            name,
            set,
            start,
            first,
            numbers,
            nights,
            add
        );
    }

    private static Dictionary<string, int> Numbers(string[] given)
    {
        var numbers = new Dictionary<string, int>();
        foreach (var text in given)
            if (
                text.Split('=') is [var name, var value]
                && int.TryParse(value, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            )
                numbers[name.Trim()] = number;
            else
                throw new AnswerException(Root.NotUnderstood, $"'{text}' is not a number of a scheme; write it as weeks=5");
        return numbers;
    }

    private static void Print(SchemePlayAnswer play, string set, bool added)
    {
        foreach (var mistake in play.Mistakes)
            Show.Line(mistake);
        if (play.Mistakes.Count > 0)
            return;
        Show.Table(
            ["Group", "Takes", ">Media", "Named", "Protected for", "Filled for"],
            play.Groups.Select(g =>
                new[]
                {
                    g.Group,
                    g.Serves,
                    $"{g.Media.Count}",
                    g.Media.Count == 1 ? g.Media[0] : $"{g.Media[0]} to {g.Media[^1]}",
                    g.ProtectedFor,
                    g.FillWindow,
                }
            ),
            "no groups"
        );
        Show.Line();
        Show.Table(
            ["Night", "Medium", ""],
            play.Nights.Select(n =>
                new[]
                {
                    Day(n),
                    n.Medium ?? "-",
                    n.Medium is null ? "nothing is written"
                    : n.Appends ? "goes on"
                    : "begun anew",
                }
            ),
            "no nights"
        );
        Show.Line();
        Show.Line($"It needs {Counted.Of(play.Media, "medium", "media")}.");
        Show.Line(
            $"Once each has had its turn, they always hold {Counted.Of(play.Points, "night")} or more, the oldest at least "
                + $"{Counted.Of(play.ReachDays, "day")} back."
        );
        Show.Line(added ? $"Rotation set {set} is in the charter." : "Add --add to bring it into the charter. As the charter's text:");
        if (!added)
        {
            Show.Line();
            Show.Line(play.Yaml.TrimEnd());
        }
    }
}
