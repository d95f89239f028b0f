using System.IO.Enumeration;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

public sealed class SearchAndRestoreTests
{
    [Fact]
    public async Task A_search_finds_what_the_file_system_holds_and_nothing_else()
    {
        using var keep = new Keep();
        var random = new Random(11);
        for (var i = 0; i < 120; i++)
            keep.Write(
                $"{(char)('a' + random.Next(4))}/{(char)('k' + random.Next(3))}/{random.Next(40)}.{(random.Next(2) == 0 ? "csv" : "JPG")}",
                $"{i}"
            );
        var first = await keep.BackUp();
        keep.Write("a/late.csv", "x");
        var second = await keep.BackUp(first);
        foreach (var pattern in new[] { "csv", "*.jpg", "1?.csv", "k", "*/a/k/*", "LATE", "nothing" })
        {
            var search = new TreeSearch(keep.Store, pattern, 10_000);
            Assert.Equal(Expected(pattern), search.In(second, default).Select(h => h.Path).Order(StringComparer.Ordinal));
            // The same search over another copy goes by what it has seen, and is still right.
            Assert.Equal(
                Expected(pattern).Where(p => !p.Contains("late", StringComparison.Ordinal)),
                search.In(first, default).Select(h => h.Path).Order(StringComparer.Ordinal)
            );
        }
        Assert.Equal(5, new TreeSearch(keep.Store, "csv", 5).In(second, default).Count());

        List<string> Expected(string pattern)
        {
            var whole = pattern.Contains('/', StringComparison.Ordinal);
            var shape = pattern.IndexOfAny(['*', '?']) >= 0 ? pattern : $"*{pattern}*";
            var all = Directory.EnumerateFileSystemEntries(keep.Source, "*", SearchOption.AllDirectories).ToList();
            for (var above = keep.Source; above.Length > 1; above = Path.GetDirectoryName(above)!)
                all.Add(above);
            return
            [
                .. all.Where(p => FileSystemName.MatchesSimpleExpression(shape, whole ? p : Path.GetFileName(p), true))
                    .Order(StringComparer.Ordinal),
            ];
        }
    }

    [Fact]
    public async Task A_path_is_found_by_its_whole_name_and_never_below_a_file()
    {
        using var keep = new Keep();
        keep.Write("ab", "1");
        keep.Write("folder/x", "2");
        var copy = await keep.BackUp();
        foreach (
            var (path, found) in new[]
            {
                ("ab", true),
                ("a", false),
                ("abc", false),
                ("ab/x", false),
                ("folder/x", true),
                ("fold/x", false),
            }
        )
            Assert.Equal(found, TreeWalk.Find(keep.Store, copy, NameText.ReadPath($"{keep.Source}/{path}")!) is not null);
    }

    [Fact]
    public async Task What_an_interrupted_restore_left_is_told_and_stays()
    {
        using var keep = new Keep();
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        var target = Directory.CreateDirectory(keep.Root + "/back").FullName;
        // This process under a number that no process has.
        var mark = ProcessMark.Own.Replace($"-{Environment.ProcessId}-", "-4194303-", StringComparison.Ordinal);
        var left = Directory.CreateDirectory($"{target}/.ironkeep-restoring-{mark}-0").FullName;
        var atWork = Directory.CreateDirectory($"{target}/.ironkeep-restoring-{ProcessMark.Own}-1").FullName;
        File.WriteAllText(left + "/e1", "half");
        using var restorer = new TreeRestorer(keep.Store);
        var report = restorer.Restore(copy, [], target);
        var told = Assert.Single(report.Problems);
        Assert.Equal("/" + Path.GetFileName(left), told.Path);
        Assert.True(File.Exists(left + "/e1") && Directory.Exists(atWork));
    }

    [Fact]
    public void A_forbidden_folder_is_known_behind_a_link_to_it()
    {
        using var keep = new Keep();
        File.CreateSymbolicLink(keep.Root + "/link", keep.StoreFolder);
        var forbidden = new ForbiddenFolders([(keep.Root + "/link", "store cellar")]);
        Assert.Contains("store cellar", forbidden.Reason(RealPaths.OfExistingPart(keep.StoreFolder + "/inside")));
        Assert.Null(forbidden.Reason(RealPaths.OfExistingPart(keep.Source)));
    }

    [Theory]
    [InlineData(ExistingRule.Keep, "mine", null, 1)]
    [InlineData(ExistingRule.Overwrite, "theirs", null, 0)]
    [InlineData(ExistingRule.Beside, "mine", "theirs", 0)]
    public async Task What_exists_is_kept_replaced_or_put_beside_as_asked(ExistingRule rule, string after, string? beside, int problems)
    {
        using var keep = new Keep();
        keep.Write("dir/file", "theirs");
        keep.Write("dir/new", "new");
        File.CreateSymbolicLink(keep.Source + "/dir/link", "file");
        var copy = await keep.BackUp();
        var target = keep.Root + "/back";
        Directory.CreateDirectory(target + keep.Source + "/dir");
        File.WriteAllText(target + keep.Source + "/dir/file", "mine");
        var report = new TreeRestorer(keep.Store, null, rule).Restore(copy, [], target);
        Assert.Equal(problems, report.Problems.Count);
        Assert.Equal(after, File.ReadAllText(target + keep.Source + "/dir/file"));
        Assert.Equal("new", File.ReadAllText(target + keep.Source + "/dir/new"));
        if (beside is not null)
            Assert.Equal(beside, File.ReadAllText(target + keep.Source + "/dir/file.restored"));
        Assert.Equal((rule == ExistingRule.Overwrite ? 1 : 0, rule == ExistingRule.Beside ? 1 : 0), (report.Overwritten, report.Beside));
        Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(target, "*", SearchOption.AllDirectories), f =>
            f.Contains("ironkeep-restoring", StringComparison.Ordinal)
        );
        // Once more beside: a third name, and everything that lay there stays.
        var again = new TreeRestorer(keep.Store, null, ExistingRule.Beside).Restore(copy, [], target);
        Assert.Empty(again.Problems);
        Assert.Equal(3, again.Beside);
        Assert.Equal(after, File.ReadAllText(target + keep.Source + "/dir/file"));
    }

    [Fact]
    public async Task Writing_over_never_follows_a_link_that_lies_in_the_way()
    {
        using var keep = new Keep();
        keep.Write("dir/file", "theirs");
        var copy = await keep.BackUp();
        var target = keep.Root + "/back";
        var outside = keep.Root + "/outside";
        File.WriteAllText(outside, "untouched");
        Directory.CreateDirectory(target + keep.Source + "/dir");
        File.CreateSymbolicLink(target + keep.Source + "/dir/file", outside);
        new TreeRestorer(keep.Store, null, ExistingRule.Overwrite).Restore(copy, [], target);
        Assert.Equal("untouched", File.ReadAllText(outside));
        Assert.Null(new FileInfo(target + keep.Source + "/dir/file").LinkTarget);
        // A folder where a file should be stays, with what is in it, and is reported.
        var other = keep.Root + "/other";
        Directory.CreateDirectory(other + keep.Source + "/dir/file/inner");
        var report = new TreeRestorer(keep.Store, null, ExistingRule.Overwrite).Restore(copy, [], other);
        Assert.Single(report.Problems);
        Assert.True(Directory.Exists(other + keep.Source + "/dir/file/inner"));
    }

    [Fact]
    public async Task A_damaged_file_is_named_and_leaves_nothing_half_done()
    {
        using var keep = new Keep();
        var bytes = new byte[3_000_000];
        new Random(1).NextBytes(bytes);
        keep.Write("big", bytes);
        keep.Write("small", "whole");
        var copy = await keep.BackUp();
        var pack = new DirectoryInfo(keep.StoreFolder + "/packs")
            .EnumerateFiles("*.pack", SearchOption.AllDirectories)
            .MaxBy(f => f.Length)!;
        using (var file = pack.Open(FileMode.Open))
            Flip(file, pack.Length / 2);
        keep.Reopen();
        var (folder, report) = keep.Restore(copy);
        Assert.Contains("/big", Assert.Single(report.Problems).Path);
        Assert.Equal(["small"], Directory.EnumerateFiles(folder).Select(Path.GetFileName));
    }

    [Fact]
    public async Task A_check_within_a_budget_reads_least_recently_read_first_until_everything_was_read()
    {
        using var keep = new Keep();
        CopyRecord? copy = null;
        for (var i = 0; i < 6; i++)
        {
            var bytes = new byte[300_000];
            new Random(i).NextBytes(bytes);
            keep.Write($"file-{i}", bytes);
            copy = await keep.BackUp(copy);
        }
        var readAt = new Dictionary<string, DateTimeOffset>();
        var all = keep.Store.PackSizes();
        var now = DateTimeOffset.UnixEpoch;
        var nights = 0;
        while (readAt.Count < all.Count)
        {
            now += TimeSpan.FromDays(1);
            Assert.InRange(++nights, 1, 20);
            var report = StoreCheck.Run(keep.Store, new CheckScope(650_000, p => readAt.TryGetValue(p, out var at) ? at : null, now));
            Assert.True(report.Sound);
            Assert.InRange(report.Bytes, 1, Math.Max(650_000, all.Values.Max()));
            // Nothing is read twice before everything was read once, and no copy is called read before all its packs were.
            Assert.True(!report.Packs.Any(readAt.ContainsKey) || all.Keys.All(p => readAt.ContainsKey(p) || report.Packs.Contains(p)));
            foreach (var pack in report.Packs)
                readAt[pack] = now;
            var newest = report.Whole.Single(w => w.CopyId == copy!.Id);
            Assert.True(newest.ReadSince is not null || readAt.Count < all.Count);
            Assert.True(newest.ReadSince is null || nights > 2);
        }
        Assert.InRange(nights, 3, 20);
        var next = StoreCheck.Run(keep.Store, new CheckScope(1, p => readAt[p], now + TimeSpan.FromDays(1)));
        Assert.Equal(readAt.Values.Min(), readAt[Assert.Single(next.Packs)]);
        Assert.Equal(
            readAt.Where(r => !next.Packs.Contains(r.Key)).Min(r => r.Value),
            next.Whole.Single(w => w.CopyId == copy!.Id).ReadSince
        );
    }

    [Fact]
    public async Task A_copy_comes_back_from_the_bin_as_it_was()
    {
        using var keep = new Keep();
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        Assert.True(keep.Store.MoveToBin(copy.Id, DateTimeOffset.UnixEpoch));
        Assert.True(keep.Store.TakeBack(copy.Id, DateTimeOffset.UnixEpoch));
        Assert.True(keep.Store.TakeBack(copy.Id, DateTimeOffset.UnixEpoch));
        Assert.Null(Assert.Single(keep.Store.ReadContents().Copies).Binned);
        Assert.False(keep.Store.TakeBack("no-such-copy", DateTimeOffset.UnixEpoch));
    }

    private static void Flip(FileStream file, long at)
    {
        file.Position = at;
        var value = file.ReadByte();
        file.Position = at;
        file.WriteByte((byte)(value ^ 8));
    }
}
