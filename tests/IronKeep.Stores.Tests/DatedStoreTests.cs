using System.Diagnostics;
using System.Security.Cryptography;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using NodaTime;

namespace IronKeep.Stores.Tests;

/// <summary>Folders of dated files: what becomes a copy, what is moved and what is never touched.</summary>
public sealed class DatedStoreTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("dated-").FullName;
    private readonly MarksInMemory memory = new();
    private readonly HandClock clock = new();

    public void Dispose() => Process.Start("rm", ["-rf", root]).WaitForExit();

    /// <summary>The clock of the tests; the files have the real one.</summary>
    private sealed class HandClock : TimeProvider
    {
        public DateTimeOffset Now { get; set; } = DateTimeOffset.UtcNow;

        public override DateTimeOffset GetUtcNow() => Now;
    }

    private sealed class MarksInMemory : IFileMemory
    {
        public Dictionary<string, FileMark> Marks { get; } = [];
        public long Version { get; set; }

        /// <summary>What happens just before the next saving.</summary>
        public Action? Before { get; set; }

        public (long Version, IReadOnlyList<FileMark>? Marks) Load(long known) =>
            known == Version ? (known, null) : (Version, [.. Marks.Values]);

        public long? Save(long version, IReadOnlyCollection<FileMark> kept, IReadOnlyCollection<string> forgotten)
        {
            var before = Before;
            Before = null;
            before?.Invoke();
            if (version != Version)
                return null;
            foreach (var mark in kept)
                Marks[mark.Path] = mark;
            foreach (var path in forgotten)
                Marks.Remove(path);
            return ++Version;
        }
    }

    private DatedStore Open(string name = "{job}-{yyyy}-{MM}-{dd}.sql") =>
        new(
            root,
            new DatedFiles(
                NamePattern
                    .Read(
                        name,
                        name.Contains("{kind}", StringComparison.Ordinal) ? [(CopyKind.Full, "F"), (CopyKind.Incremental, "I")] : []
                    )
                    .Pattern!,
                null,
                new Span(2, SpanUnit.Minutes)
            ),
            DateTimeZone.Utc,
            memory,
            clock
        );

    private string Write(string path, string content = "dump")
    {
        var full = Path.Combine(root, path);
        Directory.CreateDirectory(Path.GetDirectoryName(full)!);
        File.WriteAllText(full, content);
        return full;
    }

    /// <summary>A store whose files have settled.</summary>
    private DatedStore Settled(string name = "{job}-{yyyy}-{MM}-{dd}.sql")
    {
        var store = Open(name);
        store.Look();
        clock.Now += TimeSpan.FromMinutes(3);
        store.Look();
        return store;
    }

    private static string[] Names(DatedStore store) => [.. store.CopyNames().InForce.Order(StringComparer.Ordinal)];

    [Fact]
    public void A_file_is_a_copy_when_it_has_settled_and_one_that_grows_is_not()
    {
        Write("tern-2026-11-01.sql");
        var store = Open();
        Assert.Empty(Names(store));
        // Nothing has changed, but not for long enough.
        clock.Now += TimeSpan.FromMinutes(1);
        Assert.Empty(Names(store));
        Write("tern-2026-11-01.sql", "dump, longer");
        clock.Now += TimeSpan.FromMinutes(1.5);
        Assert.Empty(Names(store));
        Assert.Equal(["tern-2026-11-01.sql"], store.Last.Unsettled.Select(u => u.Id));
        clock.Now += TimeSpan.FromMinutes(2);
        Assert.Equal(["tern-2026-11-01.sql"], Names(store));
        // Another service, or this one begun anew, knows what has settled.
        Assert.Equal(["tern-2026-11-01.sql"], Names(Open()));
        // An old file needs two looks all the same.
        var old = Write("tern-2026-10-01.sql");
        clock.Now += TimeSpan.FromHours(1);
        Assert.Single(Names(store));
        clock.Now += TimeSpan.FromSeconds(20);
        Assert.Equal(2, Names(store).Length);
        var record = store.ReadRecord("tern-2026-10-01.sql")!;
        Assert.Equal(("tern", 4, "2026-10-01T00:00:00"), (record.Job, record.Bytes, record.Taken.UtcDateTime.ToString("s")));
        Assert.True(File.Exists(old));
    }

    [Fact]
    public void What_the_pattern_does_not_match_is_counted_and_never_touched_and_no_link_is_followed()
    {
        Write("tern-2026-11-01.sql");
        Write("tern-2026-11-01.sql.part");
        Write("notes.txt");
        Write("tern-2026-11-31.sql");
        Write("tern-2026-11-01.sql.sha256");
        Directory.CreateDirectory(root + "/tern-2026-11-02.sql");
        Write("../" + Path.GetFileName(root) + "-outside/tern-2026-11-03.sql");
        File.CreateSymbolicLink(root + "/tern-2026-11-03.sql", root + "-outside/tern-2026-11-03.sql");
        Process.Start("mkfifo", [root + "/tern-2026-11-04.sql"]).WaitForExit();
        var store = Settled();
        Assert.Equal(["tern-2026-11-01.sql"], Names(store));
        Assert.Equal(6, store.Last.Others);
        Assert.True(store.MoveToBin("tern-2026-11-01.sql", clock.Now));
        Assert.False(store.MoveToBin("tern-2026-11-03.sql", clock.Now));
        clock.Now += TimeSpan.FromDays(30);
        var gone = store.Reclaim(clock.Now, _ => true, default);
        Assert.Equal(["tern-2026-11-01.sql"], gone.CopiesGone);
        Assert.Equal(4, gone.BytesFreed);
        // Its companion went with it, the rest is as it was, and the bin is empty.
        Assert.Equal(
            [
                ".ironkeep-bin",
                "notes.txt",
                "tern-2026-11-01.sql.part",
                "tern-2026-11-02.sql",
                "tern-2026-11-03.sql",
                "tern-2026-11-04.sql",
                "tern-2026-11-31.sql",
            ],
            Directory.EnumerateFileSystemEntries(root).Select(Path.GetFileName).Order(StringComparer.Ordinal)!
        );
        Assert.Empty(Directory.EnumerateFileSystemEntries(root + "/.ironkeep-bin"));
        Directory.Delete(root + "-outside", recursive: true);
    }

    [Fact]
    public void To_the_bin_and_back_is_a_rename_with_its_companion_and_what_changed_meanwhile_stays()
    {
        Write("2026/tern_20261101.sql", "one");
        Write("2026/tern_20261101.sql.sha256", "sum");
        Write("2026/tern_20261102.sql", "two");
        var store = Settled("{yyyy}/{job}_{yyyy}{MM}{dd}.sql");
        Assert.True(store.MoveToBin("2026/tern_20261101.sql", clock.Now));
        Assert.Equal(["2026/tern_20261101.sql"], store.CopyNames().InBin);
        var binned = $"{root}/.ironkeep-bin/{clock.Now.UtcDateTime:yyyyMMdd-HHmmss}/2026/tern_20261101.sql";
        Assert.Equal("one", File.ReadAllText(binned));
        Assert.True(File.Exists(binned + ".sha256"));
        Assert.Equal(clock.Now, store.ReadCopy("2026/tern_20261101.sql")!.Binned);

        // One of the same name comes meanwhile: both are there, each under its own id, and neither is written over.
        Write("2026/tern_20261101.sql", "anew");
        clock.Now += TimeSpan.FromMinutes(3);
        store.Look();
        clock.Now += TimeSpan.FromMinutes(3);
        Assert.Equal(["2026/tern_20261101.sql", "2026/tern_20261102.sql"], Names(store));
        var other = Assert.Single(store.CopyNames().InBin);
        Assert.StartsWith("2026/tern_20261101.sql@", other);
        Assert.Contains(
            "a file of that name is where it would go",
            Assert.Throws<PlaceException>(() => store.TakeBack(other, clock.Now)).Message
        );
        // What is known of the one that is in force is what it was.
        Assert.Empty(store.Look().Changed);
        File.Move($"{root}/2026/tern_20261101.sql", $"{root}/2026/tern_20261101.sql.aside");
        store.Look();
        Assert.True(store.TakeBack("2026/tern_20261101.sql", clock.Now));
        Assert.Equal("one", File.ReadAllText($"{root}/2026/tern_20261101.sql"));
        Assert.True(File.Exists($"{root}/2026/tern_20261101.sql.sha256"));

        // A file that is newer than the last look does not go, nor one that has not settled since.
        Write("2026/tern_20261102.sql", "two, written once more");
        Assert.False(store.MoveToBin("2026/tern_20261102.sql", clock.Now));
        clock.Now += TimeSpan.FromSeconds(20);
        store.Look();
        Assert.Contains(
            "stays until it has settled",
            Assert.Throws<PlaceException>(() => store.MoveToBin("2026/tern_20261102.sql", clock.Now)).Message
        );
        Assert.True(File.Exists($"{root}/2026/tern_20261102.sql"));
        Assert.Equal(["2026/tern_20261102.sql"], store.Last.Changed.Select(c => c.Id));
        store.ToldOfChanges(["2026/tern_20261102.sql"]);
        Assert.Empty(store.Look().Changed);
    }

    [Fact]
    public void What_somebody_else_put_into_the_bin_is_put_back_and_a_lost_memory_lets_nothing_go_early()
    {
        Write("tern-2026-11-01.sql");
        Write("tern-2026-11-02.sql");
        var store = Settled();
        store.MoveToBin("tern-2026-11-02.sql", clock.Now);
        Directory.CreateDirectory(root + "/.ironkeep-bin/20200101-000000");
        File.Move(root + "/tern-2026-11-01.sql", root + "/.ironkeep-bin/20200101-000000/tern-2026-11-01.sql");
        store.Look();
        var moved = store.ReadCopy("tern-2026-11-01.sql")!;
        Assert.True(moved.Displaced);
        Assert.DoesNotContain("tern-2026-11-01.sql", store.Reclaim(clock.Now, _ => true, default).CopiesGone);
        Assert.True(store.TakeBack("tern-2026-11-01.sql", clock.Now));
        Assert.True(File.Exists(root + "/tern-2026-11-01.sql"));

        // Whoever knows nothing counts a file's days in the bin from when he first saw it there, whatever its folder is called.
        Write(".ironkeep-bin/20200101-000000/tern-2026-10-01.sql");
        memory.Marks.Clear();
        memory.Version++;
        var anew = Open();
        anew.Look();
        Assert.Equal(clock.Now, anew.ReadCopy("tern-2026-10-01.sql")!.Binned);
        Assert.Empty(anew.Reclaim(clock.Now.AddDays(-1), _ => true, default).CopiesGone);
        // What changed in the bin is not what was sent there.
        File.AppendAllText(root + "/.ironkeep-bin/20200101-000000/tern-2026-10-01.sql", "more");
        Assert.Contains("tern-2026-10-01.sql", anew.CopyNames().InBin);
    }

    [Fact]
    public void A_bin_that_is_a_link_is_not_entered_and_an_emptied_folder_is_a_missing_disk()
    {
        Write("tern-2026-11-01.sql");
        var store = Settled();
        Directory.CreateDirectory(root + "-victim");
        File.CreateSymbolicLink(root + "/.ironkeep-bin", root + "-victim");
        Assert.Throws<PlaceException>(() => store.MoveToBin("tern-2026-11-01.sql", clock.Now));
        Assert.True(File.Exists(root + "/tern-2026-11-01.sql"));
        Assert.Empty(Directory.EnumerateFileSystemEntries(root + "-victim"));
        File.Delete(root + "/.ironkeep-bin");
        Directory.Delete(root + "-victim");
        File.Delete(root + "/tern-2026-11-01.sql");
        Assert.Contains("its disk is not mounted", Assert.Throws<PlaceException>(() => store.Look()).Message);
        Write("anything");
        Assert.Empty(Names(store));
    }

    [Fact]
    public void Two_services_that_look_at_once_keep_what_each_has_found()
    {
        Write("tern-2026-11-01.sql");
        var (one, other) = (Open(), Open());
        one.Look();
        clock.Now += TimeSpan.FromMinutes(3);
        Write("tern-2026-11-02.sql");
        // In the middle of the one's look the other looks as well.
        memory.Before = () => other.Look();
        Assert.Equal(["tern-2026-11-01.sql"], one.Look().Copies.Keys);
        Assert.Equal(2, memory.Marks.Count);
        clock.Now += TimeSpan.FromMinutes(3);
        Assert.Equal(2, Names(one).Length);
        Assert.True(one.MoveToBin("tern-2026-11-01.sql", clock.Now));
        other.Look();
        Assert.Equal(["tern-2026-11-01.sql"], other.CopyNames().InBin);
    }

    private static string Sum(string text) => Convert.ToHexStringLower(SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(text)));

    [Fact]
    public void Verification_compares_with_the_sums_beside_the_files_and_with_those_of_the_first_reading()
    {
        Write("tern-2026-11-01.sql", "one");
        Write("tern-2026-11-02.sql", "two");
        Write("tern-2026-11-03.sql", "three");
        Write("tern-2026-11-04.sql", "four");
        Write("SHA256SUMS", $"{Sum("one")}  tern-2026-11-01.sql\nnonsense\n{Sum("never")} *./tern-2026-11-02.sql\n");
        Write("tern-2026-11-03.sql.sha256", Sum("three") + "\n");
        var path = root + "/tern-2026-11-04.sql";
        File.SetLastWriteTimeUtc(path, new DateTime(2026, 11, 4, 3, 0, 0, DateTimeKind.Utc));
        var store = Settled();
        var first = store.Check(Scope(_ => null), null, default);
        Assert.Equal(["tern-2026-11-02.sql"], first.Copies.Select(c => c.CopyId));
        Assert.Contains("not those that SHA256SUMS says", first.Damage[0].Problem);
        // The fourth has no sum beside it: it was read, and is proved by the next reading.
        Assert.Equal(
            ["tern-2026-11-01.sql True", "tern-2026-11-03.sql True", "tern-2026-11-04.sql False"],
            first.Whole.OrderBy(w => w.CopyId).Select(w => $"{w.CopyId} {w.ReadSince is not null}")
        );
        var read = clock.Now;
        clock.Now += TimeSpan.FromDays(1);
        Assert.Equal(clock.Now, store.Check(Scope(_ => read), null, default).Whole.First(w => w.CopyId == "tern-2026-11-04.sql").ReadSince);

        // Bytes that changed under the same size and time.
        var time = File.GetLastWriteTimeUtc(path);
        File.WriteAllText(path, "fous");
        File.SetLastWriteTimeUtc(path, time);
        clock.Now += TimeSpan.FromDays(1);
        Assert.Contains(
            "though its size and time are the same",
            store.Check(Scope(_ => read), null, default).Damage.First(d => d.Pack == "tern-2026-11-04.sql").Problem
        );
        // A verification that reads other files does not take it for sound.
        var few = store.Check(new CheckScope(1, p => p == "tern-2026-11-01.sql" ? null : read, clock.Now), null, default);
        Assert.Equal("tern-2026-11-01.sql", Assert.Single(few.Packs));
        Assert.Contains("tern-2026-11-04.sql", few.Copies.Select(c => c.CopyId));
        // One that changes openly while it is verified is unsound then.
        Write("tern-2026-11-01.sql", "one, longer");
        clock.Now += TimeSpan.FromDays(1);
        Assert.Contains("tern-2026-11-01.sql", store.Check(Scope(_ => read), null, default).Copies.Select(c => c.CopyId));

        CheckScope Scope(Func<string, DateTimeOffset?> last) => new(null, last, clock.Now);
    }

    [Fact]
    public void A_list_of_sums_speaks_of_files_below_it_by_their_paths_and_of_no_others()
    {
        Write("a/tern_20261101.sql", "one");
        Write("b/tern_20261101.sql", "two");
        Write("SHA256SUMS", $"{Sum("one")}  a/tern_20261101.sql\n{Sum("two")}  ./b/tern_20261101.sql\n{Sum("never")}  tern_20261101.sql\n");
        Write("b/tern_20261101.sql.sha256", $"{Sum("never")}  /somewhere/else\n");
        var report = Settled("*/{job}_{yyyy}{MM}{dd}.sql").Check(new CheckScope(null, _ => null, clock.Now), null, default);
        Assert.Equal(["b/tern_20261101.sql"], report.Copies.Select(c => c.CopyId));
        Assert.Contains("b/tern_20261101.sql.sha256 says", report.Damage[0].Problem);
        Assert.NotNull(report.Whole.Single().ReadSince);
    }

    [Fact]
    public void A_partial_copy_is_given_back_with_what_it_needs_and_nothing_is_written_over()
    {
        foreach (
            var (name, content) in new[]
            {
                ("tern_F_20261101.tar", "full"),
                ("tern_I_20261102.tar", "first"),
                ("tern_I_20261103.tar", "second"),
                ("wren_I_20261102.tar", "other"),
            }
        )
            Write(name, content);
        var store = Settled("{job}_{kind}_{yyyy}{MM}{dd}.tar");
        store.MoveToBin("tern_F_20261101.tar", clock.Now);
        store.Look();
        var target = root + "-back";
        var manner = new RestoreManner(new ForbiddenFolders([]));
        var report = store.Restore(store.ReadRecord("tern_I_20261103.tar")!, [], target, manner, default);
        Assert.Equal((3, 0), (report.Files, report.Problems.Count));
        Assert.Equal(
            ["tern_F_20261101.tar full", "tern_I_20261102.tar first", "tern_I_20261103.tar second"],
            Directory.EnumerateFiles(target).Order().Select(f => $"{Path.GetFileName(f)} {File.ReadAllText(f)}")
        );
        Assert.Equal(File.GetLastWriteTimeUtc(root + "/tern_I_20261103.tar"), File.GetLastWriteTimeUtc(target + "/tern_I_20261103.tar"));
        Assert.Equal(3, store.Restore(store.ReadRecord("tern_I_20261103.tar")!, [], target, manner, default).Problems.Count);
        Assert.Equal(
            3,
            store
                .Restore(store.ReadRecord("tern_I_20261103.tar")!, [], target, manner with { Existing = ExistingRule.Beside }, default)
                .Beside
        );
        Assert.Contains(
            "the full copy that it needs is not there",
            Assert.Single(store.Restore(store.ReadRecord("wren_I_20261102.tar")!, [], target, manner, default).Problems).Problem
        );
        Directory.Delete(target, recursive: true);
    }
}
