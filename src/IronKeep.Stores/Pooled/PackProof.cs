using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// Proves a pack against its name before its blocks are taken over into another: a flipped bit must not get a name of its own.
/// </summary>
internal static class PackProof
{
    private const int Piece = 512 * 1024;

    public static bool IsWhole(PooledStore store, string pack)
    {
        using var hash = new HashStream(store.Keys.Hash);
        var buffer = new byte[Piece];
        for (long at = 0; ; )
        {
            var read = store.Place.ReadAt(PackNames.FileOf(pack), at, buffer);
            hash.Add(buffer.AsSpan(0, read));
            at += read;
            if (read < buffer.Length)
                break;
        }
        Span<byte> name = stackalloc byte[Hashes.Size];
        hash.Finish(name);
        return Convert.ToHexStringLower(name) == pack;
    }
}
