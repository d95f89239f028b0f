using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Tests;

/// <summary>With AES-GCM a nonce that comes twice under one key gives both texts away: none does.</summary>
public sealed class KeyReuseTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("nonce-").FullName;

    public void Dispose() => Directory.Delete(folder, true);

    [Fact]
    public void No_two_packs_share_a_key_and_no_block_of_a_pack_shares_its_nonce()
    {
        var secret = Secret.Passphrase("the reeds are high in june");
        var place = new FolderPlace(Directory.CreateDirectory(folder + "/store").FullName);
        PooledStore.Create(place, new StoreMaking(HashKind.Blake3, secret, Hardness: Hardness.Light), DateTimeOffset.UnixEpoch);
        using var store = PooledStore.Open(place, secret);
        // The same content again and again, in packs of their own: equal texts are where a key that comes twice shows at once.
        var content = new byte[3_000_000];
        Random.Shared.NextBytes(content);
        for (var pack = 0; pack < 12; pack++)
        {
            using var session = store.BeginWriting();
            var lane = session.OpenLane();
            for (var at = 0; at < content.Length; at += 500_000)
                lane.PutAnyway(store.Keys.IdOf(content.AsSpan(at, 500_000)), content.AsSpan(at, 500_000));
            session.Seal();
        }
        var packs = Directory.GetFiles(folder + "/store/packs", "*.pack", SearchOption.AllDirectories);
        Assert.Equal(12, packs.Length);
        var salts = packs.Select(p => Convert.ToHexString(File.ReadAllBytes(p).AsSpan(16, PackFormat.SaltSize))).ToList();
        Assert.Equal(packs.Length, salts.Distinct().Count());
        // Equal texts under other keys have nothing in common: no sixteen bytes at any multiple of eight come twice.
        var seen = new HashSet<UInt128>();
        foreach (var pack in packs)
        {
            var bytes = File.ReadAllBytes(pack);
            for (var at = 64; at + 16 <= bytes.Length; at += 4096)
                Assert.True(seen.Add(BitConverter.ToUInt128(bytes, at)), $"{pack} repeats at {at}");
        }
        // Within a pack, blocks are told apart by their numbers alone.
        var nonces = new HashSet<string>();
        Span<byte> nonce = stackalloc byte[Sealing.NonceSize];
        foreach (var number in Enumerable.Range(0, 70_000).Select(n => (ulong)n).Append(ulong.MaxValue))
        {
            PackFormat.Nonce(nonce, number);
            Assert.True(nonces.Add(Convert.ToHexString(nonce)), $"block {number} repeats a nonce");
        }
    }

    [Fact]
    public void What_is_sealed_twice_is_sealed_under_another_nonce()
    {
        var key = Secret.Random(32);
        var nonces = Enumerable
            .Range(0, 1000)
            .Select(_ => Convert.ToHexString(Sealing.Seal(key, "ring 4711"u8).AsSpan(0, Sealing.NonceSize)));
        Assert.Equal(1000, nonces.Distinct().Count());
    }
}
