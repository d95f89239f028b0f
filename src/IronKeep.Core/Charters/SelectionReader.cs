using IronKeep.Core.Machines;

namespace IronKeep.Core.Charters;

/// <summary>Reads on which machines a job is.</summary>
internal static class SelectionReader
{
    public static MachineSelection Read(MapReader map, ValueReader read)
    {
        var selection = ReadMachines(map, read, "on");
        var nodes = map.Strings("except") ?? [];
        if (nodes.Count == 0)
            return selection;
        if (selection.Kind is SelectionKind.Own or SelectionKind.Named)
        {
            if (nodes.TrueForAll(n => CharterReader.IsName(n.Value)))
                read.Uses(nodes, "machine");
            read.Wrong(
                map.Any("except")!,
                "'except' goes with an expression or with 'on: rest'; of machines that are named, leave out the name"
            );
            return selection;
        }
        return nodes is [{ } one] && !CharterReader.IsName(one.Value)
            ? selection with
            {
                ExceptWhere = read.Sentence(one, MachineExpression.Read(one.Value)),
            }
            : selection with
            {
                Except = read.Uses(nodes, "machine"),
            };
    }

    /// <summary>What one key says: names, an expression, or the rest.</summary>
    public static MachineSelection ReadMachines(MapReader map, ValueReader read, string key)
    {
        var nodes = map.Strings(key) ?? [];
        if (nodes.Count == 0)
            return MachineSelection.Own;
        if (nodes is [{ } one])
        {
            if (one.Value == MachineSelection.RestWord)
                return new MachineSelection(SelectionKind.Rest);
            if (one.Value == MachineSelection.AllWord || !CharterReader.IsName(one.Value))
                return read.Sentence(one, MachineExpression.Read(one.Value)) is { } where
                    ? new MachineSelection(SelectionKind.Expressed) { Where = where }
                    : MachineSelection.Own;
        }
        return new MachineSelection(SelectionKind.Named) { Names = read.Uses(nodes, "machine") };
    }
}
