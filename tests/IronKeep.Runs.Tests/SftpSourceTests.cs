using IronKeep.Core.Watching;
using IronKeep.Stores.Remote;

namespace IronKeep.Runs.Tests;

/// <summary>Copies of a machine that is read over SFTP, from a real OpenSSH server on loopback.</summary>
public sealed class SftpSourceTests : IDisposable
{
    private readonly Keep keep = new();
    private readonly SshServer server;
    private readonly List<SftpSource> sources = [];

    public SftpSourceTests() => server = new SshServer(Path.Combine(keep.Root, "ssh"));

    public void Dispose()
    {
        foreach (var source in sources)
            source.Dispose();
        server.Dispose();
        keep.Dispose();
    }

    private SftpSource Read(string? hostKey = null, TimeSpan? patience = null)
    {
        var source = new SftpSource(server.At("/", hostKey), patience);
        sources.Add(source);
        keep.Order = o => o with { Top = source.Top };
        return source;
    }

    /// <summary>Everything was changed a while ago, at a whole second.</summary>
    private void Age() => Listing.Shell("find . -exec touch -h -d 2026-10-01T03:00:00Z {} +", keep.Source);

    private async Task<RunFailedException> FailsAsync() => await Assert.ThrowsAsync<RunFailedException>(() => keep.BackUp());

    [Fact]
    public async Task A_tree_with_odd_names_links_and_modes_comes_back_as_it_was_and_unchanged_files_are_not_read_again()
    {
        Listing.Shell(
            """
            mkdir -p deep/er empty; echo birds > deep/er/a; printf x > $'bad\xff\xfename'; printf y > $'new\nline'; printf z > 'ünï'
            ln -s deep/er/a link; ln -s /nowhere/at/all dangling; ln -s $'to\xff' oddlink; mkfifo pipe; ln -s deep loop
            echo s > setuid; chmod 4755 setuid; echo n > none; chmod 0 none; chmod 1777 empty; : > nothing
            head -c 3000000 /dev/urandom > large
            """,
            keep.Source
        );
        Age();
        Read();
        var first = await keep.BackUp();
        var (folder, report) = keep.Restore(first);
        Assert.Empty(report.Problems);
        Assert.Equal(Listing.Of(keep.Source), Listing.Of(folder));
        Assert.Equal("", Listing.Diff(keep.Source, folder));
        Assert.Equal(0, keep.Figures.Skipped);
        var size = keep.Figures.SelectedBytes;

        keep.Write("deep/er/new", "more birds");
        Read();
        var second = await keep.BackUp(first);
        Assert.Equal((1, size + 10, 1), (keep.Figures.FilesRead, keep.Figures.SelectedBytes, keep.Figures.Churn.Added));
        // One that was written just now may change once more within its second, so it is read again.
        Read();
        await keep.BackUp(second);
        Assert.Equal(1, keep.Figures.FilesRead);
    }

    [Fact]
    public async Task Connections_that_drop_again_and_again_cost_nothing_but_time_and_a_shared_file_is_read_by_several()
    {
        for (var i = 0; i < 40; i++)
            keep.Write($"{i % 4}/{i}", [.. Enumerable.Repeat((byte)i, 300_000)]);
        Listing.Shell("head -c 250000000 /dev/urandom > shared", keep.Source);
        Age();
        Read();
        using var over = new CancellationTokenSource();
        var drops = 0;
        var dropping = Task.Run(async () =>
        {
            while (!over.IsCancellationRequested)
            {
                await Task.Delay(2000);
                server.Drop();
                drops++;
            }
        });
        var copy = await keep.BackUp();
        await over.CancelAsync();
        await dropping;
        Assert.True(drops > 0);
        var (folder, _) = keep.Restore(copy);
        Assert.Equal("", Listing.Diff(keep.Source, folder));
        Assert.Equal(0, keep.Figures.Skipped);
    }

    [Fact]
    public async Task What_vanished_is_said_and_a_taken_path_that_is_a_link_or_not_there_fails_the_run()
    {
        keep.Write("a", "birds");
        Read();
        await keep.BackUp();
        Directory.Move(keep.Source, keep.Root + "/elsewhere");
        Assert.Equal(FailureClass.SourceUnreadable, (await FailsAsync()).Class);
        File.CreateSymbolicLink(keep.Source, keep.Root + "/elsewhere");
        Assert.Contains("is a symlink now", (await FailsAsync()).Message);
    }

    [Fact]
    public async Task A_server_with_another_key_one_that_lets_nobody_in_and_one_that_is_gone_fail_the_run_each_with_its_class()
    {
        keep.Write("a", "birds");
        Read("SHA256:" + new string('A', 43));
        var other = await FailsAsync();
        Assert.Equal(
            (FailureClass.AccessRefused, true),
            (other.Class, other.Message.Contains(server.Fingerprint, StringComparison.Ordinal))
        );
        server.ForgetLogins();
        Read();
        Assert.Equal(FailureClass.AccessRefused, (await FailsAsync()).Class);
        server.Stop();
        Read(patience: TimeSpan.Zero);
        var gone = await FailsAsync();
        Assert.Equal((FailureClass.MachineAway, true), (gone.Class, gone.Message.Contains("cannot be reached", StringComparison.Ordinal)));
        Assert.Empty(keep.Store.ReadContents().Copies);
    }
}
