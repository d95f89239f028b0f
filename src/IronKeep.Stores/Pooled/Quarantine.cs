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

    /// <summary><paramref name="bytes"/> is what could be read of the pack; <paramref name="problem"/> why it could not, or empty.</summary>
    public static PackDamage SetAside(PooledStore store, string pack, byte[] bytes, string problem)
    {
        store.Index.Packs.TryGetValue(pack, out var entries);
        var indexProblem = store.Index.Damaged.GetValueOrDefault(pack);
        var whole = (entries ?? []).Where(e => IsWhole(e, bytes)).ToList();
        var lost = (entries?.Count ?? 0) - whole.Count;
        if (whole.Count > 0)
        {
            using var builder = new PackBuilder();
            foreach (var entry in whole) builder.AddStored(entry, bytes.AsSpan((int)entry.Offset, entry.StoredLength));
            var (name, content) = builder.Seal();
            store.Place.Write(ChunkIndex.FileOf(name), content.Span);
            store.Index.Add(name, [.. builder.Entries]);
        }
        store.Index.Forget(pack);
        try
        {
            store.Place.Move(ChunkIndex.FileOf(pack), $"{Folder}/{pack}.pack");
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
        {
            // A pack that vanished needs no setting aside.
        }
        var what = problem.Length > 0 ? problem
            : entries is null ? indexProblem ?? "its index cannot be read, so all its chunks are lost"
            : lost > 0 ? $"{lost} of its {entries.Count} chunks differ from what was written"
            : "its head, index or tail differs from what was written, but all its chunks are whole and were saved";
        return new PackDamage(pack, what, lost);
    }

    private static bool IsWhole(PackEntry entry, byte[] bytes) =>
        entry.Offset + (long)entry.StoredLength <= bytes.Length
        && ChunkReader.Unfold(entry, bytes.AsSpan((int)entry.Offset, entry.StoredLength)) is { } raw
        && ChunkId.Of(raw) == entry.Id;
}
