using IronKeep.Stores.Keys;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// Source and restored tree, attribute by attribute: a pax listing of both, and what tar cannot show by commands of the system.
/// </summary>
public sealed class FidelityTests
{
    private const string Everything = """
        mkdir -p plain void deep ; printf 'ring,species\n' > plain/a.csv ; : > plain/empty
        ln plain/a.csv plain/same ; mkdir linked ; ln plain/a.csv linked/third
        ln -s ../plain/a.csv linked/sym ; ln -s /nowhere/at/all dangling ; ln -s . linked/loop ; mkfifo pipe
        printf 'x' > 'with space' ; printf 'y' > $'new\nline' ; printf 'z' > $'\xff\xfe not utf-8' ; printf 'w' > 'back\slash' ; printf 'v' > -rf ; printf 'u' > '*'
        chmod 4711 plain/empty ; chmod 1777 void ; chmod 2755 deep ; chmod 000 'with space' ; chown 1234:4321 plain/a.csv ; chown -h 77:88 dangling
        truncate -s 40M holes ; printf 'middle' | dd of=holes bs=1 seek=20000000 conv=notrunc status=none ; printf 'end' | dd of=holes bs=1 seek=41943037 conv=notrunc status=none
        truncate -s 3M only-a-hole ; printf 'begin' > hole-at-end ; truncate -s 2M hole-at-end
        head -c 9000000 /dev/urandom > large ; head -c 70000000 /dev/zero | tr '\0' 'k' > very-large
        touch -d '2001-02-03 04:05:06.123456789' plain/a.csv ; touch -h -d '1969-12-31 23:59:58.5' dangling ; touch -d '2100-01-01' void ; touch -d '1999-01-01' deep
        """;

    private const string AsRoot = """
        mknod disk b 7 200 ; mknod terminal c 300 70000 ; chown 5:6 disk ; chmod 640 disk
        setfattr -n user.note -v 'two words' plain/a.csv ; setfattr -n user.bytes -v 0x00ff10 plain/empty ; setfattr -n user.dir -v d void ; setfattr -n trusted.link -v l -h dangling 2>/dev/null
        setfacl -m u:1234:rw- -m g:88:r-- plain/empty ; setfacl -d -m u:1234:rwx deep ; setfacl -m u:77:r-x void
        touch -d '2001-02-03' plain/empty ; touch -d '2002-02-03' void deep plain
        """;

    [Fact]
    public async Task Everything_a_file_system_holds_comes_back_as_it_was()
    {
        using var keep = new Keep();
        Listing.Shell(Everything, keep.Source);
        Assert.Equal("", Listing.Shell(AsRoot, keep.Source));
        Deep(keep.Source, 400);
        var copy = await keep.BackUp();
        Assert.DoesNotContain(keep.Log, l => l.StartsWith("Warning", StringComparison.Ordinal));
        var (folder, report) = keep.Restore(copy);
        Assert.Empty(report.Problems);
        Assert.Equal(Pax(keep.Source), Pax(folder));
        foreach (var look in Looks)
            Assert.Equal(Listing.Shell(look, keep.Source), Listing.Shell(look, folder));
        // And once more from the unchanged tree: nothing is read, and the second copy is as good.
        var second = await keep.BackUp(copy);
        Assert.Equal(0, keep.Figures.FilesRead);
        Assert.Equal(Pax(keep.Source), Pax(keep.Restore(second).Folder));
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
    }

    [Theory]
    [InlineData(HashKind.Sha256, true)]
    [InlineData(HashKind.Sha256, false)]
    [InlineData(HashKind.Blake3, false)]
    public async Task The_choices_of_a_store_change_nothing_for_what_comes_back(HashKind hash, bool encrypts)
    {
        using var keep = new Keep(new StoreMaking(hash, encrypts ? Keep.Secret : null, Hardness: Hardness.Light));
        Listing.Shell(Everything, keep.Source);
        var copy = await keep.BackUp();
        keep.Reopen();
        Assert.Equal(Pax(keep.Source), Pax(keep.Restore(copy).Folder));
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
        // Packs are named by the plain hash of their bytes: anybody can check them, without a key.
        var tool = hash == HashKind.Sha256 ? "sha256sum" : "b3sum";
        Assert.Equal(
            "",
            Listing.Shell(
                $"for p in packs/*/*.pack; do [ \"$({tool} < $p | cut -d' ' -f1).pack\" = \"$(basename $p)\" ] || echo $p; done",
                keep.StoreFolder
            )
        );
        var names = Listing.Shell("grep -rla 'ring,species' . ; grep -rla heron . | grep -v head", keep.StoreFolder);
        Assert.Equal(encrypts, names.Length == 0);
    }

    [Fact]
    public async Task Sixty_thousand_names_in_one_folder()
    {
        using var keep = new Keep();
        Listing.Shell("mkdir many && cd many && seq -f 'reading-%.0f' 1 60000 | xargs touch", keep.Source);
        var first = await keep.BackUp();
        Listing.Shell("echo changed > many/reading-30000; rm many/reading-7", keep.Source);
        var second = await keep.BackUp(first);
        Assert.Equal(59_999, second.Items);
        Assert.Equal(1, keep.Figures.FilesRead);
        // One changed entry and one that is gone change a few chunks of the listing, not the whole.
        Assert.InRange(keep.Figures.NewBytes, 1, 400_000);
        Assert.Equal(
            "changed\n",
            File.ReadAllText(keep.Restore(second, keep.Source + "/many/reading-30000").Folder + "/many/reading-30000")
        );
    }

    [Fact]
    public async Task A_folder_tagged_as_cache_is_left_out_when_the_job_says_so()
    {
        using var keep = new Keep();
        keep.Write("cache/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n# made by a browser");
        keep.Write("cache/large", "1");
        keep.Write("not/CACHEDIR.TAG", "something else");
        keep.Write("not/kept", "1");
        var all = await keep.BackUp();
        Assert.Equal(4, all.Items);
        keep.Order = o => o with { LeavesOutCaches = true };
        var (folder, _) = keep.Restore(await keep.BackUp(all));
        Assert.Equal(
            "cache\ncache/CACHEDIR.TAG\nnot\nnot/CACHEDIR.TAG\nnot/kept\n",
            Listing.Shell("find . -mindepth 1 -printf '%P\\n' | LC_ALL=C sort", folder)
        );
    }

    private static readonly string[] Looks =
    [
        // What a pax listing does not show: nanoseconds of every kind of entry, holes, device numbers, hard links, lists and attributes.
        "find . -mindepth 1 -printf '%y %m %U %G %n %T@ %l %P\\0' | LC_ALL=C sort -z | tr '\\0' '\\n' | sed 's/\\(\\.[0-9]*\\)0*/\\1/'",
        "find . -type f -printf '%s %P\\0' | LC_ALL=C sort -z | tr '\\0' '\\n'",
        "stat -c '%n %b' holes only-a-hole | awk '{print $1, ($2 < 100 ? \"has holes\" : $2)}' ; stat -c '%n %t %T' disk terminal "
            + "2>/dev/null",
        "stat -c %i plain/a.csv plain/same linked/third | sort -u | wc -l",
        "getfacl -R -n -p . 2>/dev/null | LC_ALL=C sort ; getfattr -R -h -d -m - -e hex . 2>/dev/null | LC_ALL=C sort",
        "find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum",
    ];

    /// <summary>What tar says of the tree, with every attribute it knows.</summary>
    private static string Pax(string folder) =>
        Listing.Shell(
            "tar --format=pax --xattrs --xattrs-include='*' --acls --selinux --numeric-owner --sort=name -cf - . 2>/dev/null | tar "
                + "--xattrs --acls --numeric-owner --full-time -tvvf - 2>/dev/null",
            folder
        );

    /// <summary>Folders in folders until the path is longer than any call takes.</summary>
    private static void Deep(string folder, int levels) =>
        Listing.Shell(
            $"for i in $(seq 1 {levels}); do mkdir -p level-$i-of-a-deep-tree "
                + $"&& cd level-$i-of-a-deep-tree || exit 1; echo $i > file; done",
            folder
        );
}
