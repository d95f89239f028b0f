using System.Diagnostics;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Runs.Backups;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Bench;

/// <summary>
/// The store beside its yardsticks, in the same rounds. Everything is on: chunks, keyed hashes, zstd, AES-256-GCM, durable packs.
/// </summary>
internal sealed class StoreBench(string tree, string work, int rounds, string[] only)
{
    private const long Gigabyte = 1_000_000_000;
    private const string KeyText = "the bench's passphrase";
    private readonly Table table = new();
    private readonly string beside = Path.Combine(Path.GetDirectoryName(work)!, "data");

    public void Measure()
    {
        Console.WriteLine($"{Environment.ProcessorCount} cores; median of {rounds} rounds, page cache warm");
        Directory.CreateDirectory(beside);
        if (Wanted("tree"))
            Each(Tree);
        if (Wanted("random"))
            Each(RandomBytes);
        if (Wanted("million"))
            Each(Million);
        if (Wanted("large"))
            Each(LargeFile);
        if (Wanted("reclaim"))
            Each(Reclaiming);
        if (Wanted("memory"))
            Memory();
        table.Note("peak memory of this process", $"{new ByteSize(Process.GetCurrentProcess().PeakWorkingSet64)}");
        table.Print();
        Shell.Run($"rm -rf '{work}'");
    }

    /// <summary>One backup, its result on standard output: copy and peak memory.</summary>
    public static void BackUpAlone(string folder, string source, string id, string? previous)
    {
        using var store = Open(folder);
        var copy = BackUp(store, source, id, previous is null ? null : store.ReadRecord(previous));
        var peak = File.ReadLines("/proc/self/status").First(l => l.StartsWith("VmHWM", StringComparison.Ordinal));
        Console.WriteLine($"{copy.Items} items, {peak.Replace('\t', ' ')}, index {new ByteSize(store.IndexMemory)}");
    }

    private bool Wanted(string what) => only.Length == 0 || only.Contains(what);

    private void Each(Action measure)
    {
        for (var round = 0; round < rounds; round++)
        {
            Shell.Run($"rm -rf '{work}' && mkdir -p '{work}/store' '{work}/tar' '{work}/back'");
            measure();
        }
    }

    private void Tree()
    {
        var files = Shell.Run($"find '{tree}' -type f | wc -l");
        table.Note(
            "the tree",
            $"{files} files, "
                + $"{new ByteSize(long.Parse(Shell.Run($"du -sb --apparent-size '{tree}' | cut -f1"), CultureInfo.InvariantCulture))}"
        );
        Shell.Run($"find '{tree}' -type f -print0 | xargs -0 cat > /dev/null");
        using var store = New();
        CopyRecord? copy = null;
        table.Add(
            "first run of the tree",
            Time(() => copy = BackUp(store, tree, "first", null)),
            "tar cf - | zstd -1 -T2 > file",
            Shell.Time($"tar cf - -C / '{tree[1..]}' | zstd -q -1 -T2 > '{work}/tree.tar.zst'")
        );
        table.Note(
            "stored against the tar file",
            $"{new ByteSize(store.UsedBytes())} / {new ByteSize(new FileInfo($"{work}/tree.tar.zst").Length)}"
        );
        table.Add(
            "unchanged run of the tree",
            Time(() => BackUp(store, tree, "second", copy)),
            "find -printf, all attributes",
            FindTime(tree)
        );
        table.Add(
            "restore of the tree",
            Time(() => Need(new TreeRestorer(store).Restore(copy!, [], $"{work}/back").Problems.Count == 0)),
            "zstd -dc | tar x",
            Shell.Time($"zstd -dc '{work}/tree.tar.zst' | tar x -C '{work}/tar'")
        );
        var hashing = $"find '{work}/store/packs' -type f -print0 | xargs -0 -P2 -n4 b3sum > /dev/null";
        using (var opened = Open($"{work}/store"))
            table.Add(
                "content check of a store just opened",
                Time(() => Need(StoreCheck.Run(opened).Sound)),
                "xargs -P2 b3sum of the packs",
                Shell.Time(hashing)
            );
        table.Add("content check", Time(() => Need(StoreCheck.Run(store).Sound)), "xargs -P2 b3sum of the packs", Shell.Time(hashing));
        table.Add(
            "deep check",
            Time(() => Need(StoreCheck.Run(store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound)),
            "xargs -P2 sha256sum of the tree",
            Shell.Time($"find '{tree}' -type f -print0 | xargs -0 -P2 -n64 sha256sum > /dev/null")
        );
        SmallFile(copy!);
    }

    private void SmallFile(CopyRecord copy)
    {
        var counting = new CountingPlace(new FolderPlace($"{work}/store"));
        using var store = PooledStore.Open(counting, Secret.Passphrase(KeyText));
        var opening = counting.Read();
        var file = Shell.Run($"find '{tree}' -type f -size -8k | tail -1");
        using var restorer = new TreeRestorer(store);
        Need(restorer.Restore(copy, [file], $"{work}/back/one").Files == 1);
        table.Note(
            "one small file out of the copy",
            $"{new ByteSize(counting.Read() - opening)} of the store read, and {new ByteSize(opening)} to open it"
        );
    }

    private void RandomBytes()
    {
        var file = $"{beside}/random/random.bin";
        if (!File.Exists(file))
            Shell.Run($"mkdir -p '{beside}/random' && head -c {Gigabyte} /dev/urandom > '{file}'");
        Shell.Run($"cat '{file}' > /dev/null");
        using var store = New();
        var ours = Time(() => BackUp(store, $"{beside}/random", "first", null));
        table.Add("first run of random bytes (1 GB)", ours, "cp of the same", Shell.Time($"cp '{file}' '{work}/tar/copy'"));
        table.Add("the same", ours, "cp and sync of the same", Shell.Time($"cp '{file}' '{work}/tar/other' && sync '{work}/tar/other'"));
    }

    private void Million()
    {
        var source = MillionFiles();
        Shell.Run($"tar cf - -C / '{source[1..]}' | cat > /dev/null");
        using var store = New();
        CopyRecord? first = null,
            second = null;
        table.Add(
            "first run of a million small files",
            Time(() => first = BackUp(store, source, "first", null)),
            "tar cf - | zstd -1 -T2 > file",
            Shell.Time($"tar cf - -C / '{source[1..]}' | zstd -q -1 -T2 > '{work}/million.tar.zst'")
        );
        var unchanged = Time(() => second = BackUp(store, source, "second", first));
        table.Add("unchanged run of a million files", unchanged, "find -printf, all attributes", FindTime(source));
        Shell.Run($"for i in $(seq 0 9); do for j in $(seq 0 999); do echo changed-$RANDOM > '{source}'/d$j/f$((i*100)); done; done");
        table.Add("run after 1 % of them changed", Time(() => BackUp(store, source, "third", second)), "the unchanged run", unchanged);
    }

    private string MillionFiles()
    {
        var source = $"{beside}/million";
        if (Directory.Exists(source))
            return source;
        var random = new Random(7);
        for (var d = 0; d < 1000; d++)
        {
            Directory.CreateDirectory($"{source}/d{d}");
            for (var f = 0; f < 1000; f++)
                File.WriteAllText(
                    $"{source}/d{d}/f{f}",
                    $"reading {d} {f}: " + new string((char)('a' + random.Next(26)), random.Next(400)) + random.NextInt64()
                );
        }
        return source;
    }

    private void LargeFile()
    {
        var file = $"{beside}/large/large.bin";
        if (!File.Exists(file))
        {
            // Every page is another, and shrinks: the store's packs must not push the file out of the page cache.
            Directory.CreateDirectory($"{beside}/large");
            using var output = File.Create(file);
            var page = new byte[1024 * 1024];
            for (var i = 0; i < 10_000; i++)
            {
                for (var at = 0; at < page.Length; at += 512)
                    BitConverter.TryWriteBytes(page.AsSpan(at), Random.Shared.NextInt64());
                output.Write(page, 0, 1_000_000);
            }
        }
        Shell.Run($"cat '{file}' > /dev/null");
        using var store = New();
        var first = BackUp(store, $"{beside}/large", "first", null);
        using (var output = File.OpenWrite(file))
        {
            var change = new byte[1_000_000];
            Random.Shared.NextBytes(change);
            output.Position = 5 * Gigabyte + Random.Shared.Next(1_000_000);
            output.Write(change);
        }
        var before = store.UsedBytes();
        table.Add(
            "10 GB file, 1 MB changed",
            Time(() => BackUp(store, $"{beside}/large", "second", first)),
            "b3sum of it",
            Shell.Time($"b3sum '{file}' > /dev/null")
        );
        table.Note("stored for the changed 1 MB", $"{new ByteSize(store.UsedBytes() - before)}");
    }

    private void Reclaiming()
    {
        // Thirty nights of a tree in which a tenth of the files is written anew each night; the older half goes.
        var source = $"{work}/nights";
        var random = Random.Shared;
        var content = new byte[200_000];
        using var store = New();
        Directory.CreateDirectory(source);
        CopyRecord? last = null;
        for (var night = 0; night < 30; night++)
        {
            for (var f = 0; f < 5000; f++)
            {
                if (night > 0 && random.Next(10) > 0)
                    continue;
                random.NextBytes(content);
                File.WriteAllBytes($"{source}/f{f}", content[..random.Next(1000, content.Length)]);
            }
            last = BackUp(store, source, $"night-{night:00}", last);
        }
        for (var night = 0; night < 15; night++)
            store.MoveToBin($"night-{night:00}", DateTimeOffset.UtcNow.AddDays(-30));
        var before = store.PackSizes();
        ReclaimReport? report = null;
        var ours = Time(() => report = Reclaim.Run(store, DateTimeOffset.UtcNow));
        var after = store.PackSizes();
        var stays = after.Where(p => !before.ContainsKey(p.Key)).Sum(p => p.Value);
        Shell.Run($"head -c {stays} /dev/urandom > '{work}/stays'");
        table.Add(
            "reclaim, half of 30 copies",
            ours,
            "cp of the bytes that stay in rewritten packs",
            Shell.Time($"cp '{work}/stays' '{work}/stays2'")
        );
        // What the yardstick does not do: to be durable, and to remove the packs that are done with.
        table.Add(
            "reclaim, the same",
            ours,
            "cp, sync, and rm of the bytes that went",
            Shell.Time($"rm '{work}/stays2' && cp '{work}/stays' '{work}/stays2' && sync '{work}/stays2'") + Removing(before, after)
        );
        table.Note(
            "reclaim",
            $"{report!.PacksRemoved} packs removed, {report.PacksRewritten} rewritten, {new ByteSize(report.BytesFreed)} freed, "
                + $"{new ByteSize(stays)} rewritten"
        );
    }

    /// <summary>Seconds to remove files as large as the packs that are gone.</summary>
    private double Removing(IReadOnlyDictionary<string, long> before, IReadOnlyDictionary<string, long> after)
    {
        var gone = before.Where(p => !after.ContainsKey(p.Key)).Select(p => p.Value).ToList();
        Directory.CreateDirectory($"{work}/gone");
        Shell.Run($"i=0; for s in {string.Join(' ', gone)}; do head -c $s /dev/zero > '{work}/gone/'$i; i=$((i+1)); done; sync");
        return Shell.Time($"rm '{work}'/gone/*");
    }

    private void Memory()
    {
        var source = MillionFiles();
        Shell.Run($"rm -rf '{work}' && mkdir -p '{work}/store'");
        using (New()) { }
        var self = $"dotnet '{Environment.GetCommandLineArgs()[0]}' backup '{work}/store' '{source}'";
        table.Note("memory, first run of a million files", Shell.Run($"{self} first -"));
        table.Note("memory, unchanged run", Shell.Run($"{self} second first"));
        Shell.Run($"mkdir -p '{work}/nothing' '{work}/store2'");
        using (New("store2")) { }
        table.Note(
            "memory, run of an empty folder",
            Shell.Run($"dotnet '{Environment.GetCommandLineArgs()[0]}' backup '{work}/store2' '{work}/nothing' first -")
        );
    }

    private PooledStore New(string name = "store")
    {
        PooledStore.Create(
            new FolderPlace($"{work}/{name}"),
            new StoreMaking(HashKind.Blake3, Secret.Passphrase(KeyText), "bench", Hardness.Light),
            DateTimeOffset.UtcNow
        );
        return Open($"{work}/{name}");
    }

    private static PooledStore Open(string folder) => PooledStore.Open(new FolderPlace(folder), Secret.Passphrase(KeyText));

    private static CopyRecord BackUp(PooledStore store, string source, string id, CopyRecord? previous) =>
        new BackupRun(store, new BackupOrder(id, "bench", "here", [source], [], previous), TimeProvider.System, (_, text) =>
            Need(text.Contains("socket", StringComparison.Ordinal))
        )
            .RunAsync(default)
            .GetAwaiter()
            .GetResult();

    private static double FindTime(string source) => Shell.Time($"find '{source}' -printf '%p %s %T@ %C@ %i %m %U %G\\n' > /dev/null");

    private static void Need(bool right)
    {
        if (!right)
            throw new InvalidOperationException("what was measured did not succeed");
    }

    private static double Time(Action action)
    {
        var watch = Stopwatch.StartNew();
        action();
        return watch.Elapsed.TotalSeconds;
    }
}
