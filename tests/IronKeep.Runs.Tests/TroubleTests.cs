using System.Runtime.InteropServices;
using IronKeep.Core.Watching;
using IronKeep.Runs.Backups;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

/// <summary>Trouble with the world around: links in the way, files that move while read, several writers, a full disk.</summary>
public sealed class TroubleTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task A_restore_never_follows_a_link_that_lies_in_its_way()
    {
        keep.Write("dir/file", "from the copy");
        keep.Write("link-to-be", "x");
        var copy = await keep.BackUp();
        var target = Directory.CreateDirectory(Path.Combine(keep.Root, "target")).FullName;
        var outside = Directory.CreateDirectory(Path.Combine(keep.Root, "outside")).FullName;
        Directory.CreateDirectory(target + keep.Source);
        Directory.CreateSymbolicLink(target + keep.Source + "/dir", outside);
        File.CreateSymbolicLink(target + keep.Source + "/link-to-be", outside + "/planted");
        var report = new TreeRestorer(keep.Store).Restore(copy, [], target);
        Assert.Empty(Directory.EnumerateFileSystemEntries(outside));
        Assert.Equal([keep.Source + "/dir", keep.Source + "/link-to-be"], report.Problems.Select(p => p.Path.TrimEnd('/')).Order());
    }

    [Fact]
    public async Task A_copy_whose_name_is_taken_is_not_written_over_the_other()
    {
        keep.Write("a", "1");
        keep.Order = order => order with { CopyId = "the-same" };
        var first = await keep.BackUp();
        keep.Write("a", "2");
        Assert.Contains("exists already", (await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp())).Message);
        // Nor where the other is in the bin.
        Assert.True(keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow));
        await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp());
        Assert.Equal("1", File.ReadAllText(keep.Restore(first).Folder + "/a"));
    }

    [Fact]
    public async Task A_cancelled_run_ends_where_it_is_and_not_at_the_end_of_its_walk()
    {
        for (var i = 0; i < 3000; i++)
            keep.Write($"{i / 10}/{i}", "x");
        var copy = await keep.BackUp();
        var all = keep.Figures.Items;
        using var cancelled = new CancellationTokenSource();
        await cancelled.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => keep.BackUp(copy, cancelled.Token));
        Assert.True(keep.Figures.Items < all / 10, $"{keep.Figures.Items} of {all} were looked at all the same");
    }

    [Fact]
    public async Task A_path_that_the_copy_does_not_hold_is_said_and_the_others_come_back()
    {
        keep.Write("a/b/one", "1");
        keep.Write("a/two", "2");
        var copy = await keep.BackUp();
        var (folder, report) = keep.Restore(copy, keep.Source + "/a/b", keep.Source + "/none", "half\\x4");
        Assert.Equal(["half\\x4", keep.Source + "/none"], report.Problems.Select(p => p.Path).Order(StringComparer.Ordinal).Reverse());
        Assert.Equal("./a\n./a/b\n./a/b/one\n", Listing.Shell("find . -mindepth 1 | LC_ALL=C sort", folder));
    }

    [Fact]
    public async Task A_file_that_changes_under_every_reading_is_named_and_the_copy_still_restores()
    {
        keep.Write("log", new byte[30_000_000]);
        using var stop = new CancellationTokenSource();
        var path = Path.Combine(keep.Source, "log");
        var writing = Task.Run(() =>
        {
            using var file = File.OpenHandle(path, FileMode.Open, FileAccess.Write, FileShare.ReadWrite);
            for (var i = 0; !stop.IsCancellationRequested; i++)
                RandomAccess.Write(file, [(byte)i], 30_000_000 + i);
        });
        var copy = await keep.BackUp();
        await stop.CancelAsync();
        await writing;
        Assert.Equal(1, copy.Skipped);
        Assert.Contains(keep.Log, l =>
            l.StartsWith("Warning", StringComparison.Ordinal) && l.Contains("changed while it was read", StringComparison.Ordinal)
        );
        Assert.Empty(keep.Restore(copy).Report.Problems);
    }

    [Fact]
    public async Task A_cancelled_run_leaves_no_copy_and_the_next_uses_what_it_stored()
    {
        for (var i = 0; i < 100; i++)
        {
            var content = new byte[1_500_000];
            new Random(i).NextBytes(content);
            keep.Write($"{i}", content);
        }
        using var cancel = new CancellationTokenSource();
        // A store so slow that the run cannot be done before it is cancelled, however busy the machine is.
        var place = keep.Place;
        keep.Place = new ThrottledPlace(place, 30_000_000, null);
        var running = keep.BackUp(null, cancel.Token);
        while (keep.Figures.ReadBytes < 60_000_000 && !running.IsCompleted)
            await Task.Yield();
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => running);
        keep.Reopen();
        keep.Place = place;
        Assert.Empty(keep.Store.ReadContents().Copies);
        await keep.BackUp();
        Assert.InRange(keep.Figures.NewBytes, 0, 130_000_000);
    }

    [Fact]
    public async Task A_full_disk_fails_by_name_and_loses_nothing()
    {
        keep.Write("a", "first");
        var mount = Directory.CreateDirectory(Path.Combine(keep.Root, "small")).FullName;
        // Mounting needs root; without it there is nothing to see here.
        if (Listing.Shell($"mount -t tmpfs -o size=8m none '{mount}' && echo mounted", "/").Trim() != "mounted")
            return;
        try
        {
            var place = new FolderPlace(mount);
            PooledStore.Create(place, StoreMaking.Open, DateTimeOffset.UnixEpoch);
            keep.Encrypted = false;
            keep.Place = place;
            var first = await keep.BackUp();
            var large = new byte[30_000_000];
            new Random(1).NextBytes(large);
            keep.Write("large", large);
            var failure = await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp(first));
            Assert.Equal(FailureClass.StoreFull, failure.Class);
            Assert.Contains("no room", failure.Message);
            keep.Reopen();
            Assert.True(StoreCheck.Run(keep.Store).Sound);
            Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
            Assert.Equal("first", File.ReadAllText(keep.Restore(first).Folder + "/a"));
            File.Delete(Path.Combine(keep.Source, "large"));
            Assert.Equal(2, keep.Store.ReadContents().Copies.Length + (await keep.BackUp(first) is null ? 0 : 1));
        }
        finally
        {
            keep.Reopen();
            Listing.Shell($"umount -l '{mount}'", "/");
        }
    }

    [Fact]
    public async Task A_disk_that_is_full_to_the_last_byte_is_still_tended_and_gets_its_room_back()
    {
        var large = new byte[3_000_000];
        new Random(1).NextBytes(large);
        keep.Write("large", large);
        var mount = Directory.CreateDirectory(Path.Combine(keep.Root, "small")).FullName;
        if (Listing.Shell($"mount -t tmpfs -o size=8m none '{mount}' && echo mounted", "/").Trim() != "mounted")
            return;
        try
        {
            var place = new FolderPlace(mount);
            PooledStore.Create(place, StoreMaking.Open, DateTimeOffset.UnixEpoch);
            keep.Encrypted = false;
            keep.Place = place;
            var first = await keep.BackUp();
            File.Delete(Path.Combine(keep.Source, "large"));
            keep.Write("small", "stays");
            var second = await keep.BackUp();
            keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow.AddDays(-9));
            Listing.Shell("cat /dev/zero > others 2>/dev/null", mount);
            Assert.Equal(0, place.FreeBytes());
            keep.Reopen();
            var report = Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
            Assert.InRange(report.BytesFreed, 3_000_000, 4_000_000);
            Assert.InRange(place.FreeBytes()!.Value, 2_000_000, 4_000_000);
            Assert.Equal("stays", File.ReadAllText(keep.Restore(second).Folder + "/small"));
            Assert.True(StoreCheck.Run(keep.Store).Sound);
        }
        finally
        {
            keep.Reopen();
            Listing.Shell($"umount -l '{mount}'", "/");
        }
    }

    [Fact]
    public async Task A_large_file_is_seen_to_move_and_a_run_under_a_ceiling_is_stopped_at_once()
    {
        var large = new byte[40_000_000];
        new Random(1).NextBytes(large);
        keep.Write("large", large);
        keep.Place = new ThrottledPlace(keep.Place, 100_000, null);
        using var stop = new CancellationTokenSource();
        var running = keep.BackUp(cancel: stop.Token);
        while (keep.Figures.Moving == 0)
            await Task.Delay(5);
        Assert.Equal((0, 0), (keep.Figures.Items, keep.Figures.SelectedBytes));
        // The whole would take seven minutes, and a pack of it more than two.
        while (!Directory.EnumerateFiles(keep.StoreFolder, "*", SearchOption.AllDirectories).Any(f => new FileInfo(f).Length > 200_000))
            await Task.Delay(20);
        await stop.CancelAsync();
        var watch = System.Diagnostics.Stopwatch.StartNew();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => running);
        Assert.True(watch.Elapsed < TimeSpan.FromSeconds(30), $"it took {watch.Elapsed} to stop");
        keep.Place = new FolderPlace(keep.StoreFolder);
        keep.Reopen();
        var copy = await keep.BackUp();
        Assert.Equal((1, 40_000_000, 0), (keep.Figures.Items, keep.Figures.SelectedBytes, keep.Figures.Moving));
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(copy).Folder));
    }

    [Fact]
    public async Task A_mount_that_is_lost_in_mid_run_fails_by_name_and_the_empty_folder_gets_no_pack()
    {
        var mount = Directory.CreateDirectory(Path.Combine(keep.Root, "lost")).FullName;
        if (Listing.Shell($"mount -t tmpfs -o size=400m none '{mount}' && echo mounted", "/").Trim() != "mounted")
            return;
        try
        {
            PooledStore.Create(new FolderPlace(mount), StoreMaking.Open, DateTimeOffset.UnixEpoch);
            keep.Encrypted = false;
            var content = new byte[250_000_000];
            new Random(2).NextBytes(content);
            keep.Write("large", content);
            keep.Place = new ThrottledPlace(new FolderPlace(mount), 60_000_000, null);
            var running = keep.BackUp();
            while (keep.Figures.ReadBytes < 60_000_000 && !running.IsCompleted)
                await Task.Yield();
            Listing.Shell($"umount -l '{mount}'", "/");
            var failure = await Assert.ThrowsAsync<RunFailedException>(() => running);
            Assert.Equal(FailureClass.StoreUnreachable, failure.Class);
            Assert.Contains("mount it", failure.Message);
            Assert.Empty(Directory.EnumerateFiles(mount, "*", SearchOption.AllDirectories));
        }
        finally
        {
            keep.Reopen();
            Listing.Shell($"umount -l '{mount}'", "/");
        }
    }

    [Fact]
    public async Task Without_the_right_to_give_files_away_owners_are_reported_once_and_the_rest_is_whole()
    {
        keep.Write("a", "1");
        keep.Write("b", "2");
        Listing.Shell("chown 1234:1234 a b", keep.Source);
        var copy = await keep.BackUp();
        if (Environment.UserName != "root")
            return;
        // As another user: the raw call changes the thread alone.
        var target = Path.Combine(keep.Root, "unprivileged");
        Directory.CreateDirectory(target);
        Listing.Shell($"chown -R nobody '{target}' && chmod 755 '{keep.Root}' && chmod -R a+rX '{keep.StoreFolder}'", "/");
        var report = AsNobody(() => new TreeRestorer(keep.Store).Restore(copy, [], target));
        Assert.Contains("only root may give files to others", Assert.Single(report.Problems).Problem);
        Assert.Equal("", Listing.Diff(keep.Source, target + keep.Source));
    }

    private static T AsNobody<T>(Func<T> work)
    {
        T result = default!;
        Exception? failed = null;
        var thread = new Thread(() =>
        {
            // setresuid, x86-64.
            if (Syscall(117, uint.MaxValue, 65534, uint.MaxValue) != 0)
                throw new InvalidOperationException("cannot become nobody");
            try
            {
                result = work();
            }
            catch (Exception e)
            {
                failed = e;
            }
            _ = Syscall(117, uint.MaxValue, 0, uint.MaxValue);
        });
        thread.Start();
        thread.Join();
        return failed is null ? result : throw failed;
    }

    [DllImport("libc", EntryPoint = "syscall")]
    private static extern long Syscall(long number, uint real, uint effective, uint saved);
}
