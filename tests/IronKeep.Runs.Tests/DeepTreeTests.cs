using IronKeep.Stores.Exports;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A tree deeper than a stack, a path, or a process's open files: everything that goes through it does so without calling itself.
/// </summary>
public sealed class DeepTreeTests : IDisposable
{
    private const int Depth = 21_000;
    private readonly Keep keep = new();

    public void Dispose()
    {
        Remove(keep.Source);
        keep.Dispose();
    }

    [Fact]
    public async Task A_tree_of_twenty_one_thousand_folders_is_taken_searched_checked_exported_and_restored()
    {
        Directory.CreateDirectory(keep.Source);
        Python(
            $"""
            import os
            os.chdir({Quoted(keep.Source)})
            for i in range({Depth}):
                os.mkdir('d'); os.chdir('d')
                if i % 1000 == 999: open('f%d' % i, 'w').write(str(i))
            """
        );
        var copy = await keep.BackUp();
        Assert.Equal(Depth / 1000, copy.Items);
        Assert.Equal(Depth / 1000, new TreeSearch(keep.Store, "f*", 1000).In(copy, default).Count());
        var deepest = Assert.Single(new TreeSearch(keep.Store, $"f{Depth - 1}", 10).In(copy, default));
        Assert.EndsWith($"/d/f{Depth - 1}", deepest.Path);
        Assert.Single(new TreeSearch(keep.Store, $"*/f{Depth - 1}", 10).In(copy, default));
        keep.Reopen();
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        Assert.Equal(
            Depth + Depth / 1000,
            Archive.ToStream(keep.Store, copy, [], Stream.Null, false, null, default).Written - (keep.Source.Count(c => c == '/'))
        );
        var (folder, report) = keep.Restore(copy);
        Assert.Empty(report.Problems);
        Assert.Equal(Depth / 1000, report.Files);
        Python(
            $"""
            import os
            os.chdir({Quoted(folder)})
            for i in range({Depth}):
                assert os.stat('d').st_mode & 0o777 == 0o755, i
                os.chdir('d')
                if i % 1000 == 999: assert open('f%d' % i).read() == str(i)
            assert os.listdir('.') == ['f{Depth - 1}']
            """
        );
        Remove(folder);
    }

    private static string Quoted(string path) => $"'{path}'";

    /// <summary>From the bottom up: what removes a tree by calling itself fails on this one.</summary>
    private static void Remove(string folder) =>
        Python(
            $"""
            import os, sys
            if not os.path.isdir({Quoted(folder)}): sys.exit(0)
            os.chdir({Quoted(folder)}); depth = 0
            while os.path.isdir('d'): os.chdir('d'); depth += 1
            while True:
                for name in os.listdir('.'):
                    os.rmdir(name) if name == 'd' else os.unlink(name)
                if depth == 0: break
                os.chdir('..'); depth -= 1
            """
        );

    private static void Python(string program)
    {
        var file = Path.GetTempFileName();
        File.WriteAllText(file, program);
        Assert.Equal("", Listing.Shell($"/usr/bin/python3 {file}; rm {file}", "/"));
    }
}
