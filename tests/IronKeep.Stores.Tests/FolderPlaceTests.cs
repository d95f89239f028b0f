using System.Diagnostics;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Tests;

public sealed class FolderPlaceTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("place-").FullName;

    // The standard library cannot delete names that are not UTF-8.
    public void Dispose() => Process.Start("rm", ["-rf", root]).WaitForExit();

    [Fact]
    public void A_file_is_there_whole_or_not_at_all_and_replaced_as_a_whole()
    {
        var place = new FolderPlace(root);
        place.Write("a/b/c", "first"u8);
        place.Write("a/b/c", "second, longer"u8);
        Assert.Equal("second, longer"u8.ToArray(), place.Read("a/b/c"));
        var buffer = new byte[10];
        Assert.Equal(6, place.ReadAt("a/b/c", 8, buffer));
        Assert.Equal("longer"u8.ToArray(), buffer[..6]);
        // What an interrupted writing leaves is nobody's, and goes.
        File.WriteAllText(root + "/work/left.part", "half");
        place.RemoveRemnants(TimeSpan.FromHours(1));
        Assert.True(File.Exists(root + "/work/left.part"));
        place.RemoveRemnants(TimeSpan.Zero);
        Assert.Equal(["a/b/c"], place.List("").Select(f => f.Name));
        place.Move("a/b/c", "d/e");
        place.Delete("d/e");
        place.Delete("d/e");
        Assert.Empty(place.List(""));
    }

    [Fact]
    public void A_name_that_is_taken_is_refused_where_only_a_new_file_is_meant()
    {
        var place = new FolderPlace(root);
        Assert.True(place.WriteNew("a", "first"u8));
        Assert.False(place.WriteNew("a", "second"u8));
        Assert.Equal("first"u8.ToArray(), place.Read("a"));
        Assert.Equal(["a"], place.List("").Select(f => f.Name));
    }

    [Fact]
    public void A_missing_folder_is_unreachable_and_never_made_anew()
    {
        var place = new FolderPlace(root + "/mount");
        foreach (
            var act in new Action[]
            {
                () => place.Write("x", "x"u8),
                () => _ = place.List("").Count,
                () => place.Delete("x"),
                () => place.Read("x"),
                () => place.Move("x", "y"),
            }
        )
        {
            var failure = Assert.Throws<PlaceException>(act);
            Assert.Equal(PlaceFault.Unreachable, failure.Fault);
            Assert.Contains(root + "/mount", failure.Message);
        }
        Assert.False(Directory.Exists(root + "/mount"));
    }

    [Fact]
    public void Faults_are_told_apart_by_what_can_be_done_about_them()
    {
        var place = new FolderPlace(root);
        Assert.Equal(PlaceFault.NotFound, Assert.Throws<PlaceException>(() => place.Read("none")).Fault);
        Assert.Equal(PlaceFault.NotFound, Assert.Throws<PlaceException>(() => place.ReadAt("none", 0, new byte[1])).Fault);
        // A file where a folder must be: refused, and nothing is left behind.
        File.WriteAllText(root + "/packs", "");
        Assert.Throws<PlaceException>(() => place.Write("packs/aa/x", "x"u8));
        Assert.Empty(Directory.EnumerateFiles(root + "/work"));
    }

    [Fact]
    public void Attributes_and_names_are_those_of_the_system()
    {
        using var shell = Process.Start(
            new ProcessStartInfo(
                "/bin/bash",
                [
                    "-c",
                    "touch -d '1965-01-02 03:04:05.000000007 UTC' old; touch $'n\\xff\\nl'; mkdir sub; ln -s old link; mkfifo pipe; chmod "
                        + "7751 old",
                ]
            )
            {
                WorkingDirectory = root,
            }
        )!;
        shell.WaitForExit();
        using var folder = OpenFolder.AtPath(root);
        var names = folder.List();
        Assert.Equal(5, names.Count);
        Assert.Equal("link", System.Text.Encoding.ASCII.GetString(names[0]));
        Assert.Equal(new byte[] { (byte)'n', 0xff, 10, (byte)'l' }, names[1].ToArray());
        var old = folder.Facts("old"u8)!.Value;
        Assert.Equal((EntryKind.File, 0b111_111_101_001u, new FileTime(-157_668_955, 7)), (old.Kind, old.Mode, old.Modified));
        Assert.Equal(EntryKind.Symlink, folder.Facts("link"u8)!.Value.Kind);
        Assert.Equal(EntryKind.Fifo, folder.Facts("pipe"u8)!.Value.Kind);
        Assert.Null(folder.Facts("none"u8));
        Assert.Equal("old"u8.ToArray(), folder.ReadLink("link"u8));
        // Neither a link nor a folder is opened as a file, and what exists is not made again.
        Assert.Throws<PosixException>(() => folder.OpenFile("link"u8));
        Assert.Throws<PosixException>(() => folder.Enter("link"u8));
        Assert.True(Assert.Throws<PosixException>(() => folder.CreateFile("old"u8)).Exists);
        Assert.True(Assert.Throws<PosixException>(() => folder.MakeFolder("sub"u8)).Exists);
        Assert.True(Assert.Throws<PosixException>(() => folder.OpenFile("none"u8)).NotFound);
    }
}
