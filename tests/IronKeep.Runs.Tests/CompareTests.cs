using System.Text;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

public sealed class CompareTests
{
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(1);

    /// <summary>Random changes of a random tree; what is found is what a comparison of the files themselves finds.</summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public async Task A_comparison_finds_what_was_changed_and_nothing_else(int seed)
    {
        using var keep = new Keep();
        var random = new Random(seed);
        for (var i = 0; i < 150; i++)
            keep.Write(Anywhere(random), new string((char)('a' + random.Next(26)), random.Next(1, 3000)));
        var first = await keep.BackUp();
        var was = Contents(keep.Source);
        for (var i = 0; i < 60; i++)
        {
            var path = Anywhere(random);
            var full = Path.Combine(keep.Source, path);
            switch (random.Next(4))
            {
                case 0 when File.Exists(full):
                    File.Delete(full);
                    break;
                case 1 when Directory.Exists(Path.GetDirectoryName(full)):
                    Directory.Delete(Path.GetDirectoryName(full)!, true);
                    break;
                case 2 when File.Exists(full):
                    File.SetUnixFileMode(full, UnixFileMode.UserRead);
                    break;
                default:
                    if (File.Exists(full))
                        File.SetUnixFileMode(full, UnixFileMode.UserRead | UnixFileMode.UserWrite);
                    keep.Write(path, new string('z', random.Next(1, 3000)));
                    break;
            }
        }
        var second = await keep.BackUp(first);
        var now = Contents(keep.Source);

        var expected = new DifferenceSums();
        foreach (var path in was.Keys.Union(now.Keys))
        {
            var (before, after) = (was.GetValueOrDefault(path), now.GetValueOrDefault(path));
            if (before is null)
                (expected.Added, expected.AddedBytes) = (expected.Added + 1, expected.AddedBytes + (after!.Text?.Length ?? 0));
            else if (after is null)
                (expected.Removed, expected.RemovedBytes) = (expected.Removed + 1, expected.RemovedBytes + (before.Text?.Length ?? 0));
            else if (before.Text != after.Text)
                (expected.Changed, expected.ChangedBytes) = (expected.Changed + 1, expected.ChangedBytes + after.Text!.Length);
            else if (before.Mode != after.Mode || after.Text is not null && before.Modified != after.Modified)
                expected.Attributes++;
        }
        var found = Compare(keep, first, second);
        Assert.Equal(expected, found.Sums);
        Assert.True(found.Complete);
        Assert.True(Compare(keep, second, second).Sums.IsNothing);
        // Folder by folder the same comes together.
        var parts = new DifferenceSums();
        foreach (var entry in found.Entries)
            parts = new DifferenceSums
            {
                Added = parts.Added + entry.Sums.Added,
                Removed = parts.Removed + entry.Sums.Removed,
                Changed = parts.Changed + entry.Sums.Changed,
                Attributes = parts.Attributes + entry.Sums.Attributes,
                AddedBytes = parts.AddedBytes + entry.Sums.AddedBytes,
                RemovedBytes = parts.RemovedBytes + entry.Sums.RemovedBytes,
                ChangedBytes = parts.ChangedBytes + entry.Sums.ChangedBytes,
            };
        Assert.Equal(expected, parts);
    }

    [Fact]
    public async Task A_file_that_became_a_folder_went_and_came_and_a_folder_of_one_copy_alone_is_shown_from_both_sides()
    {
        using var keep = new Keep();
        keep.Write("both", "a file");
        keep.Write("gone/a", "12345");
        var first = await keep.BackUp();
        File.Delete(keep.Source + "/both");
        Directory.Delete(keep.Source + "/gone", true);
        keep.Write("both/inside", "now a folder");
        var second = await keep.BackUp(first);
        var found = Compare(keep, first, second);
        Assert.Equal(
            ["both Changed", "gone Removed"],
            found.Entries.Select(e => $"{Encoding.UTF8.GetString((e.After ?? e.Before)!.Name)} {e.Change}")
        );
        Assert.Equal((2, 3, 0), (found.Sums.Added, found.Sums.Removed, found.Sums.Changed));
        var folder = At(keep, first, "gone");
        Assert.Equal(EntryChange.Removed, Assert.Single(Compare(keep, folder, null).Entries).Change);
        Assert.Equal(EntryChange.Added, Assert.Single(Compare(keep, null, folder).Entries).Change);
    }

    [Fact]
    public async Task The_time_of_a_folder_alone_is_no_difference_and_its_mode_is()
    {
        using var keep = new Keep();
        keep.Write("outer/inner/file", "1");
        var first = await keep.BackUp();
        Directory.SetLastWriteTimeUtc(keep.Source + "/outer/inner", DateTime.UnixEpoch);
        var second = await keep.BackUp(first);
        var found = Compare(keep, first, second);
        Assert.True(found.Sums.IsNothing && found.Entries.Length == 0);
        File.SetUnixFileMode(keep.Source + "/outer/inner", UnixFileMode.UserRead | UnixFileMode.UserExecute);
        found = Compare(keep, second, await keep.BackUp(second));
        Assert.Equal((1L, 1), (found.Sums.Attributes, found.Entries.Length));
        File.SetUnixFileMode(keep.Source + "/outer/inner", UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
    }

    [Fact]
    public async Task A_very_deep_tree_a_limit_and_a_time_that_is_over_end_a_comparison_in_order()
    {
        using var keep = new Keep();
        var deep = string.Join('/', Enumerable.Repeat("d", 700));
        keep.Write($"{deep}/file", "one");
        for (var i = 0; i < 30; i++)
            keep.Write($"flat-{i:00}", "one");
        var first = await keep.BackUp();
        keep.Write($"{deep}/file", "two");
        for (var i = 0; i < 30; i++)
            keep.Write($"flat-{i:00}", "two");
        var second = await keep.BackUp(first);
        var (before, after) = (At(keep, first), At(keep, second));
        Assert.Equal((31L, true), Seen(new TreeCompare(keep.Store, 100, Patience, default)));
        var few = new TreeCompare(keep.Store, 5, Patience, default).Folder(before, after);
        // What is not listed is counted all the same.
        Assert.Equal((5, 31L, false), (few.Entries.Length, few.Sums.Changed, few.Complete));
        var hasty = new TreeCompare(keep.Store, 100, TimeSpan.Zero, default).Folder(before, after);
        Assert.False(hasty.Complete);
        Assert.True(hasty.Sums.Changed < 31);
        using var cancelled = new CancellationTokenSource();
        await cancelled.CancelAsync();
        Assert.Throws<OperationCanceledException>(() => new TreeCompare(keep.Store, 100, Patience, cancelled.Token).Folder(before, after));

        (long, bool) Seen(TreeCompare compare)
        {
            var found = compare.Folder(before, after);
            return (found.Sums.Changed, found.Complete);
        }
    }

    private static string Anywhere(Random random) => $"{(char)('a' + random.Next(5))}/{(char)('k' + random.Next(4))}/{random.Next(12)}";

    private static TreeEntry At(Keep keep, CopyRecord copy, string below = "") =>
        TreeWalk.Find(keep.Store, copy, NameText.ReadPath($"{keep.Source}/{below}")!)!;

    private static FolderDifferences Compare(Keep keep, CopyRecord before, CopyRecord after) =>
        Compare(keep, At(keep, before), At(keep, after));

    private static FolderDifferences Compare(Keep keep, TreeEntry? before, TreeEntry? after) =>
        new TreeCompare(keep.Store, 1_000, Patience, default).Folder(before, after);

    /// <summary>What a file or folder is: its text (null of a folder), mode and time.</summary>
    private sealed record Seen(string? Text, UnixFileMode Mode, DateTime Modified);

    private static Dictionary<string, Seen> Contents(string folder)
    {
        var found = new Dictionary<string, Seen>();
        foreach (var path in Directory.EnumerateFileSystemEntries(folder, "*", SearchOption.AllDirectories))
            found[path] = new Seen(
                Directory.Exists(path) ? null : File.ReadAllText(path),
                File.GetUnixFileMode(path),
                File.GetLastWriteTimeUtc(path)
            );
        return found;
    }
}
