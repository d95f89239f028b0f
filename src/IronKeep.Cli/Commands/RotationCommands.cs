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
        var rotation = new Command("rotation", "Media that take turns: ready schemes to start from");
        rotation.Subcommands.Add(Schemes());
        rotation.Subcommands.Add(Scheme());
        return rotation;
    }

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
                    DateTime.Parse(n.Date, CultureInfo.InvariantCulture).ToString("ddd d MMM", CultureInfo.InvariantCulture),
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
