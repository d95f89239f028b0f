using System.Diagnostics;
using System.Globalization;
using IronKeep.Bench;
using IronKeep.Core.Quantities;
using IronKeep.Runs.Backups;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

if (args[0] == "catalogue")
{
    await LargeCatalogue.MeasureAsync(args[1]);
    return;
}
if (args[0] == "planning")
{
    Planning.Measure();
    return;
}
// Arguments: the tree to measure with, a folder to work in (emptied), rounds.
var (tree, work, rounds) = (args[0], args[1], int.Parse(args[2], CultureInfo.InvariantCulture));
var files = long.Parse(Shell.Run($"find '{tree}' -type f | wc -l"), CultureInfo.InvariantCulture);
var bytes = long.Parse(Shell.Run($"du -sb --apparent-size '{tree}' | cut -f1"), CultureInfo.InvariantCulture);
Console.WriteLine($"{tree}: {files} files, {new ByteSize(bytes)}; {Environment.ProcessorCount} cores; median of {rounds} rounds, page cache warm");
Shell.Run($"cat $(find '{tree}' -type f | head -100000) > /dev/null 2>&1 || find '{tree}' -type f -print0 | xargs -0 cat > /dev/null");

var table = new Table();
for (var round = 0; round < rounds; round++)
{
    Shell.Run($"rm -rf '{work}' && mkdir -p '{work}/store' '{work}/tar' '{work}/back'");
    var place = new FolderPlace($"{work}/store");
    PooledStore.Create(place, DateTimeOffset.UtcNow);
    CopyRecord? copy = null, unchanged = null;
    using (var store = PooledStore.Open(place))
    {
        table.Add("first run", Time(() => copy = BackUp(store, "first", null)), "tar cf - | zstd -1 -T2 > file", Shell.Time($"tar cf - -C / '{tree[1..]}' | zstd -q -1 -T2 > '{work}/tree.tar.zst'"));
        table.Add("unchanged run", Time(() => unchanged = BackUp(store, "second", copy)), "find -printf, all attributes", Shell.Time($"find '{tree}' -printf '%p %s %T@ %C@ %i %m %U %G\\n' > /dev/null"));
        table.Add("restore", Time(() => Restore(store, copy!)), "zstd -dc | tar x", Shell.Time($"zstd -dc '{work}/tree.tar.zst' | tar x -C '{work}/tar'"));
        table.Add("content check", Time(() => Need(ContentCheck.Run(store).Sound)), "xargs -P2 sha256sum of the packs", Shell.Time($"find '{work}/store/packs' -type f -print0 | xargs -0 -P2 -n4 sha256sum > /dev/null"));
        table.Note("stored against the tar file", $"{new ByteSize(store.UsedBytes())} / {new ByteSize(new FileInfo($"{work}/tree.tar.zst").Length)}");
    }
}
table.Note("peak memory of this process", $"{new ByteSize(Process.GetCurrentProcess().PeakWorkingSet64)}");
table.Print();
Shell.Run($"rm -rf '{work}'");

CopyRecord BackUp(PooledStore store, string id, CopyRecord? previous) =>
    new BackupRun(store, new BackupOrder(id, "bench", "here", [tree], [], previous), TimeProvider.System, (_, _) => { }).RunAsync(default).GetAwaiter().GetResult();

void Restore(PooledStore store, CopyRecord record) => Need(new TreeRestorer(store).Restore(record, [], $"{work}/back").Problems.Count == 0);

static void Need(bool right)
{
    if (!right) throw new InvalidOperationException("what was measured did not succeed");
}

static double Time(Action action)
{
    var watch = Stopwatch.StartNew();
    action();
    return watch.Elapsed.TotalSeconds;
}
