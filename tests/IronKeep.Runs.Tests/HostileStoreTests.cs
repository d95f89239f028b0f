using System.Diagnostics;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A store that a stranger can write to, or that he made: nothing is done through it, nothing costs without bound, nothing wrong is called
/// right.
/// </summary>
public sealed class HostileStoreTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Encryption_cannot_be_switched_off_by_whoever_can_write_the_head()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        keep.Reopen();
        var head = keep.StoreFolder + "/store.head";
        var honest = File.ReadAllBytes(head);
        Rewrite(head, h =>
        {
            h["encryption"] = "none";
            h["key"] = Convert.ToBase64String(new byte[32]);
        });
        foreach (
            Func<PooledStore> open in new[]
            {
                () => PooledStore.Open(keep.Place, Keep.Secret),
                () => PooledStore.OpenToRead(keep.Place, Keep.Secret),
            }
        )
            Assert.Contains("does not encrypt", Assert.Throws<StoreKeyException>(open).Message);
        // Nor can anything else in it be changed.
        foreach (var (field, value) in new[] { ("id", "another"), ("hash", "sha-256"), ("made", "2020-01-01T00:00:00+00:00") })
        {
            File.WriteAllBytes(head, honest);
            Rewrite(head, h => h[field] = value);
            Assert.Contains(
                "somebody changed it",
                Assert.Throws<StoreKeyException>(() => PooledStore.Open(keep.Place, Keep.Secret)).Message
            );
        }
        File.WriteAllBytes(head, honest);
        keep.Store.CheckStillThere();
    }

    private static void Rewrite(string file, Action<JsonObject> change)
    {
        var json = JsonNode.Parse(File.ReadAllLines(file)[0])!.AsObject();
        change(json);
        File.WriteAllBytes(file, CheckedText.Write(json.ToJsonString()));
    }

    [Theory]
    [InlineData("work", "work")]
    [InlineData("packs", "packs")]
    [InlineData("copies", "copies")]
    [InlineData("notes", "notes")]
    [InlineData("bin", "bin")]
    [InlineData("leases", "leases")]
    [InlineData("leaving", "leaving")]
    [InlineData("wraps", "wraps")]
    public async Task A_folder_of_the_store_that_is_a_link_is_refused_and_nothing_behind_it_is_touched(string folder, string named)
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        keep.Reopen();
        var outside = Directory.CreateDirectory(Path.Combine(keep.Root, "outside")).FullName;
        File.WriteAllText(outside + "/theirs.part", "theirs");
        File.SetLastWriteTimeUtc(outside + "/theirs.part", DateTime.UtcNow.AddDays(-400));
        if (Directory.Exists($"{keep.StoreFolder}/{folder}"))
            Directory.Move($"{keep.StoreFolder}/{folder}", keep.Root + "/aside");
        Directory.CreateSymbolicLink($"{keep.StoreFolder}/{folder}", outside);
        var failure = await Record.ExceptionAsync(async () =>
        {
            keep.Store.MoveToBin(copy.Id, DateTimeOffset.UtcNow.AddDays(-9));
            await keep.BackUp();
            Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        });
        Assert.NotNull(failure);
        Assert.Contains(named, failure.Message);
        Assert.Contains("symbolic link", failure.Message);
        Assert.Equal("theirs.part", Path.GetFileName(Assert.Single(Directory.EnumerateFileSystemEntries(outside))));
    }

    [Fact]
    public async Task Files_that_are_none_are_refused_at_once()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        keep.Reopen();
        foreach (
            var file in new[]
            {
                "store.head",
                Path.GetRelativePath(keep.StoreFolder, Directory.EnumerateFiles(keep.StoreFolder + "/copies").First()),
                Path.GetRelativePath(keep.StoreFolder, Directory.EnumerateFiles(keep.StoreFolder + "/wraps").First()),
            }
        )
        {
            foreach (var make in new[] { "mkfifo {0}", "mknod {0} c 1 5", "ln -s /dev/zero {0}", "mkdir {0}", "truncate -s 8G {0}" })
            {
                var full = Path.Combine(keep.StoreFolder, file);
                File.Move(full, keep.Root + "/aside");
                Listing.Shell(string.Format(System.Globalization.CultureInfo.InvariantCulture, make, full), "/");
                var watch = Stopwatch.StartNew();
                var failure = Record.Exception(() =>
                {
                    using var store = PooledStore.Open(new FolderPlace(keep.StoreFolder), Keep.Secret);
                    if (store.ReadContents().Copies.Length == 0)
                        throw new StoreDamageException("no copy");
                });
                Assert.True(failure is PlaceException or StoreDamageException or StoreKeyException, $"{file} after {make}: {failure}");
                Assert.True(watch.Elapsed < TimeSpan.FromMinutes(2));
                Listing.Shell($"rm -rf {full}", "/");
                File.Move(keep.Root + "/aside", full);
            }
        }
    }

    [Fact]
    public void A_wrap_that_asks_for_too_much_is_no_wrap_and_random_secrets_cost_the_same_everywhere()
    {
        var file = Directory.EnumerateFiles(keep.StoreFolder + "/wraps").First();
        foreach (var (memory, passes, lanes) in new[] { (4 * 1024 * 1024, 3, 4), (65536, 100, 4), (65536, 3, 64) })
        {
            Rewrite(file, w => (w["memoryKib"], w["passes"], w["lanes"]) = (memory, passes, lanes));
            Assert.Throws<StoreDamageException>(() => PooledStore.Open(keep.Place, Keep.Secret));
        }
        Rewrite(file, w => (w["kind"], w["memoryKib"], w["passes"], w["lanes"]) = ("key-file", 65536, 3, 4));
        Assert.Throws<StoreDamageException>(() =>
            PooledStore.Open(keep.Place, Secret.KeyFile([.. Enumerable.Range(0, 32).Select(i => (byte)i)]))
        );
        Assert.Contains("guessed", Assert.Throws<StoreKeyException>(() => Secret.KeyFile(new byte[16])).Message);
        Assert.Contains("empty", Assert.Throws<StoreKeyException>(() => Secret.Passphrase("\n")).Message);
    }

    /// <summary>A copy whose root listing is made of the entries given, as somebody with the store's key can write it.</summary>
    private CopyRecord Forge(Action<WritingSession, ListingWriter> fill, Func<ContentRef, ContentRef>? twist = null, long items = 1_000_000)
    {
        using var session = keep.Store.BeginWriting();
        var writer = new ListingWriter();
        fill(session, writer);
        var root = writer.Finish(session);
        root = twist?.Invoke(root) ?? root;
        return session.Commit(
            new CopyRecord(
                $"forged-{Guid.NewGuid():n}",
                "job",
                "heron",
                DateTimeOffset.UnixEpoch,
                DateTimeOffset.UnixEpoch,
                ["/"],
                items,
                0,
                0,
                root.Depth,
                [.. root.Ids.Select(i => i.ToString())]
            )
        );
    }

    private static TreeEntry Entry(
        string name,
        ContentRef content,
        long size,
        EntryKind kind = EntryKind.File,
        FileTime? modified = null
    ) =>
        new(
            kind,
            Encoding.UTF8.GetBytes(name),
            0b110_100_100,
            0,
            0,
            1,
            modified ?? new FileTime(1, 0),
            new FileTime(1, 0),
            1,
            1,
            size,
            content,
            0,
            "",
            "",
            0,
            [],
            [],
            null
        );

    private RestoreReport Restore(CopyRecord copy)
    {
        var target = Directory.CreateDirectory(Path.Combine(keep.Root, copy.Id)).FullName;
        using var restorer = new TreeRestorer(keep.Store);
        return restorer.Restore(copy, [], target);
    }

    private CopyDamage Hurt(CopyRecord copy) =>
        Assert.Single(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep, OnlyLooks = true }).Copies, c =>
            c.CopyId == copy.Id
        );

    [Fact]
    public void A_size_that_lies_is_damage_wherever_it_is_met()
    {
        foreach (var size in new[] { 4_612_000_000_000_000_000, 999, 1001, 0 })
        {
            var copy = Forge(
                (session, writer) =>
                {
                    var lane = session.OpenLane();
                    writer.Add(Entry("liar", lane.Refer([lane.Put(new byte[1000])]), size), session);
                }
            );
            var report = Restore(copy);
            Assert.Equal((0L, 0L), (report.Files, report.Bytes));
            Assert.Contains("damaged in the store", Assert.Single(report.Problems).Problem);
            Assert.Equal("/liar", Assert.Single(Hurt(copy).Paths));
        }
    }

    [Theory]
    [InlineData("..")]
    [InlineData("a/b")]
    [InlineData("")]
    public void A_name_that_no_folder_can_hold_is_damage(string name)
    {
        var copy = Forge((session, writer) => writer.Add(Entry(name, new ContentRef(0, []), 0), session));
        Assert.Contains("damaged", Assert.Single(Restore(copy).Problems).Problem);
        Assert.Equal(1, Hurt(copy).Count);
    }

    [Fact]
    public void Times_that_no_clock_shows_are_damage()
    {
        var copy = Forge(
            (session, writer) => writer.Add(Entry("when", new ContentRef(0, []), 0, modified: new FileTime(1, 4_000_000_000)), session)
        );
        Assert.Throws<StoreDamageException>(() => keep.Store.ReadFolder(copy.RootContent()));
        Assert.Single(Restore(copy).Problems);
        Assert.Equal(1, Hurt(copy).Count);
    }

    /// <summary>
    /// A few bytes that name one listing chunk a hundred thousand times, and folders that hold each other a thousandfold.
    /// </summary>
    [Fact]
    public void Bombs_cost_no_more_than_they_weigh()
    {
        var repeated = Forge(
            (session, writer) =>
            {
                for (var i = 0; i < 3000; i++)
                    writer.Add(Entry($"{i:00000}", new ContentRef(0, []), 0), session);
            },
            root => new ContentRef(0, [.. Enumerable.Repeat(root.Ids[0], 40_000)])
        );
        var folded = Forge(
            (session, writer) =>
            {
                var below = new ContentRef(0, []);
                for (var level = 0; level < 12; level++)
                {
                    var one = new ListingWriter();
                    for (var i = 0; i < 60; i++)
                        one.Add(Entry($"{i:00}", below, 0, level == 0 ? EntryKind.File : EntryKind.Folder), session);
                    below = one.Finish(session);
                }
                writer.Add(Entry("all", below, 0, EntryKind.Folder), session);
            },
            items: 500
        );
        var before = GC.GetTotalAllocatedBytes();
        Assert.Throws<StoreDamageException>(() => keep.Store.ReadFolder(repeated.RootContent()));
        Assert.NotEmpty(new TreeSearch(keep.Store, "*", 500).In(folded, default).ToList());
        StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep, OnlyLooks = true });
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        Assert.Contains("more entries than the 500", Assert.Throws<StoreDamageException>(() => Restore(folded)).Message);
        Assert.InRange(GC.GetTotalAllocatedBytes() - before, 0, 2_000_000_000);
    }

    [Fact]
    public async Task What_the_store_makes_is_for_its_owner_alone()
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        keep.Store.MoveToBin(copy.Id, DateTimeOffset.UtcNow);
        foreach (var entry in Directory.EnumerateFileSystemEntries(keep.StoreFolder, "*", SearchOption.AllDirectories))
            Assert.Equal(
                UnixFileMode.None,
                File.GetUnixFileMode(entry) & ~(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute)
            );
    }

    /// <summary>A record that somebody without the key moves into the bin stays in force, however long ago its name says it went.</summary>
    [Fact]
    public async Task Only_what_was_sent_to_the_bin_with_the_stores_key_leaves_it()
    {
        keep.Write("a", "1");
        var first = await keep.BackUp();
        Directory.CreateDirectory(keep.StoreFolder + "/bin");
        File.Move($"{keep.StoreFolder}/copies/{first.Id}.copy", $"{keep.StoreFolder}/bin/20010101T000000Z-{first.Id}.copy");
        var shown = Assert.Single(keep.Store.ReadContents().Copies);
        Assert.Equal((null, true), (shown.Binned, shown.Displaced));
        Assert.Empty(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow).CopiesGone);
        // A note that nobody with the key wrote says nothing either.
        Directory.CreateDirectory(keep.StoreFolder + "/notes");
        File.WriteAllText(
            $"{keep.StoreFolder}/notes/{first.Id}.note",
            JsonSerializer.Serialize(new CopyNote(first.Id, DateTimeOffset.UtcNow) { Binned = DateTimeOffset.UnixEpoch }) + "\nsigned 00\n"
        );
        Assert.Empty(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow).CopiesGone);
        Assert.Contains(StoreCheck.Run(keep.Store).Strays, s => s.Contains("signature", StringComparison.Ordinal));
        // Its time in the bin counts from when it was sent there, and whoever asks may object.
        Assert.True(keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow));
        Assert.Empty(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow.AddDays(-7)).CopiesGone);
        Assert.Empty(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow.AddDays(7), mayGo: _ => false).CopiesGone);
        Assert.Single(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow.AddDays(7)).CopiesGone);
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/notes"));
    }

    /// <summary>
    /// Every byte is as it was written and sealed with the store's key, under a name that fits: what lies is that a chunk is what its
    /// identity says. A restore would give back other bytes than were taken; the check that reads everything must say so before.
    /// </summary>
    [Fact]
    public async Task A_pack_whose_chunk_is_another_than_its_identity_says_is_damaged()
    {
        var claimed = Encoding.UTF8.GetBytes("what the heron's register says");
        using (var session = keep.Store.BeginWriting())
        {
            session.OpenLane().PutAnyway(keep.Store.Keys.IdOf(claimed), "what somebody put in its place"u8);
            session.Seal();
        }
        keep.Write("register", claimed);
        var copy = await keep.BackUp();
        var report = StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep, OnlyLooks = true });
        Assert.False(report.Sound);
        var pack = Assert.Single(report.Damage);
        Assert.True(File.Exists(Path.Combine(keep.StoreFolder, PackNames.FileOf(pack.Pack))), pack.ToString());
        // And what is read back never passes for what was taken.
        var (folder, back) = keep.Restore(copy);
        Assert.False(File.Exists(folder + "/register") && File.ReadAllBytes(folder + "/register").AsSpan().SequenceEqual(claimed));
        Assert.NotEmpty(back.Problems);
    }

    [Fact]
    public async Task Strays_are_named_a_shortened_pack_is_found_by_a_presence_check_and_an_unknown_record_hurts_no_copy()
    {
        keep.Write("a", new byte[300_000]);
        keep.Write("b", string.Concat(Enumerable.Range(0, 90_000)));
        await keep.BackUp();
        File.WriteAllText(keep.StoreFolder + "/packs/readme", "x");
        File.WriteAllText(keep.StoreFolder + "/copies/mine.copy", "x");
        var scope = CheckScope.Everything with
        {
            Depth = CheckDepth.Presence,
            OnlyLooks = true,
            IsKnown = id => id.StartsWith("copy-", StringComparison.Ordinal),
        };
        var report = StoreCheck.Run(keep.Store, scope);
        Assert.True(report.Sound);
        Assert.Equal(2, report.Strays.Length);
        Assert.Contains("packs/readme", string.Join('\n', report.Strays));
        var pack = Directory
            .EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories)
            .MaxBy(f => new FileInfo(f).Length)!;
        using (var cut = File.OpenWrite(pack))
            cut.SetLength(cut.Length - 100);
        Assert.Contains(Path.GetFileNameWithoutExtension(pack), StoreCheck.Run(keep.Store, scope).Damage.Select(d => d.Pack));
    }
}
