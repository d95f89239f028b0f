using IronKeep.Stores.Healing;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>What one store lost comes back from another, whose chunks have other identities, and nothing wrong comes in.</summary>
public sealed class HealTests : IDisposable
{
    // Not below the folder that every other test works in: its own attributes are part of a copy, and both stores shall have the same.
    private readonly Keep hurt = new(under: AppContext.BaseDirectory),
        helper = new(new StoreMaking(HashKind.Sha256, null));

    public HealTests() => helper.Order = o => o with { Takes = [hurt.Source] };

    public void Dispose()
    {
        hurt.Dispose();
        helper.Dispose();
    }

    [Fact]
    public async Task Whatever_packs_are_lost_every_copy_is_whole_again_while_the_other_store_has_the_same()
    {
        var random = new Random(11);
        Listing.Shell(
            """
            mkdir -p a/b/c long ; head -c 70000000 /dev/urandom > a/large ; truncate -s 90M a/b/holes ; head -c 3000000 /dev/urandom | dd of=a/b/holes bs=1M seek=40 conv=notrunc status=none
            for i in $(seq 300); do head -c $((i * 97)) /dev/urandom > "a/b/c/file $i" ; done ; ln a/large a/b/same ; printf x > $'long/\xff\nodd' ; ln -s nowhere a/link ; : > empty
            """,
            hurt.Source
        );
        var copies = new List<CopyRecord> { await hurt.BackUp() };
        var twins = new List<CopyRecord> { await helper.BackUp() };
        Listing.Shell("printf more >> a/large ; rm 'a/b/c/file 7' ; head -c 5000 /dev/urandom > a/b/c/new", hurt.Source);
        copies.Add(await hurt.BackUp(copies[0]));
        twins.Add(await helper.BackUp(twins[0]));
        var packs = Directory
            .EnumerateFiles(Path.Combine(hurt.StoreFolder, "packs"), "*", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal)
            .ToList();
        var whole = packs.ToDictionary(p => p, File.ReadAllBytes);
        for (var round = 0; round < 4; round++)
        {
            // First the packs of listings alone, then all, then some by chance.
            var gone = packs
                .Where(p =>
                    round switch
                    {
                        0 => whole[p][8] == 2,
                        1 => true,
                        _ => random.Next(2) == 0,
                    }
                )
                .ToList();
            foreach (var extra in Directory.EnumerateFiles(Path.Combine(hurt.StoreFolder, "packs"), "*", SearchOption.AllDirectories))
                File.Delete(extra);
            foreach (var pack in packs.Except(gone))
                File.WriteAllBytes(pack, whole[pack]);
            hurt.Reopen();
            var before = StoreCheck.Run(hurt.Store);
            Assert.Equal(gone.Count == 0, before.Sound);
            var report = Healer.Run(hurt.Store, [helper.Store], default);
            Assert.True(gone.Count == 0 || report.Healed.Length > 0);
            hurt.Reopen();
            var after = StoreCheck.Run(hurt.Store, CheckScope.Everything with { Depth = CheckDepth.Deep });
            Assert.True(after.Sound, $"round {round}: {string.Join(", ", after.Copies.SelectMany(c => c.Paths))}");
            Assert.Equal("", Listing.Diff(hurt.Source, hurt.Restore(copies[1]).Folder));
        }
        // What helps is not changed by helping.
        Assert.True(StoreCheck.Run(helper.Store).Sound);
    }

    [Fact]
    public async Task Where_the_other_store_has_another_content_only_what_is_the_same_comes_back_and_the_rest_stays_named()
    {
        hurt.Write("same", "the tide table");
        hurt.Write("changed", "first");
        var copy = await hurt.BackUp();
        // As long and as old, so that only the content tells it apart.
        var time = File.GetLastWriteTimeUtc(hurt.Source + "/changed");
        hurt.Write("changed", "other");
        File.SetLastWriteTimeUtc(hurt.Source + "/changed", time);
        await helper.BackUp();
        foreach (
            var pack in Directory
                .EnumerateFiles(Path.Combine(hurt.StoreFolder, "packs"), "*", SearchOption.AllDirectories)
                .Where(p => File.ReadAllBytes(p)[8] == 1)
        )
            File.Delete(pack);
        hurt.Reopen();
        var report = Healer.Run(hurt.Store, [helper.Store], default);
        Assert.Equal([$"{hurt.Source}/same"], report.Healed.Select(h => h.Path));
        Assert.Equal([$"{hurt.Source}/changed"], [.. StoreCheck.Run(hurt.Store).Copies.Single().Paths]);
        Assert.Equal("the tide table", File.ReadAllText(hurt.Restore(copy, hurt.Source + "/same").Folder + "/same"));
        // Another job's copies are not asked, and a helper that is hurt itself heals nothing and breaks nothing.
        foreach (var pack in Directory.EnumerateFiles(Path.Combine(helper.StoreFolder, "packs"), "*", SearchOption.AllDirectories))
            File.Delete(pack);
        helper.Reopen();
        Assert.Empty(Healer.Run(hurt.Store, [helper.Store], default).Healed);
    }

    [Fact]
    public async Task Damage_that_no_check_has_set_aside_is_not_said_to_be_healed_and_heals_after_the_check()
    {
        hurt.Write("a", "the tide table");
        await hurt.BackUp();
        await helper.BackUp();
        foreach (var pack in Directory.EnumerateFiles(Path.Combine(hurt.StoreFolder, "packs"), "*", SearchOption.AllDirectories))
        {
            var bytes = File.ReadAllBytes(pack);
            bytes[60] ^= 1;
            File.WriteAllBytes(pack, bytes);
        }
        hurt.Reopen();
        Assert.Empty(Healer.Run(hurt.Store, [helper.Store], default).Healed);
        Assert.False(StoreCheck.Run(hurt.Store).Sound);
        Assert.NotEmpty(Healer.Run(hurt.Store, [helper.Store], default).Healed);
        Assert.True(StoreCheck.Run(hurt.Store).Sound);
    }
}
