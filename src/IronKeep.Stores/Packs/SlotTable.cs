using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Packs;

/// <summary>
/// Which pack may hold a chunk, in eight bytes a chunk: 4096 small open-addressing tables, chosen by the first twelve bits of the
/// identity; a slot holds the next forty bits and the pack's number. So 52 bits are compared; who needs certainty asks the pack's own
/// table. A chunk may be in several packs. Safe for several threads.
/// </summary>
internal sealed class SlotTable
{
    public const int MostPacks = (1 << 24) - 2;
    private const int Parts = 4096;
    private const ulong Free = 0,
        Removed = 1;
    private readonly Part[] parts = new Part[Parts];

    public SlotTable()
    {
        for (var i = 0; i < Parts; i++)
            parts[i] = new Part();
    }

    /// <summary>Bytes of memory that the slots take.</summary>
    public long Memory => parts.Sum(p => p.Slots.Length * 8L);

    public void Add(ChunkId id, int pack)
    {
        var part = PartOf(id);
        lock (part)
            part.Add(Fragment(id), pack);
    }

    /// <summary>Gives the numbers of packs that may hold the chunk, one after the other, until one is accepted.</summary>
    public int Find<T>(ChunkId id, T state, Func<int, T, bool> accepts)
    {
        var fragment = Fragment(id);
        var part = PartOf(id);
        // Looked up under the lock, asked outside it: the question may read a file.
        Span<int> found = stackalloc int[16];
        var count = 0;
        lock (part)
            count = part.Find(fragment, found);
        foreach (var pack in found[..count])
            if (accepts(pack, state))
                return pack;
        return -1;
    }

    /// <summary>Removes every slot of the given packs.</summary>
    public void Remove(Func<int, bool> isGone)
    {
        foreach (var part in parts)
            lock (part)
                part.Remove(isGone);
    }

    private Part PartOf(ChunkId id) => parts[(int)(id.A >> 52)];

    private static ulong Fragment(ChunkId id) => (id.A >> 12) & 0xFF_FFFF_FFFF;

    private sealed class Part
    {
        public ulong[] Slots = new ulong[8];
        private int used,
            live;

        public void Add(ulong fragment, int pack)
        {
            if ((used + 1) * 5 > Slots.Length * 4)
                Rebuild();
            Place(Slots, (fragment << 24) | (uint)(pack + 2));
            used++;
            live++;
        }

        public int Find(ulong fragment, Span<int> found)
        {
            var count = 0;
            for (var at = Home(fragment, Slots.Length); Slots[at] != Free; at = at + 1 == Slots.Length ? 0 : at + 1)
            {
                if (Slots[at] >> 24 != fragment || Slots[at] == Removed)
                    continue;
                if (count == found.Length)
                    break;
                found[count++] = (int)(Slots[at] & 0xFF_FFFF) - 2;
            }
            return count;
        }

        public void Remove(Func<int, bool> isGone)
        {
            for (var i = 0; i < Slots.Length; i++)
            {
                if (Slots[i] is Free or Removed || !isGone((int)(Slots[i] & 0xFF_FFFF) - 2))
                    continue;
                Slots[i] = Removed;
                live--;
            }
        }

        private void Rebuild()
        {
            var next = new ulong[live * 3 / 2 + 8];
            foreach (var slot in Slots)
                if (slot is not (Free or Removed))
                    Place(next, slot);
            Slots = next;
            used = live;
        }

        private static void Place(ulong[] slots, ulong slot)
        {
            var at = Home(slot >> 24, slots.Length);
            while (slots[at] != Free)
                at = at + 1 == slots.Length ? 0 : at + 1;
            slots[at] = slot;
        }

        private static int Home(ulong fragment, int length) => (int)((fragment * (ulong)length) >> 40);
    }
}
