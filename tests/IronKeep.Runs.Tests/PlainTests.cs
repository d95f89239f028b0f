using System.Collections.Immutable;
using IronKeep.Core.Dated;
using IronKeep.Runs.Backups;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Plain;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;

namespace IronKeep.Runs.Tests;

/// <summary>Plain archives, judged by tar and sha256sum.</summary>
public sealed class PlainTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("plain-").FullName;
    private readonly List<string> log = [];
    private RunFigures figures = new();
    private PlainStore? open;
    private PlainShape shape = new(true, 100_000);
    private int copies;

    private string Source => Path.Combine(root, "source");
    private string Folder => Path.Combine(root, "store");

    public PlainTests()
    {
        Directory.CreateDirectory(Source);
        Directory.CreateDirectory(Folder);
        PlainStore.Create(new FolderPlace(Folder), DateTimeOffset.UnixEpoch);
    }

    public void Dispose()
    {
        open?.Dispose();
        Listing.Shell($"chmod -R u+rwx '{root}'; rm -rf '{root}'", "/");
    }

    private PlainStore Store => open ??= PlainStore.Open(new FolderPlace(Folder), shape);

    private void Reopen()
    {
        open?.Dispose();
        open = null;
    }

    private string Of(CopyRecord copy) => Path.Combine(Folder, "archives", copy.Id);

    private async Task<CopyRecord> BackUpAsync(CopyKind kind = CopyKind.Full, CopyRecord? on = null, CopyRecord? previous = null)
    {
        var order = new BackupOrder($"copy-{++copies:00}", "job", "heron", [Source], [], on ?? previous) { Level = 3 };
        var plan = new CopyPlan(order.CopyId, kind, on);
        var run = new BackupRun(Store.Target(plan), order, TimeProvider.System, (severity, text) => log.Add($"{severity}: {text}"));
        figures = run.Figures;
        return await run.RunAsync(default);
    }

    private void Change(string script) => Assert.Equal("", Listing.Shell(script, Source));

    private string Fresh() => Directory.CreateDirectory(Path.Combine(root, $"out-{Guid.NewGuid():n}")).FullName;

    /// <summary>What the copy's own README tells to do, done by the shell; gives the source's place in what came of it.</summary>
    private string Unpack(CopyRecord copy)
    {
        var target = Fresh();
        var steps = File.ReadAllLines(Path.Combine(Of(copy), "README.txt")).Where(l => l.StartsWith("  ", StringComparison.Ordinal));
        foreach (var step in steps)
            Assert.Equal(
                "",
                Listing.Shell(
                    step.Replace("/restored", target, StringComparison.Ordinal)
                        .Replace("| tar", "| tar --warning=no-timestamp --warning=no-unknown-keyword", StringComparison.Ordinal),
                    Of(copy)
                )
            );
        return target + Source;
    }

    private string Restore(CopyRecord copy, params string[] paths)
    {
        var target = Fresh();
        Assert.Empty(((IStoreLayout)Store).Restore(copy, paths, target, new RestoreManner(new ForbiddenFolders([])), default).Problems);
        return target + Source;
    }

    private static string Look(string folder) =>
        Listing.Of(folder) + Listing.Shell("getfattr -R -d . 2>/dev/null; find . -type f -links +1 | sort", folder);

    private static void AssertSame(string expected, string actual)
    {
        Assert.Equal(Look(expected), Look(actual));
        Assert.Equal("", Listing.Diff(expected, actual));
    }

    /// <summary>Everything that a tree can hold, and every way in which it can change.</summary>
    private static readonly string[] Nights =
    [
        """
            mkdir -p a/b void deep/er shut && echo ring > a/ring && ln a/ring a/b/same && ln -s ../ring a/b/link && mkfifo pipe
            printf 'x' > $'a/new\nline' ; printf 'y' > $'a/\xff\xfe' ; printf 'w' > 'a/back\slash' ; printf 'd' > ' -rf'
            head -c 700000 /dev/urandom > a/large ; truncate -s 5M holes ; printf mid >> holes ; truncate -s 9M holes ; truncate -s 3M nothing
            setfattr -n user.note -v 'two words' a/large ; touch empty deep/er/none ; for i in $(seq 300); do echo $i > deep/$i; done
            d=$(printf 'n%.0s' $(seq 1 200)) ; mkdir -p "long/$d/$d" ; echo deep > "long/$d/$d/file" ; chmod 4755 a/ring ; echo s > shut/s
            touch -d '1969-12-31 23:59:58.25' a/ring ; mkdir turns ; echo f > turns/file ; echo f > turned
            """,
        "echo more >> a/large",
        "rm -r deep/er deep/17 && echo new > deep/new",
        "rm -r turns && echo file > turns && rm turned && mkdir turned && echo in > turned/in",
        "mv a/ring a/rung && chmod 700 void && setfattr -n user.note -v other a/large",
        "rm a/b/link && ln -s ./elsewhere a/b/link && touch -d 2001-02-03 deep",
        "ln a/rung third && rm pipe && mkfifo -m 600 pipe",
        "mv long short && printf z > $'a/new\\nline' && rm $'a/\\xff\\xfe'",
        "",
        "truncate -s 0 a/large && printf end >> holes && rm empty nothing",
        "rm -rf a turned && mkdir a && echo again > a/ring && chmod 500 shut",
    ];

    [Theory]
    [InlineData(true, CopyKind.Incremental)]
    [InlineData(false, CopyKind.Incremental)]
    [InlineData(true, CopyKind.Differential)]
    public async Task A_full_and_a_chain_of_ten_come_back_by_tar_and_by_us_night_by_night(bool compresses, CopyKind kind)
    {
        shape = new PlainShape(compresses, 100_000);
        var taken = new List<CopyRecord>();
        foreach (var (script, night) in Nights.Select((s, i) => (s, i)))
        {
            Change(script);
            Assert.Equal("", Listing.Shell($"cp -a '{Source}' '{root}/night-{night}'", "/"));
            taken.Add(
                night == 0 ? await BackUpAsync()
                : kind == CopyKind.Incremental ? await BackUpAsync(kind, taken[^1])
                : await BackUpAsync(kind, taken[0])
            );
        }
        Assert.Empty(log);
        Reopen();
        foreach (var (copy, night) in taken.Select((c, i) => (c, i)))
        {
            var was = $"{root}/night-{night}";
            AssertSame(was, Unpack(copy));
            AssertSame(was, Restore(copy));
            // Every file is at most as long as it may be, and the record names them all.
            var files = Directory.GetFiles(Of(copy)).Select(f => new FileInfo(f)).ToDictionary(f => f.Name, f => f.Length);
            Assert.Equal(files.OrderBy(f => f.Key), copy.Files.Select(f => KeyValuePair.Create(f.Name, f.Bytes)).OrderBy(f => f.Key));
            Assert.All(files.Where(f => f.Key.StartsWith("archive.tar", StringComparison.Ordinal)), f => Assert.True(f.Value <= 100_000));
            Assert.Equal("", Listing.Shell("sha256sum --quiet -c archive.sha256", Of(copy)));
        }
        // A night on which nothing happened takes next to nothing.
        if (kind == CopyKind.Incremental)
            Assert.True(
                taken[8].NewBytes == 0
                    && taken[8].Files.Where(f => f.Name.StartsWith("archive.tar", StringComparison.Ordinal)).Sum(f => f.Bytes) < 11_000
            );
        var report = ((IStoreLayout)Store).Check(CheckScope.Everything, null, default);
        Assert.Equal(11, report.Whole.Length);
        Assert.Empty(report.Copies);
    }

    [Fact]
    public async Task A_full_copy_takes_everything_anew_and_tells_what_changed_all_the_same()
    {
        Change(Nights[0]);
        var first = await BackUpAsync();
        Change("echo more >> a/ring; rm deep/1");
        var second = await BackUpAsync(previous: first);
        Assert.True(second.NewBytes >= first.NewBytes);
        // Both names of the ring.
        Assert.Equal((2, 1), (figures.Churn.Altered, figures.Churn.Gone));
        Directory.Delete(Of(first), true);
        File.Delete(Path.Combine(Folder, "copies", first.Id + ".copy"));
        Reopen();
        AssertSame(Source, Unpack(second));
        AssertSame(Source, Restore(second));
    }

    [Fact]
    public async Task Single_files_of_a_chain_are_found_read_and_compared_without_unpacking_it()
    {
        Change("mkdir d; echo one > d/first; head -c 9000000 /dev/urandom > d/large");
        var full = await BackUpAsync();
        Change("echo two > d/second");
        var partial = await BackUpAsync(CopyKind.Incremental, full);
        Reopen();
        IStoreLayout store = Store;
        var path = Source[1..].Split('/').Append("d").Select(p => System.Text.Encoding.UTF8.GetBytes(p)).ToList();
        var (before, after) = (store.Find(full, path)!, store.Find(partial, path)!);
        Assert.Equal(["first", "large", "second"], store.ReadFolder(after).Select(e => System.Text.Encoding.UTF8.GetString(e.Name)));
        Assert.Equal("one\n"u8.ToArray(), store.ReadFile(store.ReadFolder(after)[0], default));
        Assert.Equal(1, store.Compare(before, after, 10, TimeSpan.FromMinutes(1), default).Sums.Added);
        var back = Restore(partial, Source + "/d/large");
        Assert.Equal("", Listing.Diff(Source + "/d/large", back + "/d/large"));
        Assert.False(File.Exists(back + "/d/first"));
    }

    [Fact]
    public async Task Damage_is_found_where_it_is_and_hurts_no_other_copy()
    {
        Change(Nights[0]);
        var copy = await BackUpAsync();
        var other = await BackUpAsync();
        var piece = Directory.GetFiles(Of(copy), "archive.tar.zst.*").Order().ElementAt(1);
        var bytes = File.ReadAllBytes(piece);
        bytes[100] ^= 4;
        File.WriteAllBytes(piece, bytes);
        IStoreLayout store = Store;
        var report = store.Check(CheckScope.Everything, null, default);
        Assert.Equal((copy.Id, Path.GetFileName(piece)), (report.Copies.Single().CopyId, report.Copies.Single().Paths.Single()));
        Assert.Equal(other.Id, Assert.Single(report.Whole).CopyId);
        Reopen();
        var problems = Store.Restore(copy, [], Fresh(), new RestoreManner(new ForbiddenFolders([])), default).Problems;
        Assert.NotEmpty(problems);
        File.Delete(piece);
        Assert.Equal(
            "it is not there",
            Assert
                .Single(((IStoreLayout)Store).Check(CheckScope.Everything with { Depth = CheckDepth.Presence }, null, default).Damage)
                .Problem
        );
        AssertSame(Source, Restore(other));
        // Without its index a copy is restored by tar.
        File.Delete(Path.Combine(Of(other), "index"));
        Reopen();
        Assert.Contains(
            "can be unpacked without it",
            Assert
                .Throws<StoreDamageException>(() =>
                    ((IStoreLayout)Store).Find(other, [Source[1..].Split('/')[0].Select(c => (byte)c).ToArray()])
                )
                .Message,
            StringComparison.Ordinal
        );
        AssertSame(Source, Unpack(other));
    }

    [Fact]
    public async Task A_copy_on_which_another_stands_stays_until_that_goes_too()
    {
        Change("echo one > one");
        var full = await BackUpAsync();
        Change("echo two > two");
        var partial = await BackUpAsync(CopyKind.Incremental, full);
        IStoreLayout store = Store;
        var now = DateTimeOffset.UtcNow;
        Assert.True(store.MoveToBin(full.Id, now.AddDays(-9)));
        Assert.Empty(store.Reclaim(now, _ => true, default).CopiesGone);
        AssertSame(Source, Unpack(partial));
        Assert.True(store.MoveToBin(partial.Id, now.AddDays(-1)));
        // The partial one still waits in the bin.
        Assert.Empty(store.Reclaim(now.AddDays(-2), _ => true, default).CopiesGone);
        Assert.Empty(store.Reclaim(now, id => id != partial.Id, default).CopiesGone);
        var report = store.Reclaim(now, _ => true, default);
        Assert.Equal([partial.Id, full.Id], report.CopiesGone);
        Assert.True(report.BytesFreed > 0);
        Assert.Empty(Directory.GetFiles(Path.Combine(Folder, "archives"), "*", SearchOption.AllDirectories));
    }

    [Fact]
    public async Task Writing_that_breaks_off_leaves_no_copy_and_its_files_go_when_nobody_writes()
    {
        Change("head -c 900000 /dev/urandom > large");
        var whole = await BackUpAsync();
        var session = Store.Target(new CopyPlan("broken", CopyKind.Full, null)).BeginCopy(1);
        Directory.CreateDirectory(Path.Combine(Folder, "archives", "killed"));
        File.WriteAllText(Path.Combine(Folder, "archives", "killed", "archive.tar.zst.000001"), "half");
        IStoreLayout store = Store;
        store.Reclaim(DateTimeOffset.MinValue, _ => true, default);
        Assert.True(File.Exists(Path.Combine(Folder, "archives", "killed", "archive.tar.zst.000001")));
        session.Dispose();
        store.Reclaim(DateTimeOffset.MinValue, _ => true, default);
        Assert.False(File.Exists(Path.Combine(Folder, "archives", "killed", "archive.tar.zst.000001")));
        Assert.Equal([whole.Id], store.CopyNames().InForce);
        AssertSame(Source, Restore(whole));
        // A run that fails takes away what it wrote itself.
        shape = new PlainShape(false, 100_000);
        Reopen();
        using var stop = new CancellationTokenSource();
        var order = new BackupOrder("stopped", "job", "heron", [Source], [], null);
        var run = new BackupRun(Store.Target(new CopyPlan("stopped", CopyKind.Full, null)), order, TimeProvider.System, (_, _) => { });
        var running = run.RunAsync(stop.Token);
        while (run.Figures.ReadBytes == 0 && !running.IsCompleted)
            await Task.Delay(1);
        await stop.CancelAsync();
        await Assert.ThrowsAnyAsync<Exception>(() => running);
        Assert.DoesNotContain(Directory.GetFiles(Path.Combine(Folder, "archives"), "*", SearchOption.AllDirectories), f =>
            f.Contains("/stopped/", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task What_somebody_stands_on_at_this_very_moment_is_not_removed()
    {
        Change("echo one > one");
        var full = await BackUpAsync();
        IStoreLayout store = Store;
        var now = DateTimeOffset.UtcNow;
        using (Store.Target(new CopyPlan("next", CopyKind.Incremental, full)).BeginCopy(1))
        {
            Assert.True(store.MoveToBin(full.Id, now.AddDays(-9)));
            var report = store.Reclaim(now, _ => true, default);
            Assert.Empty(report.CopiesGone);
            Assert.Equal(1, report.PacksWaiting);
        }
        // And what is in the bin nobody begins to stand on.
        Assert.Throws<StoreDamageException>(() => Store.Target(new CopyPlan("other", CopyKind.Incremental, full)).BeginCopy(1));
        Assert.Equal([full.Id], store.Reclaim(now, _ => true, default).CopiesGone);
    }

    [Fact]
    public async Task A_link_behind_a_file_that_could_not_be_read_to_its_end_leaves_a_sound_archive()
    {
        var session = Store.Target(new CopyPlan("bent", CopyKind.Full, null)).BeginCopy(1);
        var entry = TreeWalk.RootOf(await BackUpAsync()) with
        {
            Kind = EntryKind.File,
            Size = 5,
            Links = 2,
            Inode = 7,
            Device = 7,
            Content = ContentRef.Empty,
        };
        using var lane = session.OpenLane();
        foreach (var (name, ends) in new[] { ("first", true), ("half", false), ("second", true) })
        {
            var one = entry with { Name = System.Text.Encoding.UTF8.GetBytes(name), Inode = ends ? 7UL : 8 };
            if (session.BeginFile(one.Name, one, null) is not null)
                continue;
            var bytes = System.Text.Encoding.UTF8.GetBytes(ends ? "whole" : "hal");
            lane.Put(bytes, lane.IdOf(bytes));
            if (ends)
                session.EndFile(one);
        }
        var root = new ListingWriter().Finish(session);
        session.Commit(
            new CopyRecord(
                "bent",
                "job",
                "heron",
                DateTimeOffset.UtcNow,
                DateTimeOffset.UtcNow,
                ["/"],
                0,
                0,
                0,
                root.Depth,
                [.. root.Ids.Select(i => i.ToString())]
            )
        );
        session.Dispose();
        var folder = Path.Combine(Folder, "archives", "bent");
        Assert.Equal("first\nhalf\nsecond\n", Listing.Shell("cat archive.tar.zst.* | zstd -dc | tar -tf -", folder));
        Assert.Contains("  half\n", File.ReadAllText(Path.Combine(folder, "README.txt")), StringComparison.Ordinal);
        Assert.DoesNotContain("half", File.ReadAllText(Path.Combine(folder, "SHA256SUMS")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_file_that_shrinks_and_grows_while_it_is_read_leaves_an_archive_that_tar_reads()
    {
        Change("head -c 60000000 /dev/urandom > moving; head -c 9000000 /dev/urandom > small; echo still > still");
        using var stop = new CancellationTokenSource();
        var moving = Task.Run(() =>
        {
            for (var i = 0; !stop.IsCancellationRequested; i++)
            {
                using (var file = new FileStream(Source + "/moving", FileMode.Open))
                    file.SetLength(i % 2 == 0 ? 50_000_000 : 60_000_000);
                using (var file = new FileStream(Source + "/small", FileMode.Open))
                    file.SetLength(i % 2 == 0 ? 7_000_000 : 9_000_000);
            }
        });
        var copy = await BackUpAsync();
        await stop.CancelAsync();
        await moving;
        Assert.Contains(log, l => l.Contains("changed while it was read", StringComparison.Ordinal));
        Assert.Equal("still\n", File.ReadAllText(Unpack(copy) + "/still"));
        Assert.Equal("still\n", File.ReadAllText(Restore(copy) + "/still"));
    }
}
