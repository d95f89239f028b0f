using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Takes a damaged pack out of use for good: its whole chunks go to a new pack, then its file moves to <c>damaged/</c>, where it
/// is kept for whoever wants to look at it. After that the store's packs speak the truth again, also to a program started anew.
/// </summary>
internal static class Quarantine
{
    private const string Folder = "damaged";

    /// <summary>
    /// <paramref name="problem"/> says why the pack could not be read, or is empty when its bytes are others than were written.
    /// </summary>
    public static PackDamage SetAside(PooledStore store, string pack, string problem)
    {
        using var lease = store.Tend();
        var table = store.Index.TableOf(pack);
        var indexProblem = store.Index.Damaged.GetValueOrDefault(pack);
        int total = table?.Count ?? 0,
            saved = 0;
        if (table is not null)
        {
            using var session = store.BeginWriting();
            using var reader = new PackReader(store.Place, store.Keys);
            var lane = table.Kind == PackKind.Listings ? session.Listings : session.OpenLane();
            for (var b = 0; b < table.Blocks.Length; b++)
                ForWhole(store, pack, table, b, reader, (i, content) =>
                {
                    lane.PutAnyway(table.IdAt(i), content);
                    saved++;
                });
            session.Seal();
        }
        try
        {
            store.Place.Move(PackNames.FileOf(pack), $"{Folder}/{pack}.pack");
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
        {
            // A pack that vanished needs no setting aside.
        }
        // After it is gone from its place: another look at the packs would find it again.
        store.Index.Forget(new HashSet<string> { pack });
        var lost = total - saved;
        var what =
            problem.Length > 0 ? problem
            : table is null ? indexProblem ?? "its table cannot be read, so all its chunks are lost"
            : lost > 0 ? $"{lost} of its {total} chunks differ from what was written"
            : "its head, table or tail differs from what was written, but all its chunks are whole and were saved";
        return new PackDamage(pack, what, lost);
    }

    /// <summary>What is lost with a damaged pack, added to <paramref name="lost"/>; nothing is changed.</summary>
    public static PackDamage Look(PooledStore store, string pack, string problem, ISet<ChunkId> lost)
    {
        if (store.Index.TableOf(pack) is not { } table)
            return new PackDamage(pack, problem.Length > 0 ? problem : "its table cannot be read, so all its chunks are lost", 0);
        using var reader = new PackReader(store.Place, store.Keys);
        var whole = new HashSet<int>();
        for (var b = 0; b < table.Blocks.Length; b++)
            ForWhole(store, pack, table, b, reader, (i, _) => whole.Add(i));
        foreach (var i in Enumerable.Range(0, table.Count).Where(i => !whole.Contains(i)))
            lost.Add(table.IdAt(i));
        var count = table.Count - whole.Count;
        return new PackDamage(
            pack,
            problem.Length > 0 ? problem
                : count > 0 ? $"{count} of its {table.Count} chunks differ from what was written"
                : "its head, table or tail differs from what was written, but all its chunks are whole",
            count
        );
    }

    private delegate void WholeChunk(int index, ReadOnlySpan<byte> content);

    /// <summary>Gives the chunks of a block that are what was written.</summary>
    private static void ForWhole(PooledStore store, string pack, PackTable table, int number, PackReader reader, WholeChunk found)
    {
        ReadOnlySpan<byte> raw;
        try
        {
            raw = reader.Block(pack, table, number, out var whole);
            if (!whole)
                return;
        }
        catch (PlaceException e) when (e.Fault is PlaceFault.Other or PlaceFault.NotFound)
        {
            return;
        }
        var block = table.Blocks[number];
        for (var i = block.FirstChunk; i < block.FirstChunk + block.Chunks; i++)
        {
            var content = raw.Slice(table.SpotAt(i).Offset, table.SpotAt(i).Length);
            if (store.Keys.IdOf(content) == table.IdAt(i))
                found(i, content);
        }
    }
}
