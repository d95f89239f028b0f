using IronKeep.Core.Watching;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Runs.Tests;

public sealed class BackupRunTests : IDisposable
{
    private readonly Keep keep = new();
    private readonly Random random = new(20270328);

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Comes_back_with_contents_modes_owners_times_and_links()
    {
        keep.Write("register/2027.csv", "ring,species\nA1234,reed warbler\n");
        keep.Write("empty", "");
        keep.Write("photos/large.raw", Bytes(5_000_000));
        Listing.Shell(
            """
            mkdir -p 'odd names' void deep/er/still
            printf 'x' > 'odd names/with space' ; printf 'y' > $'odd names/new\nline' ; printf 'z' > $'odd names/\xff\xfe' ; printf 'w' > 'odd names/back\slash'
            ln -s ../register/2027.csv photos/link ; ln -s /nowhere/at/all dangling ; mkfifo pipe
            chmod 4711 empty ; chmod 1777 void ; chmod 640 register/2027.csv ; chown 1234:4321 photos/large.raw ; chown -h 77:88 dangling
            touch -d '2001-02-03 04:05:06.123456789' register/2027.csv ; touch -h -d '1969-12-31 23:59:58.5' dangling ; touch -d '1999-01-01' void deep
            """,
            keep.Source
        );

        var copy = await keep.BackUp();
        var (folder, report) = keep.Restore(copy);

        Assert.Empty(report.Problems);
        Assert.Equal("", Listing.Diff(keep.Source, folder));
        Assert.Equal(Listing.Of(keep.Source), Listing.Of(folder));
        Assert.Equal(10, copy.Items);
    }

    [Fact]
    public async Task Reads_and_stores_only_what_changed()
    {
        for (var i = 0; i < 300; i++)
            keep.Write($"calls/{i % 7}/{i}.wav", Bytes(20_000));
        var large = Bytes(8_000_000);
        keep.Write("large", large);
        var first = await keep.BackUp();
        Assert.Equal(301, keep.Figures.FilesRead);

        var second = await keep.BackUp(first);
        Assert.Equal(0, keep.Figures.ReadBytes);
        // Only the listings of the folders above the source, whose times others change.
        Assert.InRange(keep.Figures.NewBytes, 0, 1000);

        // Bytes put into the middle of a large file move everything behind them, and still little is new.
        keep.Write("large", [.. large[..4_000_000], .. Bytes(1000), .. large[4_000_000..]]);
        keep.Write("calls/3/3.wav", Bytes(20_000));
        var third = await keep.BackUp(second);
        Assert.Equal(2, keep.Figures.FilesRead);
        Assert.InRange(keep.Figures.NewBytes, 20_000, 2_500_000);

        foreach (var (copy, content) in new[] { (first, large), (second, large) })
        {
            var (folder, _) = keep.Restore(copy, keep.Source + "/large");
            Assert.Equal(content, File.ReadAllBytes(folder + "/large"));
            Assert.False(Directory.Exists(folder + "/calls"));
        }
        var (last, _) = keep.Restore(third);
        Assert.Equal("", Listing.Diff(keep.Source, last));
    }

    [Fact]
    public async Task Leaves_out_what_the_job_says_and_names_what_it_could_not_read()
    {
        foreach (var path in new[] { "a.tmp", "keep.tmp", "cache/x", "sub/cache/y", "logs/1.log", "sub/logs/1.log", "data" })
            keep.Write(path, path);
        keep.LeavesOut = ["*.tmp", "!keep.tmp", "cache/", "/logs/*.log"];
        var copy = await keep.BackUp();
        var (folder, _) = keep.Restore(copy);
        Assert.Equal("./data\n./keep.tmp\n./sub/logs/1.log\n", Listing.Shell("find . -type f | LC_ALL=C sort", folder));
        Assert.Equal(0, copy.Skipped);
    }

    [Fact]
    public async Task A_source_that_is_not_there_fails_by_name_and_leaves_no_copy()
    {
        Directory.Delete(keep.Source);
        var failure = await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp());
        Assert.Equal(FailureClass.SourceUnreadable, failure.Class);
        Assert.Contains(keep.Source, failure.Message);
        Assert.Empty(keep.Store.ReadContents().Copies);
    }

    [Fact]
    public async Task A_store_that_vanishes_fails_the_run_and_comes_back_whole()
    {
        keep.Write("a", "1");
        var first = await keep.BackUp();
        Directory.Move(keep.StoreFolder, keep.StoreFolder + "-away");
        // A lost mount leaves an empty folder behind.
        Directory.CreateDirectory(keep.StoreFolder);
        var failure = await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp(first));
        Assert.Equal(FailureClass.StoreUnreachable, failure.Class);
        Assert.Empty(Directory.EnumerateFileSystemEntries(keep.StoreFolder));
        Directory.Delete(keep.StoreFolder);
        Directory.Move(keep.StoreFolder + "-away", keep.StoreFolder);
        var second = await keep.BackUp(first);
        Assert.Equal(["copy-1", second.Id], keep.Store.ReadContents().Copies.Select(c => c.Record.Id).Order());
    }

    [Fact]
    public async Task Restoring_never_writes_over_what_is_there()
    {
        keep.Write("a", "from the copy");
        keep.Write("b", "too");
        var copy = await keep.BackUp();
        var target = Directory.CreateDirectory(Path.Combine(keep.Root, "target")).FullName;
        Directory.CreateDirectory(target + keep.Source);
        File.WriteAllText(target + keep.Source + "/a", "mine");
        var report = new Stores.Restores.TreeRestorer(keep.Store).Restore(copy, [], target);
        Assert.Equal("mine", File.ReadAllText(target + keep.Source + "/a"));
        Assert.Equal("too", File.ReadAllText(target + keep.Source + "/b"));
        Assert.Equal(keep.Source + "/a", Assert.Single(report.Problems).Path);
    }

    private byte[] Bytes(int count)
    {
        var bytes = new byte[count];
        random.NextBytes(bytes);
        return bytes;
    }

    [Fact]
    public async Task Small_chunks_scattered_over_many_packs_are_stored_again_where_looking_costs_more_and_all_comes_back()
    {
        const int packs = 80,
            small = 100;
        CopyRecord? last = null;
        // While somebody tends the store, small packs are not joined.
        var tending = keep.Store.Tend();
        for (var i = 0; i < packs; i++)
        {
            keep.Write($"{i}/a", new string('a', small - 4) + $"{i:0000}");
            keep.Write($"{i}/b", string.Concat(Enumerable.Range(0, 4000).Select(n => $"{i * n:00000}")));
            last = await keep.BackUp(last);
        }
        keep.Reopen();
        var again = await keep.BackUp();
        tending.Dispose();
        // A session reads 64 tables for small chunks; the larger ones are worth a table each. What others do in /tmp changes listings
        // above.
        Assert.InRange(keep.Figures.NewBytes, (packs - 64) * small / 2, (packs - 64) * small + 2000);
        keep.Reopen();
        Assert.True(StoreCheck.Run(keep.Store).Sound);
        foreach (var copy in keep.Store.ReadContents().Copies.Where(c => c.Record.Id != again.Id))
            keep.Store.MoveToBin(copy.Record.Id, DateTimeOffset.UtcNow.AddDays(-1));
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(again).Folder));
    }
}
