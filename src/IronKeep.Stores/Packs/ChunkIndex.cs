using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Packs;

/// <summary>Where a chunk lies: the pack, its table, the chunk's place in it.</summary>
internal readonly record struct ChunkPlace(string Pack, PackTable Table, int Index)
{
    public ChunkSpot Spot => Table.SpotAt(Index);
}

/// <summary>
/// Which chunks the store holds, and where: read from the packs' own tables. A pack whose table cannot be read gives no chunks and is
/// remembered as damaged; the chunks of a pack that is leaving can be read, but count as absent for who writes. Safe for several
/// threads.
/// </summary>
internal sealed class ChunkIndex(IPlace place, StoreKeys keys)
{
    private sealed record Known(string Name, long Size, int Number, PackKind Kind)
    {
        public volatile bool Leaving,
            Gone;
    }

    private readonly SlotTable slots = new();
    private readonly ConcurrentDictionary<string, Known> packs = new();
    private readonly ConcurrentDictionary<string, string> damaged = new();
    private readonly PackTables tables = new(place, keys);
    private readonly Lock gate = new();
    private readonly Lock refreshing = new();
    private volatile Known[] byNumber = new Known[64];
    private int numbers;

    /// <summary>Packs that can be read, with their sizes (bytes).</summary>
    public IEnumerable<(string Pack, long Size)> Packs => packs.Values.Select(p => (p.Name, p.Size));

    /// <summary>Packs that can be read and are not leaving.</summary>
    public IEnumerable<(string Pack, long Size, PackKind Kind)> Staying =>
        packs.Values.Where(p => !p.Leaving).Select(p => (p.Name, p.Size, p.Kind));

    /// <summary>The numbers of packs that are there.</summary>
    public IReadOnlySet<int> NumbersOf(IEnumerable<string> names) =>
        names.Select(n => packs.GetValueOrDefault(n)).OfType<Known>().Select(k => k.Number).ToHashSet();

    /// <summary>The size (bytes) that a pack had when it came into the index; null when it is not in it.</summary>
    public long? SizeOf(string pack) => packs.GetValueOrDefault(pack)?.Size;

    /// <summary>Packs whose table cannot be read, with the reason.</summary>
    public IReadOnlyDictionary<string, string> Damaged => damaged;

    /// <summary>Bytes of memory that the index takes.</summary>
    public long Memory => slots.Memory;

    public bool IsKnown(string pack) => packs.ContainsKey(pack);

    /// <summary>
    /// The number of a pack that stays and seems to hold the chunk, compared by 52 bits of its identity: enough to trust that what was
    /// there is there still. -1 when none does.
    /// </summary>
    public int SeemsToStayIn(ChunkId id) =>
        slots.Find(id, this, static (number, self) => self.byNumber[number] is { Leaving: false, Gone: false });

    /// <summary>The same, where a pack that is leaving is as good.</summary>
    public int SeemsToLieIn(ChunkId id) => slots.Find(id, this, static (number, self) => self.byNumber[number] is { Gone: false });

    /// <summary>The same, but for the packs of these numbers.</summary>
    public int SeemsToLieIn(ChunkId id, ConcurrentDictionary<int, byte> but) =>
        slots.Find(id, (Self: this, But: but), static (number, s) =>
            s.Self.byNumber[number] is { Gone: false } && !s.But.ContainsKey(number)
        );

    /// <summary>The numbers of the packs that are leaving now.</summary>
    public IEnumerable<int> LeavingNow => packs.Values.Where(p => p.Leaving).Select(p => p.Number);

    /// <summary>The pack of a number, or null when it is there no more. Numbers are not given twice.</summary>
    public string? NameOf(int number) => byNumber[number] is { Gone: false } pack ? pack.Name : null;

    /// <summary>
    /// The number of a pack that stays and holds the chunk for certain, or -1; on request only packs are asked whose table is at hand.
    /// </summary>
    public int StaysIn(ChunkId id, bool atHand = false) =>
        slots.Find(id, (Self: this, Id: id, AtHand: atHand), static (number, s) =>
            s.Self.byNumber[number] is { Leaving: false, Gone: false } pack
            && (s.AtHand ? s.Self.tables.AtHand(pack.Name) : s.Self.TableOf(pack)) is { } table
            && table.Find(s.Id) >= 0
        );

    /// <summary>Where the chunk lies, in a pack that stays if there is one.</summary>
    public bool TryGet(ChunkId id, out ChunkPlace found)
    {
        ChunkPlace? at = null;
        slots.Find(id, 0, (number, _) =>
        {
            if (byNumber[number] is not { Gone: false } pack || TableOf(pack) is not { } table || table.Find(id) is var index && index < 0)
                return false;
            at = new ChunkPlace(pack.Name, table, index);
            return !pack.Leaving;
        });
        found = at ?? default;
        return at is not null;
    }

    /// <summary>The table of a pack that is there, or null when it cannot be read any more.</summary>
    public PackTable? TableOf(string pack) => packs.TryGetValue(pack, out var known) ? TableOf(known) : null;

    /// <summary>
    /// Brings the index in line with the packs that are there now: reads new ones, forgets vanished ones. Packs that were added while the
    /// place was listed are not in the listing and stay. One look at a time, and nobody forgets packs meanwhile: what was removed between
    /// listing and reading would come back.
    /// </summary>
    public void Refresh()
    {
        lock (refreshing)
            Look();
    }

    private void Look()
    {
        var first = Volatile.Read(ref numbers);
        var there = place
            .List(PackNames.Folder)
            .Where(f => PackNames.IsPack(f.Name))
            .ToDictionary(f => PackNames.PackOf(f.Name), f => f.Size);
        Drop(
            packs.Values.Where(p => p.Number < first).Select(p => p.Name).Concat(damaged.Keys).Where(p => !there.ContainsKey(p)).ToHashSet()
        );
        var unknown = there.Where(p => !packs.ContainsKey(p.Key) && !damaged.ContainsKey(p.Key)).ToList();
        // Most looks find nothing new.
        if (unknown.Count > 0)
            Read(unknown);
    }

    private void Read(List<KeyValuePair<string, long>> unknown) =>
        Parallel.ForEach(
            unknown,
            new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount },
            () => (Reader: new PackReader(place, keys), Ids: new List<ChunkId>()),
            (file, _, own) =>
            {
                try
                {
                    // All at once, so that a pack that turns out to be damaged in the middle gives nothing.
                    own.Ids.Clear();
                    var kind = own.Reader.ReadIds(file.Key, file.Value, own.Ids.Add);
                    Add(file.Key, file.Value, kind, CollectionsMarshal.AsSpan(own.Ids));
                }
                catch (StoreDamageException e)
                {
                    damaged[file.Key] = e.Message;
                }
                catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
                {
                    // Reclaiming was faster.
                }
                return own;
            },
            own => own.Reader.Dispose()
        );

    /// <summary>Adds a pack that was just written and gives its number; its table stays at hand.</summary>
    public int Add(string name, PackTable table, long size)
    {
        tables.Keep(name, table);
        return Add(name, size, table.Kind, table.Ids);
    }

    private int Add(string name, long size, PackKind kind, ReadOnlySpan<ChunkId> ids)
    {
        Known known;
        lock (gate)
        {
            if (packs.TryGetValue(name, out var there))
                return there.Number;
            if (numbers == SlotTable.MostPacks)
                throw new PlaceException(PlaceFault.Other, $"the store at {place.Name} has more packs than can be numbered; open it anew");
            if (numbers == byNumber.Length)
            {
                var larger = new Known[numbers * 2];
                byNumber.CopyTo(larger, 0);
                byNumber = larger;
            }
            known = new Known(name, size, numbers, kind);
            byNumber[numbers++] = known;
            // Inside the gate: two who add the same pack must get one number, or it would seem to be there after it went.
            packs[name] = known;
        }
        foreach (var id in ids)
            slots.Add(id, known.Number);
        return known.Number;
    }

    /// <summary>Marks exactly the given packs as leaving.</summary>
    public void MarkLeaving(IReadOnlySet<string> leaving)
    {
        foreach (var pack in packs.Values)
            pack.Leaving = leaving.Contains(pack.Name);
    }

    /// <summary>Forgets packs that were removed from the place; called after they are gone there.</summary>
    public void Forget(IReadOnlySet<string> gone)
    {
        lock (refreshing)
            Drop(gone);
    }

    private void Drop(IReadOnlySet<string> gone)
    {
        if (gone.Count == 0)
            return;
        var any = false;
        foreach (var name in gone)
        {
            damaged.TryRemove(name, out _);
            tables.Forget(name);
            if (!packs.TryRemove(name, out var pack))
                continue;
            pack.Gone = any = true;
        }
        if (any)
            slots.Remove(number => byNumber[number] is { Gone: true });
    }

    private PackTable? TableOf(Known pack)
    {
        try
        {
            return tables.Get(pack.Name, pack.Size);
        }
        catch (StoreDamageException e)
        {
            damaged[pack.Name] = e.Message;
            return null;
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
        {
            return null;
        }
    }
}
