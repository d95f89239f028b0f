using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>The tables of packs that were asked for lately, in bounded memory. Safe for several threads.</summary>
internal sealed class PackTables(IPlace place, StoreKeys keys)
{
    /// <summary>Bytes of memory that tables may take.</summary>
    private const long Most = 24L * 1024 * 1024;
    private readonly Lock gate = new();
    private readonly Dictionary<string, LinkedListNode<(string Pack, PackTable Table)>> known = [];
    private readonly LinkedList<(string Pack, PackTable Table)> order = new();
    private long memory;

    /// <summary>The table if it is in memory.</summary>
    public PackTable? AtHand(string pack)
    {
        lock (gate)
        {
            if (!known.TryGetValue(pack, out var node))
                return null;
            order.Remove(node);
            order.AddFirst(node);
            return node.Value.Table;
        }
    }

    public PackTable Get(string pack, long size)
    {
        if (AtHand(pack) is { } there)
            return there;
        using var reader = new PackReader(place, keys);
        var table = reader.ReadTable(pack, size);
        Keep(pack, table);
        return table;
    }

    public void Keep(string pack, PackTable table)
    {
        lock (gate)
        {
            if (known.ContainsKey(pack))
                return;
            known[pack] = order.AddFirst((pack, table));
            memory += table.Memory;
            while (memory > Most && order.Count > 1)
                Drop(order.Last!);
        }
    }

    public void Forget(string pack)
    {
        lock (gate)
            if (known.TryGetValue(pack, out var node))
                Drop(node);
    }

    private void Drop(LinkedListNode<(string Pack, PackTable Table)> node)
    {
        order.Remove(node);
        known.Remove(node.Value.Pack);
        memory -= node.Value.Table.Memory;
    }
}
