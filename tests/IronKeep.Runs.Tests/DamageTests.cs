using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>The law: a copy restores exactly, or is reported damaged by name; never a silent loss.</summary>
public sealed class DamageTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Of_a_damaged_pack_the_whole_chunks_are_saved_and_whoever_only_looks_learns_what_is_lost()
    {
        var random = new Random(9);
        for (var i = 0; i < 24; i++)
        {
            var bytes = new byte[300_000];
            random.NextBytes(bytes);
            keep.Write($"f{i}", bytes);
        }
        var copy = await keep.BackUp();
        keep.Reopen();
        var pack = Directory
            .EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories)
            .MaxBy(f => new FileInfo(f).Length)!;
        using (var file = File.OpenWrite(pack))
        {
            file.Position = file.Length / 2;
            file.WriteByte(0);
            file.Position = file.Length / 2;
            file.WriteByte(1);
        }
        IReadOnlyList<string> Named(CheckReport report) => [.. Assert.Single(report.Copies, d => d.CopyId == copy.Id).Paths];

        var looked = Named(StoreCheck.Run(keep.Store, CheckScope.Everything with { OnlyLooks = true }));
        Assert.InRange(looked.Count, 1, 8);
        Assert.True(File.Exists(pack));
        keep.Reopen();
        Assert.Equal(looked.Order(), Named(StoreCheck.Run(keep.Store)).Order());
        Assert.False(File.Exists(pack));
        // Everything else comes back, also to a program that is started anew.
        keep.Reopen();
        var (folder, report) = keep.Restore(copy);
        Assert.Equal(looked.Order(), report.Problems.Select(p => p.Path).Order());
        Assert.Equal(24 - looked.Count, Directory.EnumerateFiles(folder).Count());
    }

    [Fact]
    public async Task Any_flipped_bit_is_found_and_every_file_it_hurts_is_named()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        for (var i = 0; i < 40; i++)
            keep.Write($"d{i % 5}/{i}", new string((char)('a' + i % 26), 3000 + i));
        var copy = await keep.BackUp();
        keep.Reopen();
        // The ballast is noise that nobody reads.
        var files = Directory
            .EnumerateFiles(keep.StoreFolder, "*", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/work/") && !f.EndsWith("/ballast", StringComparison.Ordinal))
            .Order()
            .ToList();
        for (var round = 0; round < 60; round++)
        {
            // Every file of the store gets its turn, whatever its size.
            var victim = files[round % files.Count];
            var before = File.ReadAllBytes(victim);
            var hurt = (byte[])before.Clone();
            var at = random.Next(hurt.Length);
            hurt[at] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(victim, hurt);
            var where = $"seed {seed}, round {round}, {victim} byte {at}";
            try
            {
                var named = Check(copy.Id, where, out var whole);
                var (folder, report) = whole ? keep.Restore(copy) : ("", null);
                if (whole)
                {
                    var lost = report!.Problems.Select(p => p.Path).ToHashSet();
                    foreach (var file in Directory.EnumerateFiles(keep.Source, "*", SearchOption.AllDirectories))
                    {
                        var isNamed = named.Any(n =>
                            n == file
                            || (
                                n.EndsWith("/ (the whole folder)", StringComparison.Ordinal)
                                && file.StartsWith(n[..^19], StringComparison.Ordinal)
                            )
                        );
                        var back = folder + file[keep.Source.Length..];
                        var exact = File.Exists(back) && File.ReadAllBytes(back).SequenceEqual(File.ReadAllBytes(file));
                        Assert.True(
                            exact != isNamed,
                            $"{where}: {file} comes back {(exact ? "whole" : "hurt")} and is {(isNamed ? "" : "not ")}named"
                        );
                    }
                }
            }
            finally
            {
                keep.Reopen();
                Restore(files, victim, before);
            }
        }
    }

    /// <summary>The names the check gives; not whole when the store or the record itself cannot be read, which is a name too.</summary>
    private List<string> Check(string copyId, string where, out bool whole)
    {
        whole = false;
        CheckReport report;
        try
        {
            report = StoreCheck.Run(keep.Store);
        }
        catch (Stores.StoreDamageException e)
        {
            Assert.Matches("store.head|wraps/", e.Message);
            return [];
        }
        Assert.False(report.Sound, $"{where}: the check found nothing");
        var damaged = report.Copies.SingleOrDefault(c => c.CopyId == copyId);
        whole = damaged is null || !damaged.Paths.Any(p => p.StartsWith("copies/", StringComparison.Ordinal));
        return damaged is null ? [] : [.. damaged.Paths];
    }

    private void Restore(List<string> files, string victim, byte[] before)
    {
        foreach (var extra in Directory.EnumerateFiles(keep.StoreFolder, "*", SearchOption.AllDirectories).Except(files))
            File.Delete(extra);
        File.WriteAllBytes(victim, before);
    }

    [Fact]
    public async Task The_next_run_heals_what_a_check_found_damaged()
    {
        keep.Write("a", new string('a', 50_000));
        keep.Write("b", "untouched");
        var first = await keep.BackUp();
        keep.Reopen();
        var pack = Directory
            .EnumerateFiles(Path.Combine(keep.StoreFolder, "packs"), "*", SearchOption.AllDirectories)
            .Single(f => File.ReadAllBytes(f)[8] == 1);
        var bytes = File.ReadAllBytes(pack);
        bytes[60] ^= 1;
        File.WriteAllBytes(pack, bytes);
        Assert.False(StoreCheck.Run(keep.Store).Sound);
        keep.Reopen();
        var second = await keep.BackUp(first);
        var after = StoreCheck.Run(keep.Store);
        Assert.True(after.Sound);
        foreach (var copy in new[] { first, second })
            Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(copy).Folder));
    }

    [Fact]
    public async Task Reclaiming_frees_what_only_binned_copies_need_and_keeps_the_rest_whole()
    {
        var random = new Random(7);
        var copies = new List<CopyRecord>();
        for (var night = 0; night < 6; night++)
        {
            for (var i = 0; i < 20; i++)
            {
                if (night > 0 && i % 6 != night)
                    continue;
                var content = new byte[60_000];
                random.NextBytes(content);
                keep.Write($"{i}", content);
            }
            copies.Add(await keep.BackUp(copies.LastOrDefault()));
        }
        var now = DateTimeOffset.UtcNow;
        foreach (var copy in copies[..^1])
            Assert.True(keep.Store.MoveToBin(copy.Id, now));
        var full = keep.Store.UsedBytes();

        // Still in the bin: restorable, nothing freed.
        Assert.Equal(0, Reclaim.Run(keep.Store, now.AddDays(-7)).BytesFreed);
        Assert.Empty(keep.Restore(copies[0]).Report.Problems);

        var report = Reclaim.Run(keep.Store, now.AddSeconds(1));
        Assert.Equal(5, report.CopiesGone.Count);
        Assert.Equal(full - keep.Store.UsedBytes(), report.BytesFreed + copies[..^1].Sum(RecordSize), 5000.0);
        Assert.InRange(keep.Store.UsedBytes(), 20 * 60_000, 20 * 60_000 + 100_000);
        keep.Reopen();
        Assert.True(StoreCheck.Run(keep.Store).Sound);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(copies[^1]).Folder));
        // Nothing left to do the second time.
        Assert.Equal(0, Reclaim.Run(keep.Store, now.AddSeconds(1)).BytesFreed);

        static long RecordSize(CopyRecord record) => System.Text.Json.JsonSerializer.SerializeToUtf8Bytes(record).Length + 72;
    }
}
