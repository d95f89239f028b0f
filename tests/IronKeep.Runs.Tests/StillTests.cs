using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>Copies of a moment that is held still elsewhere: as if it lay where it really lies, or none.</summary>
public sealed class StillTests : IDisposable
{
    private readonly Keep keep = new();

    // Another file system, as a mounted snapshot is.
    private readonly string still = Directory.CreateDirectory($"/dev/shm/still-{Guid.NewGuid():n}").FullName;

    public void Dispose()
    {
        keep.Dispose();
        Directory.Delete(still, true);
    }

    private Task<CopyRecord> RunAsync(string from, string at, CopyRecord? previous = null)
    {
        keep.Order = o => o with { StillAt = [new StillFolder(from, at)] };
        return keep.BackUp(previous);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task What_is_held_still_appears_where_it_really_lies(bool above)
    {
        keep.Write("a/file", "at the moment");
        keep.Write("a/deep/down/another", "the same");
        var (from, at) = above ? (Path.GetDirectoryName(keep.Source)!, still) : (keep.Source, still + "/source");
        Listing.Shell($"cp -a '{keep.Source}' '{still}/'", "/");
        var before = Directory.CreateTempSubdirectory("before-").FullName;
        Listing.Shell($"cp -a '{keep.Source}' '{before}/'", "/");
        // Meanwhile life goes on.
        keep.Write("a/file", "moved on since then");
        keep.Write("a/new", "not yet there");
        Directory.Delete(keep.Source + "/a/deep", true);
        var copy = await RunAsync(from, at);
        Assert.Equal([keep.Source], copy.Takes.ToArray());
        Assert.True(copy.Items > 1, string.Join("\n", keep.Log));
        Assert.Equal("", Listing.Diff($"{before}/source", keep.Restore(copy).Folder));
        Assert.DoesNotContain(keep.Log, l => l.StartsWith("Warning", StringComparison.Ordinal) || l.Contains("another file system"));
        // The same moment once more has nothing new, and the folder itself has.
        await RunAsync(from, at, copy);
        Assert.Equal(0, keep.Figures.FilesRead);
        keep.Order = o => o;
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(await keep.BackUp(copy)).Folder));
        Assert.NotEqual(0, keep.Figures.FilesRead);
        Directory.Delete(before, true);
    }

    /// <summary>A snapshot that was not made must not end as an empty copy, or as one of what moves.</summary>
    [Fact]
    public async Task A_moment_that_is_not_there_ends_the_run()
    {
        keep.Write("a", "1");
        foreach (var (at, says) in new[] { (still + "/not-there", "cannot be opened"), (still, "is empty"), (keep.Source, "itself") })
        {
            var failed = await Assert.ThrowsAsync<RunFailedException>(() => RunAsync(keep.Source, at));
            Assert.Equal(FailureClass.HookFailed, failed.Class);
            Assert.Contains(says, failed.Message);
            Assert.Contains("made the snapshot", failed.Message);
        }
        File.Delete(keep.Source + "/a");
        Assert.Equal(0, (await RunAsync(keep.Source, still)).Items);
        File.WriteAllText(still + "/file", "");
        var odd = await Assert.ThrowsAsync<RunFailedException>(() => RunAsync(keep.Source, still + "/file"));
        Assert.Contains("cannot be opened", odd.Message);
    }
}
