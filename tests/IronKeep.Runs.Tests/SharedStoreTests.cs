using IronKeep.Runs.Backups;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Runs.Tests;

/// <summary>Several who have the same store open at once, as several processes would: each has an index of its own.</summary>
public sealed class SharedStoreTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    private PooledStore Another(LeaseTerms? terms = null) => PooledStore.Open(new FolderPlace(keep.StoreFolder), Keep.Secret, terms);

    [Fact]
    public void Of_two_who_make_a_store_in_the_same_folder_one_does_and_its_key_opens_it()
    {
        for (var round = 0; round < 5; round++)
        {
            var folder = Directory.CreateDirectory($"{keep.Root}/both-{round}").FullName;
            // What a killed one left.
            File.WriteAllText(folder + "/ballast", "x");
            using var together = new Barrier(2);
            var made = Enumerable
                .Range(0, 2)
                .AsParallel()
                .WithDegreeOfParallelism(2)
                .WithExecutionMode(System.Linq.ParallelExecutionMode.ForceParallelism)
                .Select(_ =>
                {
                    together.SignalAndWait(TimeSpan.FromMinutes(2));
                    try
                    {
                        PooledStore.Create(
                            new FolderPlace(folder),
                            new StoreMaking(HashKind.Blake3, Keep.Secret, Hardness: Hardness.Light),
                            DateTimeOffset.UnixEpoch
                        );
                        return 1;
                    }
                    catch (PlaceException)
                    {
                        return 0;
                    }
                })
                .Sum();
            Assert.True(made <= 1);
            if (made == 0)
                continue;
            using var store = PooledStore.Open(new FolderPlace(folder), Keep.Secret);
            Assert.Single(store.KeyWraps());
        }
    }

    /// <summary>
    /// Three writers make copies that share most of their content, and send their own older ones to the bin, while a fourth reclaims
    /// without a pause: what one counts on, another is about to remove. Every copy that is reported ok must restore exactly.
    /// </summary>
    [Fact]
    public async Task Writers_and_a_reclaimer_at_once_lose_nothing()
    {
        var seed = Environment.TickCount;
        var pieces = Enumerable.Range(0, 30).Select(i => Bytes(seed + i, 90_000)).ToArray();
        using var stop = new CancellationTokenSource();
        var reclaimed = 0;
        var removed = 0;
        var reclaimer = Task.Run(() =>
        {
            using var store = Another();
            while (!stop.IsCancellationRequested)
            {
                removed += Reclaim.Run(store, DateTimeOffset.UtcNow).PacksRemoved;
                reclaimed++;
            }
        });
        var kept = await Task.WhenAll(Enumerable.Range(0, 3).Select(w => Task.Run(() => Write(w, new Random(seed + w), pieces))));
        await stop.CancelAsync();
        await reclaimer;
        Assert.True(reclaimed > 3 && removed > 0, $"{reclaimed} reclaims removed {removed} packs");

        using var store = Another();
        Reclaim.Run(store, DateTimeOffset.UtcNow);
        var report = StoreCheck.Run(store, CheckScope.Everything with { Depth = CheckDepth.Deep });
        Assert.True(report.Sound, $"seed {seed}: {string.Join(", ", report.Copies.Select(c => c.CopyId + " " + c.Paths[0]))}");
        foreach (var (copy, content) in kept.SelectMany(k => k))
        {
            var target = Path.Combine(keep.Root, "back-" + copy.Id);
            using var restorer = new TreeRestorer(store);
            Assert.Empty(restorer.Restore(copy, [], target).Problems);
            var source = target + copy.Takes[0];
            Assert.Equal(content.Length, Directory.EnumerateFiles(source).Count());
            for (var i = 0; i < content.Length; i++)
                Assert.True(
                    pieces[content[i]].AsSpan().SequenceEqual(File.ReadAllBytes($"{source}/{i}")),
                    $"seed {seed}, copy {copy.Id}, file {i}"
                );
        }
        // Nothing that no copy needs is left: the last reclaiming had nobody to wait for.
        Assert.Equal(0, Reclaim.Run(store, DateTimeOffset.UtcNow).PacksWaiting);
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/leases"));
    }

    private async Task<List<(CopyRecord, int[])>> Write(int writer, Random random, byte[][] pieces)
    {
        using var store = Another();
        var source = Directory.CreateDirectory(Path.Combine(keep.Root, $"writer-{writer}")).FullName;
        var kept = new List<(CopyRecord, int[])>();
        for (var round = 0; round < 12; round++)
        {
            var content = Enumerable.Range(0, 5).Select(_ => random.Next(pieces.Length)).ToArray();
            for (var i = 0; i < content.Length; i++)
                File.WriteAllBytes($"{source}/{i}", pieces[content[i]]);
            var order = new BackupOrder($"{writer}-{round}", $"job-{writer}", "heron", [source], [], kept.LastOrDefault().Item1);
            kept.Add((await new BackupRun(store, order, TimeProvider.System, (_, _) => { }).RunAsync(default), content));
            if (kept.Count <= 2)
                continue;
            store.MoveToBin(kept[0].Item1.Id, DateTimeOffset.UtcNow.AddDays(-1));
            kept.RemoveAt(0);
        }
        return kept;
    }

    [Fact]
    public async Task What_a_writer_counts_on_is_not_removed_before_he_is_done()
    {
        keep.Write("a", Bytes(1, 400_000));
        var first = await keep.BackUp();
        using var other = Another();
        // The writer has begun, and knows the chunks of the first copy as there; then that copy goes.
        using var session = other.BeginWriting();
        keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow.AddDays(-1));
        var report = Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        Assert.Equal(0, report.PacksRemoved);
        Assert.True(report.PacksWaiting > 0);
        // Who begins now does not count on them any more.
        Assert.All(first.RootContent().Ids, id => Assert.Equal(-1, keep.Store.Index.SeemsToStayIn(id)));
        Assert.All(first.RootContent().Ids, id => Assert.NotEqual(-1, other.Index.SeemsToStayIn(id)));
        session.Commit(first with { Id = "late" });
        session.Dispose();
        Assert.Equal(0, Reclaim.Run(keep.Store, DateTimeOffset.UtcNow).PacksRemoved);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(first).Folder));
        Assert.True(StoreCheck.Run(keep.Store).Sound);
    }

    [Fact]
    public async Task A_dead_holder_is_waited_for_until_his_lease_is_over_and_a_sleeper_gives_up()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        // Long enough that a busy machine renews it, short enough to be waited for.
        var terms = new LeaseTerms(TimeSpan.FromSeconds(6));
        using var store = Another(terms);
        var dead = Lease.Take(store.Place, LeaseKind.Tending, terms);
        var refused = Assert.Throws<PlaceException>(() => Reclaim.Run(store, DateTimeOffset.UtcNow));
        Assert.Equal(PlaceFault.InUse, refused.Fault);
        Assert.Contains(Environment.MachineName, refused.Message);
        // As if its process were gone: nobody renews it.
        dead.Abandon();
        using var session = keep.Store.BeginWriting();
        await Until(() => Lease.Living(store.Place).TrueForAll(l => l.Kind != LeaseKind.Tending));
        Reclaim.Run(store, DateTimeOffset.UtcNow);
        // A writer whose lease somebody took away, because he slept, must not commit.
        foreach (var lease in Directory.EnumerateFiles(keep.StoreFolder + "/leases"))
            File.Delete(lease);
        var lost = Assert.Throws<PlaceException>(() => session.Commit(OneCopy().Record with { Id = "too-late" }));
        Assert.Contains("lease", lost.Message);
        Assert.Null(store.ReadRecord("too-late"));
    }

    private StoredCopy OneCopy() => keep.Store.ReadContents().Copies[0];

    private static async Task Until(Func<bool> done)
    {
        while (!done())
            await Task.Delay(20);
    }

    private static byte[] Bytes(int seed, int size)
    {
        var bytes = new byte[size];
        new Random(seed).NextBytes(bytes);
        return bytes;
    }
}
