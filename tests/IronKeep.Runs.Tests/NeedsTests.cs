using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// An open store knows what the copies that it wrote need; whatever happens, its check says what a walk of every tree says.
/// </summary>
public sealed class NeedsTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task A_check_that_walks_nothing_says_what_one_says_that_walks_everything()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        var copies = new List<CopyRecord>();
        // Long enough for lists of identities, in packs that nothing else needs.
        keep.Write("large", Bytes(30_000_000));
        copies.Add(await keep.BackUp());
        for (var round = 0; round < 12; round++)
        {
            for (var i = 0; i < 6; i++)
                keep.Write($"{random.Next(4)}/{random.Next(20)}", Bytes(random.Next(200_000)));
            if (round % 4 == 2)
                keep.Write("large", [.. File.ReadAllBytes($"{keep.Source}/large"), .. Bytes(100_000)]);
            copies.Add(await keep.BackUp(random.Next(3) == 0 ? null : copies.LastOrDefault()));
            Assert.NotNull(keep.Store.Needs.Of(copies[^1].Id));
            if (round % 5 == 4)
            {
                keep.Store.MoveToBin(copies[random.Next(copies.Count)].Id, DateTimeOffset.UtcNow.AddDays(-1));
                Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
            }
            Compare($"seed {seed}, round {round}");
            foreach (
                var pack in Directory
                    .EnumerateFiles($"{keep.StoreFolder}/packs", "*", SearchOption.AllDirectories)
                    .OrderBy(_ => random.Next())
                    .OrderByDescending(p => new FileInfo(p).Length > 20_000_000)
                    .Take(3)
                    .ToList()
            )
            {
                File.Move(pack, keep.Root + "/away");
                var hurt = Compare($"seed {seed}, round {round}, without {pack}");
                Assert.True(hurt > 0, $"seed {seed}, round {round}: nothing misses {pack}");
                File.Move(keep.Root + "/away", pack);
                Compare($"seed {seed}, round {round}, {pack} back again");
            }
        }

        byte[] Bytes(int length)
        {
            var bytes = new byte[length];
            random.NextBytes(bytes);
            return bytes;
        }
    }

    /// <summary>Copies that are hurt, the same by both.</summary>
    private int Compare(string where)
    {
        using var other = PooledStore.Open(keep.Place, Keep.Secret);
        var scope = CheckScope.Everything with { Depth = CheckDepth.Presence, OnlyLooks = true };
        var (known, walked) = (StoreCheck.Run(keep.Store, scope), StoreCheck.Run(other, scope));
        Assert.True(
            known.Whole.SequenceEqual(walked.Whole),
            $"{where}: known as whole {string.Join(' ', known.Whole)}, in truth {string.Join(' ', walked.Whole)}"
        );
        Assert.True(known.Copies.SequenceEqual(walked.Copies, Same), where);
        return walked.Copies.Length;
    }

    private static IEqualityComparer<CopyDamage> Same { get; } =
        EqualityComparer<CopyDamage>.Create(
            (a, b) => a!.CopyId == b!.CopyId && a.Count == b.Count && a.Paths.SequenceEqual(b.Paths),
            d => d.CopyId.GetHashCode(StringComparison.Ordinal)
        );
}
