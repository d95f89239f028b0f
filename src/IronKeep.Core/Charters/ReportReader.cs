using System.Collections.Immutable;
using IronKeep.Core.Reports;

namespace IronKeep.Core.Charters;

/// <summary>Reads the reports that a charter asks for.</summary>
internal static class ReportReader
{
    public static ReportDefinition? Report(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("report"));
        var every = read.Word<ReportPeriod>(map.Required("every", "say over what it looks back: 'every: week' or 'every: month'"));
        var when = map.Scalar("when");
        var schedule = read.When(when);
        if (schedule is not null && (schedule.End is not null || schedule.Reach.Last != int.MaxValue))
            read.Wrong(when!, $"'{when!.Value}' comes to an end, and no report would be made afterwards; take the end out");
        var report = new
        {
            Sites = Names(map, read, "sites"),
            Owners = Names(map, read, "owners"),
            Tags = PeopleReaders.Tags(map, read),
            Machines = read.Uses(map.Strings("machines"), "machine"),
            Jobs = read.Uses(map.Strings("jobs"), "job"),
            Tells = read.Uses(map.Strings("tells"), CharterLanguage.Tellable),
        };
        return every is not { } period
            ? null
            : new ReportDefinition(name, period)
            {
                Sites = report.Sites,
                Owners = report.Owners,
                Tags = report.Tags,
                Machines = report.Machines,
                Jobs = report.Jobs,
                When = schedule,
                Tells = report.Tells,
            };
    }

    /// <summary>A site or an owner of a machine, a name like a tag's.</summary>
    public static string? Name(ScalarNode? node, ValueReader read, string what)
    {
        if (node is not null && !CharterReader.IsName(node.Value))
            read.Wrong(node, $"'{node.Value}' cannot be {what}; use lower-case letters, digits and hyphens");
        return node?.Value;
    }

    private static ImmutableArray<string> Names(MapReader map, ValueReader read, string key)
    {
        var nodes = map.Strings(key) ?? [];
        foreach (var node in nodes)
            Name(node, read, key == "sites" ? "a site" : "an owner");
        return [.. nodes.Select(n => n.Value).Distinct().Order(StringComparer.Ordinal)];
    }
}
