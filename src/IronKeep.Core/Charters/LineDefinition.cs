using System.Collections.Immutable;
using System.Runtime.CompilerServices;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Machines;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// A line that several machines share, such as that of a site: how many of their runs may be at work at once (null: any number), and how
/// much copies over it may take together (empty: all of it).
/// </summary>
public sealed record LineDefinition(string Name, MachineSelection Selection, int? RunsAtOnce, ImmutableArray<LineCeiling> Bandwidth)
{
    public bool Equals(LineDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);

    internal static LineDefinition? Read(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("line"));
        if (map.Any("machines") is null)
            map.Missing("machines", "say which machines share it: 'machines: site = lighthouse', or their names");
        var selection = SelectionReader.ReadMachines(map, read, "machines");
        var atOnce = read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, DefinitionReaders.MostAtOnce);
        var bandwidth = DefinitionReaders.LineCeilings(map, "bandwidth", read);
        if (map.Any("runs-at-once") is null && map.Any("bandwidth") is null)
            map.Missing("bandwidth", "say what the line carries: 'bandwidth: 20 Mbit/s', or 'runs-at-once: 2', or both");
        if (selection.Kind == SelectionKind.Rest)
            read.Wrong(map.Any("machines")!, "a line is shared by machines that are named or described; 'rest' goes with jobs");
        return selection.Kind is SelectionKind.Named or SelectionKind.Expressed
            ? new LineDefinition(name, selection, atOnce, bandwidth)
            : null;
    }
}

/// <summary>The lines that machines of a charter share with others. Machines are looked up once for a charter.</summary>
public sealed class SharedLines
{
    private static readonly ConditionalWeakTable<Charter, SharedLines> known = new();
    private readonly Dictionary<string, ImmutableArray<LineDefinition>> byMachine;

    private SharedLines(Charter charter) =>
        byMachine = charter
            .Lines.Values.SelectMany(l =>
                (
                    l.Selection.Kind == SelectionKind.Named
                        ? l.Selection.Names
                        : charter.Machines.Values.Where(l.Selection.Takes).Select(m => m.Name)
                ).Select(m => (Machine: m, Line: l))
            )
            .GroupBy(l => l.Machine)
            .ToDictionary(g => g.Key, g => g.Select(l => l.Line).ToImmutableArray());

    public static SharedLines Of(Charter charter) => known.GetValue(charter, c => new SharedLines(c));

    /// <summary>In order of name; empty where a machine shares none.</summary>
    public ImmutableArray<LineDefinition> Of(string machine) => byMachine.GetValueOrDefault(machine, []);

    /// <summary>The machines that share a line, in order of name.</summary>
    public ImmutableArray<string> MachinesOf(string line) =>
        [.. byMachine.Where(m => m.Value.Any(l => l.Name == line)).Select(m => m.Key).Order(StringComparer.Ordinal)];

    /// <summary>
    /// How much one run on a machine may take at an instant, in bytes a second: the least of what the machine's own line leaves, and of its
    /// share of each line that it has in common with others, which the runs at work divide evenly. Null: any number.
    /// </summary>
    /// <param name="atWork">How many runs are at work over a line, this one with them.</param>
    public static long? ShareOf(Charter charter, string machine, Instant instant, Func<LineDefinition, int> atWork)
    {
        var own = charter.Machines.GetValueOrDefault(machine)?.Line ?? [];
        var least = LineCeiling.At(own, instant, charter.Zone);
        foreach (var line in Of(charter).Of(machine))
            if (LineCeiling.At(line.Bandwidth, instant, charter.Zone) is { } all)
                least = Math.Min(least ?? long.MaxValue, Math.Max(1, all / Math.Max(1, atWork(line))));
        return least;
    }
}
