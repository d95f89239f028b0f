using IronKeep.Runs.Backups;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

/// <summary>
/// What is taken, and what is not: single files, several paths, sockets, other file systems, a file that became a folder.
/// </summary>
public sealed class TakingTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Only_the_taken_paths_are_in_a_copy_and_the_folders_above_keep_their_attributes()
    {
        foreach (var path in new[] { "a/one", "a/two", "b/three", "c/d/four", "c/five" })
            keep.Write(path, path);
        Listing.Shell("chmod 751 a c; touch -d 2001-01-01 c", keep.Source);
        var order = new BackupOrder("x", "job", "heron", [keep.Source + "/a/one", keep.Source + "/c/d", keep.Source + "/b"], [], null);
        var copy = await new BackupRun(keep.Store, order, TimeProvider.System, (_, _) => { }).RunAsync(default);
        var (folder, report) = keep.Restore(copy);
        Assert.Empty(report.Problems);
        Assert.Equal("./a\n./a/one\n./b\n./b/three\n./c\n./c/d\n./c/d/four\n", Listing.Shell("find . -mindepth 1 | LC_ALL=C sort", folder));
        Assert.Equal("751 2001-01-01\n", Listing.Shell("stat -c '%a %y' c | cut -c1-14", folder));
        Assert.Equal((3L, "a/one".Length + "b/three".Length + "c/d/four".Length), (copy.Items, copy.Bytes));
    }

    [Fact]
    public async Task What_turns_from_file_to_folder_and_back_is_taken_as_it_is()
    {
        keep.Write("x", "a file");
        keep.Write("y/inner", "in a folder");
        var first = await keep.BackUp();
        Listing.Shell("rm x; mkdir x; echo new > x/inner; rm -r y; ln -s x y", keep.Source);
        var second = await keep.BackUp(first);
        Listing.Shell("rm -r x y; echo back > x", keep.Source);
        var third = await keep.BackUp(second);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(third).Folder));
        var (middle, _) = keep.Restore(second);
        Assert.Equal("x\n", Listing.Shell("readlink y", middle));
        Assert.Equal("new\n", File.ReadAllText(middle + "/x/inner"));
    }

    [Fact]
    public async Task A_change_that_keeps_size_and_time_is_still_seen()
    {
        keep.Write("sly", "before");
        Listing.Shell("touch -d '2020-01-01 00:00:00' sly", keep.Source);
        var first = await keep.BackUp();
        Listing.Shell("printf 'after!' > sly; touch -d '2020-01-01 00:00:00' sly", keep.Source);
        // Only the attributes change: the content is not read again, the mode is new all the same.
        keep.Write("mode", "same");
        var second = await keep.BackUp(first);
        Listing.Shell("chmod 600 mode", keep.Source);
        var third = await keep.BackUp(second);
        var (folder, _) = keep.Restore(third);
        Assert.Equal("after!", File.ReadAllText(folder + "/sly"));
        Assert.Equal("600\n", Listing.Shell("stat -c %a mode", folder));
    }

    [Fact]
    public async Task Sockets_are_left_out_and_another_file_system_is_not_entered()
    {
        keep.Write("kept", "1");
        using var socket = new System.Net.Sockets.Socket(
            System.Net.Sockets.AddressFamily.Unix,
            System.Net.Sockets.SocketType.Stream,
            default
        );
        socket.Bind(new System.Net.Sockets.UnixDomainSocketEndPoint(keep.Source + "/socket"));
        Directory.CreateDirectory(keep.Source + "/mounted");
        var mounted = Listing.Shell("mount -t tmpfs none mounted && touch mounted/elsewhere && echo yes", keep.Source).Trim() == "yes";
        try
        {
            var copy = await keep.BackUp();
            Assert.Equal(0, copy.Skipped);
            var expected = "./kept\n./mounted\n";
            Assert.Equal(expected, Listing.Shell("find . -mindepth 1 | LC_ALL=C sort", keep.Restore(copy).Folder));
            Assert.Contains(keep.Log, l => l.Contains("socket", StringComparison.Ordinal));
            if (mounted)
                Assert.Contains(keep.Log, l => l.Contains("another file system", StringComparison.Ordinal));
        }
        finally
        {
            if (mounted)
                Listing.Shell("umount -l mounted", keep.Source);
        }
    }

    [Theory]
    [InlineData("mkfifo data", "/data", "is a fifo now")]
    [InlineData("mkdir elsewhere && ln -s elsewhere data", "/data", "is a symlink now")]
    [InlineData("touch data", "/data/inner", "is a file now")]
    [InlineData("true", "/data", "does not exist")]
    public async Task What_is_to_be_taken_and_became_something_else_fails_the_run(string shell, string taken, string message)
    {
        keep.Write("kept", "1");
        Listing.Shell(shell, keep.Source);
        var order = new BackupOrder("x", "job", "heron", [keep.Source + taken, keep.Source + "/kept"], [], null);
        var failure = await Assert.ThrowsAsync<RunFailedException>(() =>
            new BackupRun(keep.Store, order, TimeProvider.System, (_, _) => { }).RunAsync(default)
        );
        Assert.Equal(Core.Watching.FailureClass.SourceUnreadable, failure.Class);
        Assert.Contains(message, failure.Message);
        Assert.Empty(keep.Store.ReadContents().Copies);
    }

    [Fact]
    public async Task A_wide_and_a_deep_tree_come_back()
    {
        Listing.Shell("mkdir wide && cd wide && seq 1 20000 | xargs touch", keep.Source);
        Listing.Shell(
            "p=deep; for i in $(seq 120); do p=$p/a_rather_long_name_for_a_folder; done; mkdir -p $p; echo bottom > $p/file",
            keep.Source
        );
        var copy = await keep.BackUp();
        Assert.Equal(20_001, copy.Items);
        var (folder, report) = keep.Restore(copy);
        Assert.Empty(report.Problems);
        Assert.Equal(Listing.Of(keep.Source), Listing.Of(folder));
    }
}
