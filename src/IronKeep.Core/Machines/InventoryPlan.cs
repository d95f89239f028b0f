using System.Collections.Immutable;
using IronKeep.Core.Charters;

namespace IronKeep.Core.Machines;

/// <summary>
/// A machine as an inventory lists it: where that stands in the text, and the values of those of a machine's keys that the inventory knows;
/// an empty one takes the value away.
/// </summary>
public sealed record ListedMachine(string Name, int Line, ImmutableArray<CharterField> Values);

/// <summary>
/// What an inventory means for a charter: which machines come, which change, and which of those that were listed before are not listed any
/// more. Machines that the inventory never listed are none of its business. Source: docs/charter.md, "Machines from an inventory".
/// </summary>
public sealed class InventoryPlan
{
    /// <summary>The keys of a machine that an inventory can say.</summary>
    public static ImmutableArray<string> Keys { get; } = ["site", "owner", "tags", "importance", "runs-at-once", "line", "silent-after"];

    private InventoryPlan() { }

    /// <summary>Every machine that comes or stays, with all its fields as they then are.</summary>
    public required ImmutableArray<(string Name, ImmutableArray<CharterField> Fields)> Machines { get; init; }
    public required ImmutableArray<string> Comes { get; init; }

    /// <summary>Those that were declared and become another.</summary>
    public required ImmutableArray<(string Machine, ImmutableArray<FieldChange> Fields)> Changes { get; init; }

    /// <summary>Those of this source that are at work and not listed any more.</summary>
    public required ImmutableArray<string> Goes { get; init; }

    /// <summary>Those that are listed although they are retired.</summary>
    public required ImmutableArray<string> Retired { get; init; }

    public static InventoryPlan Of(Charter charter, string source, IReadOnlyCollection<ListedMachine> listed)
    {
        var machines = listed
            .Select(m => (m.Name, Fields: Merged(charter.Machines.GetValueOrDefault(m.Name), m, source)))
            .OrderBy(m => m.Name, StringComparer.Ordinal)
            .ToImmutableArray();
        var names = listed.Select(m => m.Name).ToHashSet();
        return new InventoryPlan
        {
            Machines = machines,
            Comes = [.. machines.Select(m => m.Name).Where(m => !charter.Machines.ContainsKey(m))],
            Changes =
            [
                .. machines
                    .Where(m => charter.Machines.ContainsKey(m.Name))
                    .Select(m => (m.Name, CharterDiff.Differing(CharterFields.Of(charter.Machines[m.Name]), m.Fields)))
                    .Where(m => m.Item2.Length > 0),
            ],
            Goes =
            [
                .. charter
                    .Machines.Values.Where(m => m.ListedIn == source && m.Retired is null && !names.Contains(m.Name))
                    .Select(m => m.Name),
            ],
            Retired = [.. machines.Select(m => m.Name).Where(m => charter.Machines.GetValueOrDefault(m)?.Retired is not null)],
        };
    }

    /// <summary>What is declared of a machine, with what its inventory says in place of that, in the order of the charter's keys.</summary>
    private static ImmutableArray<CharterField> Merged(MachineDefinition? declared, ListedMachine listed, string source)
    {
        var fields = (declared is null ? [] : CharterFields.Of(declared)).ToDictionary(f => f.Key);
        foreach (var value in listed.Values)
            if (value.Values.IsEmpty)
                fields.Remove(value.Key);
            else
                fields[value.Key] = value;
        fields["listed-in"] = new CharterField("listed-in", [source], false);
        return [.. CharterLanguage.Of("machine").Where(k => fields.ContainsKey(k.Key)).Select(k => fields[k.Key])];
    }
}
