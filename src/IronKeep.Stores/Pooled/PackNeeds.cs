using System.Collections.Immutable;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// What packs a copy needs, by their numbers, and the lists of chunks that are still to be resolved. It may name more than is needed,
/// never less: while all of them are there, the copy is whole.
/// </summary>
internal sealed record KnownNeeds(int[] Packs, ImmutableArray<ContentRef> Lists)
{
    /// <summary>The needs of a copy with more packs than this are not remembered, to spare memory.</summary>
    public const int MostPacks = 50_000;

    /// <summary>About how much memory it takes, in numbers of packs.</summary>
    public long Numbers => Packs.Length + 20L * Lists.Length;
}

/// <summary>
/// What copies need that were written or found whole while the store is open, in bounded memory: while that is there, they need not be
/// walked. Safe for several threads.
/// </summary>
internal sealed class CopyNeeds
{
    /// <summary>Numbers of packs that are remembered in all, four bytes each; copies beyond that are walked by every check.</summary>
    private const long Most = 8L * 1024 * 1024;
    private readonly Dictionary<string, KnownNeeds> known = [];
    private readonly Lock gate = new();
    private long numbers;

    public KnownNeeds? Of(string copy)
    {
        lock (gate)
            return known.GetValueOrDefault(copy);
    }

    public void Remember(string copy, KnownNeeds needs)
    {
        lock (gate)
        {
            Forget(copy);
            if (numbers + needs.Numbers > Most)
                return;
            known[copy] = needs;
            numbers += needs.Numbers;
        }
    }

    /// <summary>
    /// What lay in some packs lies in others now: who needed one of those needs all of these, which may be more than is needed.
    /// </summary>
    public void Moved(IReadOnlySet<int> from, int[] into)
    {
        lock (gate)
            foreach (var (copy, needs) in known.Where(k => k.Value.Packs.Any(from.Contains)).ToList())
                Remember(copy, needs with { Packs = [.. needs.Packs.Where(p => !from.Contains(p)).Union(into).Order()] });
    }

    public void Forget(string copy)
    {
        lock (gate)
            if (known.Remove(copy, out var needs))
                numbers -= needs.Numbers;
    }
}

/// <summary>Gathers the needs of a copy while it is written, so that a check need not walk its tree. Safe for several threads.</summary>
internal sealed class PackNeeds
{
    private const int MostLists = 10_000;
    private readonly List<ContentRef> lists = [];
    private readonly Lock gate = new();
    private ulong[] packs = new ulong[16];

    public void Note(int pack)
    {
        // Most chunks lie where the one before lay; a bit once set stays.
        if (IsNoted(Volatile.Read(ref packs), pack))
            return;
        lock (gate)
        {
            var grown = packs;
            if (pack / 64 >= grown.Length)
                Array.Resize(ref grown, Math.Max(grown.Length * 2, pack / 64 + 1));
            grown[pack / 64] |= 1UL << (pack % 64);
            Volatile.Write(ref packs, grown);
        }
    }

    /// <summary>A list of chunks that was there already, at a depth of 1 or more; what it names is resolved by the first check.</summary>
    public void NoteList(ChunkId list, int depth)
    {
        lock (gate)
            if (lists.Count <= MostLists)
                lists.Add(new ContentRef(depth, [list]));
    }

    /// <summary>What was gathered, or null when it is too much to be remembered.</summary>
    public KnownNeeds? Known()
    {
        lock (gate)
        {
            var numbers = Enumerable.Range(0, packs.Length * 64).Where(n => IsNoted(packs, n)).ToArray();
            return lists.Count > MostLists || numbers.Length > KnownNeeds.MostPacks ? null : new KnownNeeds(numbers, [.. lists]);
        }
    }

    private static bool IsNoted(ulong[] packs, int pack) => pack / 64 < packs.Length && (packs[pack / 64] >> (pack % 64) & 1) != 0;
}
