using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Yaml;
using Xunit;

namespace IronKeep.Core.Tests.Machines;

/// <summary>What an inventory means for a charter, and what a change means on machines.</summary>
public sealed class InventoryPlanTests
{
    private const string Text = """
        charter: 1
        machines:
          heron: { site: lighthouse, importance: 5 }
          tern-1: { site: hides, listed-in: hides, silent-after: 4 hours }
          tern-2: { site: hides, listed-in: hides }
          tern-9: { site: hides, listed-in: hides, retired: 2026-01-01, copies-until: 2028-01-31, copies-owner: maud, decide-by: 2027-12-01 }
        stores: { vault: { folder: /srv/vault } }
        policies: { few: { keep: newest 3 }, many: { keep: newest 30 } }
        jobs:
          logs: { takes: /var/log, into: vault, policy: few, on: "site = hides" }
          all: { takes: /srv, into: vault, policy: few, on: all }
        """;

    private static readonly Charter charter = CharterYaml.Read(Text, "heron").Charter!;

    private static ListedMachine Listed(string name, params (string Key, string Value)[] values) =>
        new(name, 1, [.. values.Select(v => new CharterField(v.Key, v.Value.Length == 0 ? [] : [v.Value], false))]);

    [Fact]
    public void Machines_come_change_and_go_and_what_the_list_does_not_say_stays()
    {
        var plan = InventoryPlan.Of(
            charter,
            "hides",
            [Listed("tern-1", ("site", "marsh"), ("owner", "")), Listed("tern-3", ("site", "hides")), Listed("tern-9")]
        );
        Assert.Equal(["tern-3"], plan.Comes.AsEnumerable());
        Assert.Equal(["tern-2"], plan.Goes.AsEnumerable());
        Assert.Equal(["tern-9"], plan.Retired.AsEnumerable());
        var (machine, fields) = Assert.Single(plan.Changes);
        Assert.Equal(("tern-1", new FieldChange("site", "hides", "marsh")), (machine, Assert.Single(fields)));
        Assert.Contains(plan.Machines.Single(m => m.Name == "tern-1").Fields, f => f.Key == "silent-after");
    }

    [Fact]
    public void The_same_list_again_changes_nothing()
    {
        var plan = InventoryPlan.Of(charter, "hides", [Listed("tern-1", ("site", "hides")), Listed("tern-2", ("site", "hides"))]);
        Assert.True(plan is { Comes.IsEmpty: true, Changes.IsEmpty: true, Goes.IsEmpty: true, Retired.IsEmpty: true });
    }

    [Fact]
    public void An_empty_value_takes_what_was_there_away_and_a_machine_of_nobody_becomes_the_lists()
    {
        var plan = InventoryPlan.Of(charter, "hides", [Listed("heron", ("importance", "")), Listed("tern-1"), Listed("tern-2")]);
        var (machine, fields) = Assert.Single(plan.Changes);
        Assert.Equal("heron", machine);
        Assert.Equal([new FieldChange("importance", "5", null), new FieldChange("listed-in", null, "hides")], fields.AsEnumerable());
    }

    [Fact]
    public void A_change_is_told_by_what_becomes_of_each_job_on_each_machine()
    {
        var later = CharterYaml.Read(
            Text.Replace("tern-2: { site: hides,", "tern-2: { site: marsh,", StringComparison.Ordinal)
                .Replace("/srv, into: vault, policy: few", "/srv, into: vault, policy: many", StringComparison.Ordinal)
                .Replace("  heron:", "  plover: { site: hides }\n  heron:", StringComparison.Ordinal),
            "heron"
        );
        Assert.Empty(later.Mistakes);
        Assert.Equal(
            [
                "Added all on plover ",
                "Changed all on heron tern-1 tern-2 policy: few to many",
                "Added logs on plover ",
                "Removed logs on tern-2 ",
            ],
            PlacedDiff
                .Compare(charter, later.Charter!)
                .Select(c =>
                    $"{c.Kind} {c.Job} on {string.Join(' ', c.Machines)} "
                    + string.Join(';', c.Fields.Select(f => $"{f.Field}: {f.Before} to {f.After}"))
                )
        );
        Assert.Empty(PlacedDiff.Compare(charter, CharterYaml.Read(Text, "heron").Charter!));
    }
}
