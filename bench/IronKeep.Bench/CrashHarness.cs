using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Bench;

/// <summary>
/// Kills a process that runs, bins and reclaims without a pause, at a random moment, many times over one store. The law: every copy that
/// was reported ok restores exactly, unless it was sent to the bin and reclaimed.
/// </summary>
internal sealed class CrashHarness(string work, int kills)
{
    private const int LookEvery = 20;
    private static readonly Secret Key = Secret.Passphrase("the harness's");
    private static readonly LeaseTerms Terms = new(TimeSpan.FromSeconds(2));
    private readonly Random random = new();
    private readonly Dictionary<string, string> promised = [];
    private readonly HashSet<string> mayBeGone = [];
    private readonly Dictionary<string, int> killedIn = [];

    public void Run()
    {
        Shell.Run($"rm -rf '{work}' && mkdir -p '{work}/store' '{work}/source'");
        PooledStore.Create(
            new FolderPlace($"{work}/store"),
            new StoreMaking(HashKind.Blake3, Key, Hardness: Hardness.Light),
            DateTimeOffset.UtcNow
        );
        var watch = Stopwatch.StartNew();
        var restored = 0;
        for (var kill = 1; kill <= kills; kill++)
        {
            Kill();
            if (kill % LookEvery == 0 || kill == kills)
                restored += Look(kill);
        }
        Console.WriteLine(
            $"{kills} kills in {watch.Elapsed.TotalSeconds:0} s "
                + $"({string.Join(", ", killedIn.OrderBy(k => k.Key).Select(k => $"{k.Value} in {k.Key}"))}); {promised.Count} copies "
                + $"reported ok, {restored} restores compared, none different"
        );
        Shell.Run($"rm -rf '{work}'");
    }

    private void Kill()
    {
        using var child = Process.Start(
            new ProcessStartInfo(
                "dotnet",
                [Environment.GetCommandLineArgs()[0], "crash-child", work, random.Next().ToString(CultureInfo.InvariantCulture)]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        var doing = "starting";
        var ended = Task.Run(() =>
        {
            while (child.StandardOutput.ReadLine() is { } line)
            {
                var words = line.Split(' ');
                if (words[0] == "doing")
                    doing = words[1];
                else if (words[0] == "copy")
                    promised[words[1]] = words[2];
                else if (words[0] == "bin")
                    mayBeGone.Add(words[1]);
                else
                    throw new InvalidOperationException($"the child failed by itself: {line}{child.StandardOutput.ReadToEnd()}");
            }
        });
        // After the start of the runtime, at any moment of the work.
        while (doing == "starting" && !ended.IsCompleted)
            Thread.Yield();
        Thread.Sleep(random.Next(0, 400));
        child.Kill();
        child.WaitForExit();
        ended.GetAwaiter().GetResult();
        killedIn[doing] = killedIn.GetValueOrDefault(doing) + 1;
    }

    private int Look(int kill)
    {
        using var store = PooledStore.OpenToRead(new FolderPlace($"{work}/store"), Key, Terms);
        var report = StoreCheck.Run(store, CheckScope.Everything with { OnlyLooks = true, Depth = CheckDepth.Deep });
        if (!report.Sound)
            throw new InvalidOperationException(
                $"after kill {kill}: {string.Join("; ", report.Damage.Select(d => d.Problem))} "
                    + $"{string.Join("; ", report.Copies.Select(c => c.CopyId + " " + c.Paths[0]))} {string.Join("; ", report.Files)}"
            );
        var there = store.ReadContents().Copies.ToDictionary(c => c.Record.Id, c => c.Record);
        foreach (var lost in promised.Keys.Where(id => !there.ContainsKey(id) && !mayBeGone.Contains(id)))
            throw new InvalidOperationException($"after kill {kill}: copy {lost} is gone");
        var compared = 0;
        foreach (
            var (id, print) in promised.Where(p => there.ContainsKey(p.Key)).OrderByDescending(p => p.Key, StringComparer.Ordinal).Take(8)
        )
        {
            Shell.Run($"rm -rf '{work}/back'");
            using var restorer = new TreeRestorer(store);
            if (restorer.Restore(there[id], [], $"{work}/back").Problems.Count > 0 || Print($"{work}/back{work}/source") != print)
                throw new InvalidOperationException($"after kill {kill}: copy {id} came back different");
            compared++;
        }
        return compared;
    }

    /// <summary>The process that is killed: says what it begins and what is done.</summary>
    public static void Child(string work, int seed)
    {
        var random = new Random(seed);
        using var store = PooledStore.Open(new FolderPlace($"{work}/store"), Key, Terms);
        var last = store.ReadContents().Copies.LastOrDefault(c => c.Binned is null)?.Record;
        for (var round = 0; ; round++)
        {
            try
            {
                switch (random.Next(5))
                {
                    case 0:
                        Say("doing reclaim");
                        Reclaim.Run(store, DateTimeOffset.UtcNow.AddDays(-1));
                        break;
                    case 1:
                        var all = store.ReadContents().Copies.Where(c => c.Binned is null).ToList();
                        if (all.Count < 6)
                            break;
                        Say("doing prune");
                        foreach (var copy in all.Take(3))
                        {
                            Say($"bin {copy.Record.Id}");
                            store.MoveToBin(copy.Record.Id, DateTimeOffset.UtcNow.AddDays(-2));
                        }
                        break;
                    default:
                        Change($"{work}/source", random);
                        var print = Print($"{work}/source");
                        Say("doing run");
                        var order = new BackupOrder(
                            $"{DateTime.UtcNow:yyyyMMddHHmmssfff}-{seed:x}-{round}",
                            "job",
                            "heron",
                            [$"{work}/source"],
                            [],
                            last
                        );
                        last = new BackupRun(store, order, TimeProvider.System, (_, _) => { }).RunAsync(default).GetAwaiter().GetResult();
                        Say($"copy {last.Id} {print}");
                        break;
                }
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.InUse)
            {
                // One that was killed while it tended the store is waited for until its lease is over.
            }
            catch (Exception e)
            {
                Say($"failed {e}");
                return;
            }
        }
    }

    private static void Say(string line)
    {
        Console.Out.WriteLine(line);
        Console.Out.Flush();
    }

    private static void Change(string source, Random random)
    {
        for (var i = 0; i < 4; i++)
        {
            var content = new byte[random.Next(10) == 0 ? random.Next(6_000_000) : random.Next(60_000)];
            random.NextBytes(content);
            Directory.CreateDirectory($"{source}/{random.Next(5)}");
            File.WriteAllBytes($"{source}/{random.Next(5)}-{random.Next(12)}", content);
        }
    }

    private static string Print(string folder)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            hash.AppendData(Encoding.UTF8.GetBytes(Path.GetRelativePath(folder, file)));
            hash.AppendData(File.ReadAllBytes(file));
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }
}
