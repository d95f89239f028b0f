using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Rotation;
using IronKeep.Yaml;
using NodaTime.Text;

namespace IronKeep.Cli.Trying;

internal static class TryRotation
{
    internal sealed record ShortageLine(string? FirstFree, string? At);

    internal sealed record NightLine(string Date, string? Group, string? Medium, string? ProtectedUntil, ShortageLine? Shortage);

    internal sealed record Answer(IReadOnlyList<NightLine> Nights, string? FirstShortage);

    private const int MostNights = 3660;

    public static Command Make()
    {
        var setOption = new Option<string>("--set")
        {
            Description =
                "The rotation set's YAML file: start, and groups with name, serves, media, protected-for, fill-window, run-length; - for "
                + "standard input",
            Required = true,
        };
        var firstOption = new Option<string>("--first") { Description = "The first night, such as 2026-12-01", Required = true };
        var nightsOption = new Option<int>("--nights")
        {
            Description = $"How many nights to play, at most {MostNights}",
            DefaultValueFactory = _ => 366,
        };
        var zoneOption = TryCommands.ZoneOption;
        var command = new Command("rotation", "Shows the medium of every night, and when one will be missing")
        {
            setOption,
            zoneOption,
            firstOption,
            nightsOption,
        };
        command.SetAction(parsed =>
        {
            var set = ReadSet(parsed.GetValue(setOption)!);
            var zone = TryCommands.Zone(parsed.GetValue(zoneOption)!);
            var first = TryCommands.Date(parsed.GetValue(firstOption)!);
            var count = parsed.GetValue(nightsOption);
            if (count is < 1 or > MostNights)
                throw TryCommands.NotUnderstood($"--nights goes from 1 to {MostNights}");
            var nights = RotationRules.Play(set, zone, first, count);
            var lines = nights
                .Select(n => new NightLine(
                    LocalDatePattern.Iso.Format(n.Date),
                    n.Group,
                    n.Medium,
                    n.Medium is null ? null
                        : n.ProtectedUntil is { } until ? TryCommands.Utc(until)
                        : "always",
                    n.Shortage is { } s ? new ShortageLine(s.FirstFree, s.At is { } at ? TryCommands.Utc(at) : null) : null
                ))
                .ToList();
            var shortNight = lines.FirstOrDefault(l => l.Shortage is not null);
            if (Common.AsJson(parsed))
                Show.Json(new Answer(lines, shortNight?.Date));
            else
            {
                Show.Table(
                    ["Night", "Group", "Medium", "Protected until", "Why"],
                    nights.Zip(lines, (n, l) =>
                        new[]
                        {
                            l.Date,
                            l.Group ?? "-",
                            l.Medium ?? (l.Shortage is null ? "-" : "none free"),
                            n.ProtectedUntil is { } until ? Show.Zoned(TryCommands.Local(until, zone)) : l.ProtectedUntil ?? "-",
                            n.Why,
                        }
                    ),
                    "no nights"
                );
                Show.Line(
                    shortNight is null
                        ? "no night is short of media"
                        : $"short of media first on {shortNight.Date}, in group {shortNight.Group}"
                );
                foreach (var enough in set.Groups.Select(g => (Group: g, Enough: EnoughMedia.For(set, g, zone, first))))
                    Show.Line(
                        $"{enough.Group.Name}: has {enough.Group.Media.Length}, "
                            + $"{(enough.Enough.Count is { } n ? $"{n} would be enough" : "no number would be enough")} "
                            + $"({enough.Enough.How})"
                    );
            }
            return shortNight is null ? Root.Done : Root.Findings;
        });
        return command;
    }

    private static RotationSet ReadSet(string file)
    {
        var (root, problem) = CharterYaml.ReadNodes(TryCommands.Read(file));
        var mistakes = new List<Mistake>();
        RotationSet? set = null;
        if (root is null)
            mistakes.Add(problem!);
        else
        {
            (set, var found) = RotationReader.Read(root);
            mistakes.AddRange(found);
        }
        return set
            ?? throw new AnswerException(
                Root.NotUnderstood,
                $"the rotation set {file} has mistakes",
                [.. mistakes.Select(m => new MistakeAnswer(m.Line, m.Column, m.About, m.Message))]
            );
    }
}
