using IronKeep.Runs.Fetching;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Tests;

/// <summary>Copies that are given back on another machine: the same files, and nothing of any other copy.</summary>
public sealed class FetchingTests : IDisposable
{
    private readonly Keep keep = new();
    private readonly string target = Directory.CreateTempSubdirectory("fetched-").FullName;

    public void Dispose()
    {
        keep.Dispose();
        Directory.Delete(target, true);
    }

    /// <summary>A link without a line; what is asked for may be bent, and counted.</summary>
    private sealed class Near(LeavingCopy leaving) : IFetchLink
    {
        public int Asked;
        public Func<byte[], byte[]> Bends { get; set; } = a => a;

        public byte[] Fetch(ReadOnlyMemory<byte> asked)
        {
            Interlocked.Increment(ref Asked);
            return Bends(leaving.Give(asked.Span));
        }
    }

    private RestoreReport Fetch(CopyRecord copy, Near? by = null, params string[] paths)
    {
        using var leaving = new LeavingCopy(keep.Store, copy);
        using var restorer = new TreeRestorer(new FetchedTrees(by ?? new Near(leaving)));
        return restorer.Restore(leaving.Told, paths, target);
    }

    [Fact]
    public async Task What_is_fetched_is_what_was_kept_and_small_files_come_together()
    {
        var random = new Random(11);
        for (var i = 0; i < 3000; i++)
        {
            var content = new byte[random.Next(3) == 0 ? random.Next(60_000) : random.Next(300)];
            random.NextBytes(content);
            keep.Write($"{i % 7}/{i % 3}/file-{i}", content);
        }
        keep.Write("big", Enumerable.Range(0, 90_000_000).Select(i => (byte)((i >> 9) ^ (i * 13))).ToArray());
        Listing.Shell(
            "truncate -s 3M holes; printf end >> holes; ln big another; ln -s nowhere link; mkfifo pipe; chmod 2750 3",
            keep.Source
        );
        var copy = await keep.BackUp();
        using var leaving = new LeavingCopy(keep.Store, copy);
        var near = new Near(leaving);
        using (var restorer = new TreeRestorer(new FetchedTrees(near)))
            Assert.Empty(restorer.Restore(leaving.Told, [], target).Problems);
        Assert.Equal("", Listing.Diff(keep.Source, target + keep.Source));
        // 3,000 files in 28 folders, and one of 90 MB in a good hundred chunks.
        Assert.InRange(near.Asked, 40, 260);
    }

    [Fact]
    public async Task Chosen_paths_come_alone_and_what_is_there_is_not_fetched_again()
    {
        for (var i = 0; i < 200; i++)
            keep.Write($"a/{i}", new string((char)('a' + i % 20), 20_000) + i);
        keep.Write("b/one", "one");
        var copy = await keep.BackUp();
        var report = Fetch(copy, null, keep.Source + "/b/one", keep.Source + "/nowhere");
        Assert.Equal((1, 1), (report.Files, report.Problems.Count));
        Assert.Equal("one", File.ReadAllText(target + keep.Source + "/b/one"));
        Assert.False(Directory.Exists(target + keep.Source + "/a"));
        using var leaving = new LeavingCopy(keep.Store, copy);
        var near = new Near(leaving);
        using (var restorer = new TreeRestorer(new FetchedTrees(near)))
            Assert.Single(restorer.Restore(leaving.Told, [], target).Problems);
        var before = near.Asked;
        using (var again = new TreeRestorer(new FetchedTrees(near)))
            Assert.Equal(201, again.Restore(leaving.Told, [], target).Problems.Count);
        // Only listings are read: every file is there already.
        Assert.InRange(near.Asked - before, 1, 20);
    }

    /// <summary>Whoever reads one copy can name nothing of another, whatever was heard of it elsewhere.</summary>
    [Fact]
    public async Task Nothing_but_this_copy_can_be_named()
    {
        keep.Write("secret", "of another copy " + new string('s', 5000));
        var other = await keep.BackUp();
        File.Delete(keep.Source + "/secret");
        keep.Write("own", "of this copy");
        var copy = await keep.BackUp();
        using var leaving = new LeavingCopy(keep.Store, copy);
        using var of = new LeavingCopy(keep.Store, other);
        Assert.True(Given(leaving, WireKind.Listing, leaving.Told.RootContent().Ids[0]).There);
        foreach (
            var made in (ChunkId[])
                [
                    // As the store names it, as another reading was told, and made up.
                    .. other.RootContent().Ids,
                    .. copy.RootContent().Ids,
                    .. of.Told.RootContent().Ids,
                    ChunkId.Read(new byte[ChunkId.Size]),
                ]
        )
        foreach (var kind in (WireKind[])[WireKind.Content, WireKind.List, WireKind.Listing])
            Assert.False(Given(leaving, kind, made).There);
        // A listing as content shows names of the store, which are good for nothing; a listing as a list, or content as a listing, is none.
        Assert.False(Given(leaving, WireKind.List, leaving.Told.RootContent().Ids[0]).There);
        foreach (var length in (int[])[0, 1, WireAsk.Size - 1, WireAsk.Size + 1, (WireAsk.Most + 1) * WireAsk.Size])
            Assert.Throws<ArrivalRefusedException>(() => leaving.Give(new byte[length]));
        Assert.False(Given(leaving, (WireKind)77, leaving.Told.RootContent().Ids[0]).There);
        // And who gives more than was asked for gives nothing.
        var asked = new byte[2 * WireAsk.Size];
        for (var i = 0; i < 2; i++)
            WireAsk.Write(asked.AsSpan(i * WireAsk.Size), WireKind.Listing, leaving.Told.RootContent().Ids[0]);
        using var zstd = new IronKeep.Stores.Packs.Zstd();
        Assert.Equal(2, WireAsk.Read(leaving.Give(asked), 2, zstd).Count);
        Assert.Throws<InvalidDataException>(() => WireAsk.Read(leaving.Give(asked), 1, zstd));
    }

    private static (bool There, byte[] Content) Given(LeavingCopy leaving, WireKind kind, ChunkId id)
    {
        var asked = new byte[WireAsk.Size];
        WireAsk.Write(asked, kind, id);
        using var zstd = new IronKeep.Stores.Packs.Zstd();
        return Assert.Single(WireAsk.Read(leaving.Give(asked), 1, zstd));
    }

    [Fact]
    public async Task Damage_in_the_store_is_named_file_by_file_and_the_rest_comes()
    {
        var random = new Random(5);
        for (var i = 0; i < 60; i++)
        {
            var content = new byte[300_000];
            random.NextBytes(content);
            keep.Write($"file-{i}", content);
        }
        var copy = await keep.BackUp();
        keep.Reopen();
        var pack = new DirectoryInfo(keep.StoreFolder).GetFiles("*", SearchOption.AllDirectories).MaxBy(f => f.Length)!;
        using (var file = pack.Open(FileMode.Open, FileAccess.ReadWrite))
        {
            file.Position = pack.Length / 2;
            var b = file.ReadByte();
            file.Position--;
            file.WriteByte((byte)(b ^ 1));
        }
        var report = Fetch(copy);
        Assert.InRange(report.Problems.Count, 1, 3);
        Assert.All(report.Problems, p => Assert.Contains("damaged in the store", p.Problem));
        Assert.Equal(60 - report.Problems.Count, report.Files);
    }

    [Fact]
    public async Task An_answer_that_is_none_ends_the_restore_and_leaves_no_half_file()
    {
        for (var i = 0; i < 50; i++)
            keep.Write($"file-{i}", $"content of {i}");
        var copy = await keep.BackUp();
        var random = new Random(3);
        for (var round = 0; round < 60; round++)
        {
            using var leaving = new LeavingCopy(keep.Store, copy);
            var near = new Near(leaving);
            near.Bends = a => near.Asked < 2 + round % 4 ? a : Bent(a, random);
            try
            {
                using var restorer = new TreeRestorer(new FetchedTrees(near), existing: ExistingRule.Overwrite);
                restorer.Restore(leaving.Told, [], target);
            }
            catch (Exception e) when (e is InvalidDataException or StoreDamageException) { }
            foreach (var file in Directory.Exists(target + keep.Source) ? Directory.GetFiles(target + keep.Source) : [])
                Assert.Equal($"content of {Path.GetFileName(file)[5..]}", File.ReadAllText(file));
        }
    }

    private static byte[] Bent(byte[] answer, Random random)
    {
        switch (random.Next(4))
        {
            case 0:
                return answer[..random.Next(answer.Length)];
            case 1:
                return [];
            case 2:
                return [.. answer, 1, 0, 0, 0];
            default:
                // The head: what it is, how it is packed, how long it is.
                answer[random.Next(9)] ^= (byte)(1 << random.Next(8));
                return answer;
        }
    }
}
