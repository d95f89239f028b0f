using IronKeep.Stores.Healing;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>What one store lost comes back from another, whose chunks have other identities, and nothing wrong comes in.</summary>
public sealed class HealTests : IDisposable
{
    private Keep hurt = null!,
        helper = null!;

    public HealTests() => Begin();

    private void Begin()
    {
        // Not below the folder that every other test works in: its own attributes are part of a copy, and both stores shall have the same.
        hurt = new Keep(under: AppContext.BaseDirectory);
        helper = new Keep(new StoreMaking(HashKind.Sha256, null)) { Order = o => o with { Takes = [hurt.Source] } };
    }

    /// <summary>The folders above the source with their times, which are part of every copy and are not this test's alone.</summary>
    private string Above() =>
        Listing.Shell("p=$PWD; while [ \"$p\" != / ]; do p=$(dirname \"$p\"); stat -c '%n %y %z' \"$p\"; done", hurt.Source);

    /// <summary>
    /// Backs up into both stores. False when somebody worked beside the source meanwhile: then the copies are no twins, and whoever needs
    /// them begins anew.
    /// </summary>
    private async Task<bool> BackUpTwins(List<CopyRecord> copies, List<CopyRecord> twins)
    {
        var above = Above();
        copies.Add(await hurt.BackUp(copies.LastOrDefault()));
        twins.Add(await helper.BackUp(twins.LastOrDefault()));
        return Above() == above;
    }

    public void Dispose()
    {
        hurt.Dispose();
        helper.Dispose();
    }

    [Fact]
    public async Task Whatever_packs_are_lost_every_copy_is_whole_again_while_the_other_store_has_the_same()
    {
        var random = new Random(11);
        List<CopyRecord> copies = [],
            twins = [];
        for (var attempt = 0; !await Made(); attempt++)
        {
            Assert.True(attempt < 5, "somebody keeps changing the folders above the source");
            Dispose();
            Begin();
        }
        ShowThatAllHeals(copies, random);

        async Task<bool> Made()
        {
            copies.Clear();
            twins.Clear();
            Listing.Shell(
                """
                mkdir -p a/b/c long ; head -c 70000000 /dev/urandom > a/large ; truncate -s 90M a/b/holes ; head -c 3000000 /dev/urandom | dd of=a/b/holes bs=1M seek=40 conv=notrunc status=none
                for i in $(seq 300); do head -c $((i * 97)) /dev/urandom > "a/b/c/file $i" ; done ; ln a/large a/b/same ; printf x > $'long/\xff\nodd' ; ln -s nowhere a/link ; : > empty
                """,
                hurt.Source
            );
            if (!await BackUpTwins(copies, twins))
                return false;
            Listing.Shell("printf more >> a/large ; rm 'a/b/c/file 7' ; head -c 5000 /dev/urandom > a/b/c/new", hurt.Source);
            return await BackUpTwins(copies, twins);
        }
    }

    private void ShowThatAllHeals(List<CopyRecord> copies, Random random)
    {
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
