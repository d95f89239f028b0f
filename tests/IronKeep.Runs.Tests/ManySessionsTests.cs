using IronKeep.Runs.Backups;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// One open store with many runs in it, as the service has it: what its memory says must be what a store that is opened anew says.
/// </summary>
public sealed class ManySessionsTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Runs_refreshes_and_reclaims_at_once_leave_a_memory_that_agrees_with_the_store()
    {
        var seed = Environment.TickCount;
        using var stop = new CancellationTokenSource();
        var store = keep.Store;
        var refreshing = Task.Run(() =>
        {
            while (!stop.IsCancellationRequested)
                store.Refresh();
        });
        var reclaiming = Task.Run(() =>
        {
            while (!stop.IsCancellationRequested)
                Reclaim.Run(store, DateTimeOffset.UtcNow);
        });
        var kept = (await Task.WhenAll(Enumerable.Range(0, 5).Select(w => Task.Run(() => Write(store, w, new Random(seed + w))))))
            .SelectMany(k => k)
            .ToList();
        await stop.CancelAsync();
        await Task.WhenAll(refreshing, reclaiming);

        Reclaim.Run(store, DateTimeOffset.UtcNow);

        // The largest pack of all goes behind everybody's back: both must name the same copies as hurt.
        File.Delete(
            Directory.EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories).MaxBy(f => new FileInfo(f).Length)!
        );
        foreach (var depth in Enum.GetValues<CheckDepth>())
        {
            using var fresh = PooledStore.Open(new FolderPlace(keep.StoreFolder), Keep.Secret);
            var expected = Hurt(StoreCheck.Run(fresh, CheckScope.Everything with { Depth = CheckDepth.Presence, OnlyLooks = true }));
            Assert.NotEmpty(expected);
            Assert.Equal(expected, Hurt(StoreCheck.Run(store, CheckScope.Everything with { Depth = depth, OnlyLooks = true })));
        }
        Assert.Equal(10, kept.Count);

        static string[] Hurt(CheckReport report) => [.. report.Copies.Select(c => c.CopyId).Order()];
    }

    private async Task<List<CopyRecord>> Write(PooledStore store, int writer, Random random)
    {
        var source = Directory.CreateDirectory(Path.Combine(keep.Root, $"writer-{writer}")).FullName;
        var kept = new List<CopyRecord>();
        for (var round = 0; round < 8; round++)
        {
            var bytes = new byte[30_000];
            random.NextBytes(bytes);
            File.WriteAllBytes($"{source}/{round % 3}", bytes);
            var order = new BackupOrder($"{writer}-{round}", $"job-{writer}", "heron", [source], [], kept.LastOrDefault());
            kept.Add(await new BackupRun(store, order, TimeProvider.System, (_, _) => { }).RunAsync(default));
            if (kept.Count <= 2)
                continue;
            store.MoveToBin(kept[0].Id, DateTimeOffset.UtcNow.AddDays(-1));
            kept.RemoveAt(0);
        }
        return kept;
    }

    [Fact]
    public async Task A_pack_that_two_add_at_once_has_one_number_and_is_gone_when_it_went()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        var index = keep.Store.Index;
        for (var round = 0; round < 400; round++)
        {
            var (name, id) = ($"{round:x64}", ChunkId.Parse($"{round + 1:x64}"));
            var table = PackTable.Of(PackKind.Content, [], [new PackBlock(48, 1, 1, BlockCodec.Raw, 0, 1)], [(id, 1)]);
            using var both = new Barrier(2);
            var numbers = await Task.WhenAll(
                Enumerable
                    .Range(0, 2)
                    .Select(_ =>
                        Task.Run(() =>
                        {
                            both.SignalAndWait();
                            return index.Add(name, table, 100);
                        })
                    )
            );
            Assert.Equal(numbers[0], numbers[1]);
            index.Forget(new HashSet<string> { name });
            Assert.Equal(-1, index.SeemsToLieIn(id));
        }
    }

    [Fact]
    public async Task A_pack_that_comes_while_the_packs_are_listed_is_not_forgotten()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        var hooked = new HookedPlace(keep.Place);
        using var store = PooledStore.Open(hooked, Keep.Secret);
        CopyRecord? copy = null;
        hooked.AfterListing = () =>
            copy = Task.Run(() =>
            {
                using var session = new WritingSession(store, Lease.Take(hooked, LeaseKind.Writing, LeaseTerms.Usual), 1);
                using var lane = session.OpenLane();
                var id = lane.Put(new byte[1000]);
                return session.Commit(OneRecord(store) with { Id = "meanwhile", Root = [id.ToString()] });
            }).Result;
        store.Refresh();
        Assert.NotEqual(-1, store.Index.SeemsToLieIn(ChunkId.Parse(copy!.Root[0])));
    }

    [Fact]
    public async Task A_pack_that_was_removed_between_the_listing_and_the_lists_of_leaving_packs_is_not_counted_on()
    {
        keep.Write("a", "something that only the first copy has");
        var first = await keep.BackUp();
        keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow.AddDays(-1));
        var hooked = new HookedPlace(keep.Place);
        using var store = PooledStore.Open(hooked, Keep.Secret);
        // As another process does it: lists its packs as leaving, finds no writer, removes them and the list.
        var lists = Directory.CreateDirectory(keep.StoreFolder + "/leaving");
        var packs = Directory.EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories).ToList();
        var list = LeavingList.Of(packs.Select(p => Path.GetFileNameWithoutExtension(p)));
        list.Write(keep.Place);
        hooked.AfterListing = () =>
        {
            foreach (var pack in packs)
                File.Delete(pack);
            foreach (var file in lists.EnumerateFiles())
                file.Delete();
        };
        using var session = store.BeginWriting();
        Assert.All(first.RootContent().Ids, id => Assert.Equal(-1, store.Index.SeemsToStayIn(id)));
    }

    private static CopyRecord OneRecord(PooledStore store) => store.ReadContents().Copies[0].Record;

    /// <summary>A store of short runs stays in few files, and what was joined is what was written.</summary>
    [Fact]
    public async Task Small_packs_are_joined_as_runs_go_on()
    {
        const int runs = 150;
        keep.Write("steady", string.Concat(Enumerable.Range(0, 20_000).Select(i => $"{i} ")));
        var copies = new List<CopyRecord>();
        for (var i = 0; i < runs; i++)
        {
            keep.Write("reading", $"{i} {string.Concat(Enumerable.Range(0, 300).Select(n => $"{i * n} "))}");
            copies.Add(await keep.BackUp(copies.LastOrDefault()));
        }
        var packs = Directory.EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories).Count();
        Assert.InRange(packs, 1, 70);
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/leaving"));
        // Those that were still at hand and those that are read anew agree.
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Presence }).Sound);
        keep.Reopen();
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
        foreach (var i in new[] { 0, 1, runs / 2, runs - 1 })
        {
            var back = keep.Restore(copies[i]).Folder;
            Assert.StartsWith($"{i} ", File.ReadAllText(back + "/reading"));
        }
        // A flipped byte is not carried into a pack with a name of its own.
        var victim = Directory
            .EnumerateFiles(keep.StoreFolder + "/packs", "*.pack", SearchOption.AllDirectories)
            .MinBy(f => new FileInfo(f).Length)!;
        var bytes = File.ReadAllBytes(victim);
        bytes[60] ^= 1;
        File.WriteAllBytes(victim, bytes);
        keep.Reopen();
        for (var i = 0; i < 40; i++)
        {
            keep.Write("reading", $"again {i}");
            await keep.BackUp();
        }
        keep.Reopen();
        Assert.Contains(StoreCheck.Run(keep.Store, CheckScope.Everything with { OnlyLooks = true }).Damage, d =>
            victim.Contains(d.Pack, StringComparison.Ordinal)
        );
    }
}
