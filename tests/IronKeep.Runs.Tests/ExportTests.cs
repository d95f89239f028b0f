using IronKeep.Stores.Exports;

namespace IronKeep.Runs.Tests;

/// <summary>What leaves the store in an open format, judged by the programs that read such formats.</summary>
public sealed class ExportTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    private async Task<string> MakeAsync(string name)
    {
        Listing.Shell(
            """
            mkdir -p a/b void ; echo ring > a/ring ; ln a/ring a/b/same ; ln -s ../ring a/b/link ; mkfifo pipe ; chmod 4755 a/ring ; touch -d '1969-12-31 23:59:58.25' a/ring
            printf 'x' > $'a/new\nline' ; printf 'y' > $'a/\xff\xfe' ; printf 'w' > 'a/back\slash' ; printf '%s' '100 %' > 'a/100 %'
            head -c 3000000 /dev/urandom > a/large ; truncate -s 5M holes ; printf end >> holes ; setfattr -n user.note -v 'two words' a/large
            d=$(printf 'n%.0s' $(seq 1 200)) ; mkdir -p "long/$d/$d" ; echo deep > "long/$d/$d/file" ; mknod disk b 7 200 ; chown 1234:4321 a/large ; touch -d 2001-02-03T04:05:06.789 a/large ; touch -d 2002-01-01 a
            """,
            keep.Source
        );
        var copy = await keep.BackUp();
        var file = Path.Combine(keep.Root, name);
        await using var output = File.Create(file);
        new PaxTar(output).Write(keep.Store, copy, [], default);
        return file;
    }

    [Fact]
    public async Task A_tar_archive_is_read_by_tar_and_gives_the_tree_back()
    {
        var file = await MakeAsync("copy.tar");
        var target = Directory.CreateDirectory(Path.Combine(keep.Root, "out")).FullName;
        Assert.Equal(
            "",
            Listing.Shell(
                $"tar --warning=no-timestamp --warning=no-unknown-keyword --xattrs --xattrs-include='*' -xpf '{file}' -C '{target}'",
                "/"
            )
        );
        var folder = target + keep.Source;
        Assert.Equal(
            "",
            Listing
                .Diff(keep.Source, folder)
                .Replace("File /source/disk is a block special file", "", StringComparison.Ordinal)
                .Split('\n')
                .FirstOrDefault(l => l.Length > 0 && !l.Contains("special file"))
                ?? ""
        );
        const string look =
            "find . -mindepth 1 -printf '%y %m %U %G %n %s %T@ %l %P\\n' | grep -v '^d' | LC_ALL=C sort ; find . -type d -printf '%m %T@ "
            + "%P\\n' | LC_ALL=C sort; stat -c '%t %T' disk; getfattr -d a/large";
        Assert.Equal(Listing.Shell(look, keep.Source), Listing.Shell(look, folder));
        // And by another program that knows the format.
        Assert.Equal(
            "",
            Listing.Shell(
                $"python3 -c \"import tarfile; t = tarfile.open('{file}'); assert len(t.getmembers()) > 10; assert t.extractfile([m for m "
                    + $"in t.getmembers() if m.name.endswith('a/ring')][0]).read() == b'ring\\n'\"",
                "/"
            )
        );
    }

    [Fact]
    public async Task A_bag_is_checked_by_sha256sum_and_a_changed_byte_in_it_is_found()
    {
        await MakeAsync("copy.tar");
        var bag = Path.Combine(keep.Root, "bag");
        var (files, report) = Bag.Write(keep.Store, keep.Store.ReadContents().Copies[0].Record, [], bag, default);
        Assert.Empty(report.Problems);
        Assert.Equal(
            $"{files}",
            Listing
                .Shell("find data -type f | tr -d '\\n' | grep -o /source/ | wc -l; find data -type f -print0 | tr -dc '\\0' | wc -c", bag)
                .Trim()
                .Split('\n')[^1]
        );
        Assert.Equal("", Listing.Shell("sha256sum --quiet --strict -c manifest-sha256.txt tagmanifest-sha256.txt", bag));
        Assert.StartsWith("BagIt-Version: 1.0\n", File.ReadAllText(bag + "/bagit.txt"));
        Assert.Contains($".{files}\n", File.ReadAllText(bag + "/bag-info.txt"));
        Listing.Shell($"printf X | dd of='data{keep.Source}/a/large' bs=1 seek=1000 conv=notrunc status=none", bag);
        Assert.Contains("FAILED", Listing.Shell("sha256sum -c manifest-sha256.txt", bag));
        Assert.Contains(
            "not empty",
            Assert.Throws<IOException>(() => Bag.Write(keep.Store, keep.Store.ReadContents().Copies[0].Record, [], bag, default)).Message
        );
    }
}
