using System.Diagnostics;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Bench;

/// <summary>
/// What it costs that a copy is made in one place and arrives in another, without a line between: all the work of both sides in one
/// process, beside the same run into a store at hand.
/// </summary>
internal static class SendingBench
{
    private const string KeyText = "the bench's own passphrase";

    private sealed class Link(PooledStore store) : ICopyLink
    {
        private ArrivingCopy? arriving;
        private long sent;

        public long Sent => Interlocked.Read(ref sent);

        public IReadOnlySet<string> Begin(IReadOnlyCollection<string> copies)
        {
            arriving = ArrivingCopy.Begin(store, "curlew", 1);
            return store.CopyNames().InForce;
        }

        public byte[] Send(ReadOnlyMemory<byte> batch)
        {
            Interlocked.Add(ref sent, batch.Length);
            return arriving!.Take(batch.Span);
        }

        public byte[] Has(ReadOnlyMemory<byte> told)
        {
            Interlocked.Add(ref sent, told.Length);
            return arriving!.Has(told.Span);
        }

        public CopyRecord Commit(CopyRecord record, string? before)
        {
            var made = arriving!.Commit(record, before is null ? null : store.ReadRecord(before), default);
            arriving.Dispose();
            return made;
        }
    }

    /// <summary>The tree, a folder to work in (emptied), rounds.</summary>
    public static void Measure(string tree, string work, int rounds)
    {
        for (var round = 0; round < rounds; round++)
        {
            Shell.Run($"rm -rf '{work}' && mkdir -p '{work}/near' '{work}/far'");
            using var near = New($"{work}/near");
            using var far = New($"{work}/far");
            CopyRecord? before = null;
            foreach (var what in (string[])["first run", "unchanged run", "unchanged run"])
            {
                var (seconds, cpu) = Time(() => before = Run(near, before, $"near-{Guid.NewGuid():n}", tree));
                var link = new Link(far);
                long memory = 0;
                var (sending, sendingCpu) = Time(() =>
                {
                    using var remembered = new SendingMemory($"{work}/memory");
                    Run(new SendingTarget(link, remembered, remembered.Newest), remembered.Newest, $"far-{Guid.NewGuid():n}", tree);
                    memory = new DirectoryInfo($"{work}/memory").GetFiles().Sum(f => f.Length);
                });
                Console.WriteLine(
                    string.Create(
                        System.Globalization.CultureInfo.InvariantCulture,
                        $"{what, -14} at hand {seconds, 6:0.00} s, {cpu, 6:0.00} CPU s   sent {sending, 6:0.00} s, "
                            + $"{sendingCpu, 6:0.00} CPU s   throughput {seconds / sending:0.00}, CPU {sendingCpu / cpu:0.00}   "
                            + $"{link.Sent / 1e6:0.000} MB travelled, {memory / 1e6:0.0} MB remembered, {before!.Items} items, "
                            + $"{before.Bytes / 1e6:0} MB"
                    )
                );
            }
        }
    }

    private static CopyRecord Run(ICopyTarget target, CopyRecord? before, string id, string tree) =>
        new BackupRun(target, new BackupOrder(id, "bench", "curlew", [tree], [], before), TimeProvider.System, (_, _) => { })
            .RunAsync(default)
            .GetAwaiter()
            .GetResult();

    private static PooledStore New(string folder)
    {
        var secret = Secret.Passphrase(KeyText);
        PooledStore.Create(
            new FolderPlace(folder),
            new StoreMaking(HashKind.Blake3, secret, "bench", Hardness.Light),
            DateTimeOffset.UtcNow
        );
        return PooledStore.Open(new FolderPlace(folder), secret);
    }

    private static (double Seconds, double Cpu) Time(Action act)
    {
        var (watch, cpu) = (Stopwatch.StartNew(), Environment.CpuUsage.TotalTime);
        act();
        return (watch.Elapsed.TotalSeconds, (Environment.CpuUsage.TotalTime - cpu).TotalSeconds);
    }
}
