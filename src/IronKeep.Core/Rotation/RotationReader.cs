using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>
/// Reads a rotation set that stands in a file of its own: <c>start</c> and a list of <c>groups</c>, each with its <c>name</c>. The
/// same fields of a group are read for a charter.
/// </summary>
public static class RotationReader
{
    /// <summary>The set, or every mistake; the set is null when there is one.</summary>
    public static (RotationSet? Set, ImmutableArray<Mistake> Mistakes) Read(CharterNode root)
    {
        var mistakes = new List<Mistake>();
        var map = new MapReader(root, "the rotation set", mistakes, ["start", "groups"]);
        var start = ReadStart(map.Required("start", "say when a night's run begins: 'start: \"20:00\"'"), "the rotation set", mistakes);
        var groups = new List<MediaGroup>();
        foreach (var node in map.Nodes("groups"))
        {
            var name = (node as MapNode)?.Entries.FirstOrDefault(e => e.Key.Value == "name").Value as ScalarNode;
            if (name is null)
                mistakes.Add(new Mistake(node.Line, node.Column, "the rotation set", "a group has no name; add 'name: weekdays'"));
            else if (groups.Any(g => g.Name == name.Value))
                mistakes.Add(
                    new Mistake(name.Line, name.Column, "the rotation set", $"there are two groups '{name.Value}'; give one another name")
                );
            else if (ReadGroup(name.Value, node, mistakes, named: true) is { } group)
                groups.Add(group);
        }
        if (groups.Count == 0 && mistakes.Count == 0)
            mistakes.Add(new Mistake(root.Line, root.Column, "the rotation set", "there are no groups; list them under 'groups'"));
        CheckLabels(groups, mistakes, root);
        return mistakes.Count > 0
            ? (null, [.. mistakes.OrderBy(m => m.Line).ThenBy(m => m.Column)])
            : (new RotationSet(start ?? default, [.. groups]), []);
    }

    /// <summary>Reads one group's fields; <paramref name="named"/> when its name is among them.</summary>
    internal static MediaGroup? ReadGroup(string name, CharterNode node, List<Mistake> mistakes, bool named)
    {
        var about = $"media group {name}";
        var map = new MapReader(
            node,
            about,
            mistakes,
            named ? ["name", .. CharterLanguage.Names("media-group")] : CharterLanguage.Names("media-group")
        );
        DayRule? serves = null;
        if (map.Required("serves", "say which nights it takes: 'serves: mon-thu'") is { } nights)
        {
            (serves, var problem) = ScheduleSentence.ReadDays(nights.Value);
            if (problem is not null)
                mistakes.Add(new Mistake(nights.Line, nights.Column + problem.Position, about, problem.Message));
        }
        var labels = map.Strings("media");
        if (labels is null or { Count: 0 })
            map.Missing("media", "name its media: 'media: [DISK-1, DISK-2]'");
        foreach (var twice in (labels ?? []).GroupBy(l => l.Value).Where(g => g.Count() > 1))
            Wrong(twice.Last(), $"medium '{twice.Key}' is named twice; once is enough");
        Span? protectedFor = null;
        if (
            map.Required("protected-for", "say how long a medium stays untouched: 'protected-for: 6 days' or 'always'") is { } protection
            && protection.Value != "always"
        )
            protectedFor = ReadSpan(protection);
        var group = new MediaGroup(name, serves ?? new WeekdayRule(Weekdays.Daily), [.. (labels ?? []).Select(l => l.Value)], protectedFor)
        {
            FillWindow = map.Scalar("fill-window") is { } fill ? ReadSpan(fill) ?? default : MediaGroup.UsualFillWindow,
            RunLength = map.Scalar("run-length") is { } length ? ReadSpan(length) ?? default : MediaGroup.UsualRunLength,
        };
        return serves is null || group.Media.Length == 0 ? null : group;

        Span? ReadSpan(ScalarNode scalar)
        {
            if (Span.TryParse(scalar.Value, out var span, out var problem))
                return span;
            Wrong(scalar, problem);
            return null;
        }

        void Wrong(ScalarNode at, string message) => mistakes.Add(new Mistake(at.Line, at.Column, about, message));
    }

    internal static LocalTime? ReadStart(ScalarNode? node, string about, List<Mistake> mistakes)
    {
        if (node is null)
            return null;
        if (SentenceWords.TryTime(node.Value, out var time, out var problem))
            return time;
        mistakes.Add(new Mistake(node.Line, node.Column, about, problem!));
        return null;
    }

    /// <summary>A medium belongs to one group: two that took it by turns would overwrite each other's copies.</summary>
    internal static void CheckLabels(IEnumerable<MediaGroup> groups, List<Mistake> mistakes, CharterNode at)
    {
        foreach (
            var twice in groups
                .SelectMany(g => g.Media.Distinct().Select(m => (Medium: m, Group: g.Name)))
                .GroupBy(m => m.Medium)
                .Where(g => g.Count() > 1)
        )
            mistakes.Add(
                new Mistake(
                    at.Line,
                    at.Column,
                    "the rotation set",
                    $"medium '{twice.Key}' is in groups {string.Join(" and ", twice.Select(t => t.Group))}; a medium belongs to one group"
                )
            );
    }
}
