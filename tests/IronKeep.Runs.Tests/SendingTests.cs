using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Tests;

/// <summary>Copies that are made where the data is and arrive in a store elsewhere: the same copies, sent once, whatever breaks.</summary>
public sealed class SendingTests : IDisposable
{
    private readonly Keep keep = new();
    private int runs;

    public void Dispose()
    {
        keep.Dispose();
        Directory.Delete(elsewhere, true);
    }

    // Not beside the source: the folders above it are in a copy too.
    private readonly string elsewhere = Directory.CreateTempSubdirectory("memory-").FullName;
    private string Folder => Path.Combine(elsewhere, "job");

    /// <summary>Makes a copy over a link, with what the machine remembers.</summary>
    private async Task<CopyRecord> SendAsync(NearLink link, int worthIt = 10_000)
    {
        using var memory = new SendingMemory(Folder, worthIt);
        var order = new BackupOrder($"sent-{++runs}", "job", "curlew", [keep.Source], [], memory.Newest);
        try
        {
            return await new BackupRun(new SendingTarget(link, memory, memory.Newest), order, TimeProvider.System, (_, _) => { }).RunAsync(
                default
            );
        }
        finally
        {
            link.Dispose();
        }
    }

    private CopyRecord Stored(CopyRecord sent) => keep.Store.ReadRecord(sent.Id)!;

    private void Tree(int seed, int files = 300)
    {
        var random = new Random(seed);
        for (var i = 0; i < files; i++)
        {
            var content = new byte[
                random.Next(4) switch
                {
                    0 => 0,
                    1 => random.Next(200),
                    2 => random.Next(20_000),
                    _ => random.Next(400_000),
                }
            ];
            if (random.Next(2) == 0)
                random.NextBytes(content);
            keep.Write($"{random.Next(5)}/{random.Next(6)}/file-{i}", content);
        }
        Listing.Shell("ln -sf nowhere 0/link; mkfifo 0/pipe 2>/dev/null; chmod 640 1/*/file* 2>/dev/null; true", keep.Source);
    }

    [Fact]
    public async Task A_copy_that_was_sent_is_the_copy_that_would_have_been_made_beside_the_store()
    {
        Tree(1);
        keep.Write("big", Enumerable.Range(0, 70_000_000).Select(i => (byte)(i >> 8 ^ i * 7)).ToArray());
        Listing.Shell("truncate -s 3M holes; printf end >> holes", keep.Source);
        using var link = new NearLink(keep.Store);
        var sent = await SendAsync(link);
        var stored = Stored(sent);
        Assert.Equal((sent.Items, sent.Bytes, sent.NewBytes, "curlew"), (stored.Items, stored.Bytes, stored.NewBytes, stored.Machine));
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(stored).Folder));
        // Made beside the store everything is there, and the trees are one and the same but for the lists of large files.
        var beside = await keep.BackUp();
        Assert.True(beside.NewBytes < 200_000, $"{beside.NewBytes}");
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(beside).Folder));
        // Its identities are the store's own; those that the machine knows are none there.
        Assert.NotEqual(stored.Root, sent.Root);
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
    }

    [Fact]
    public async Task What_did_not_change_does_not_travel_and_of_a_large_file_only_the_change_does()
    {
        Tree(2);
        var big = new byte[90_000_000];
        new Random(5).NextBytes(big);
        keep.Write("big", big);
        using var first = new NearLink(keep.Store);
        await SendAsync(first);
        Assert.True(first.SentBytes > 90_000_000);
        using var second = new NearLink(keep.Store);
        var same = await SendAsync(second);
        // But for the folders above, which are not this test's alone.
        Assert.DoesNotContain(second.Chunks(), c => c.Kind == WireKind.Content);
        Assert.InRange(second.SentBytes, 0, 5000);
        Assert.Equal(0, second.Asked);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(same)).Folder));
        big[45_000_000] ^= 1;
        keep.Write("big", big);
        keep.Write("3/3/new", "a new file");
        using var third = new NearLink(keep.Store);
        var changed = await SendAsync(third);
        Assert.InRange(third.SentBytes, 1, 2_500_000);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(changed)).Folder));
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
    }

    [Fact]
    public async Task Whatever_breaks_the_next_run_sends_what_did_not_arrive_and_nothing_twice()
    {
        Tree(3, 600);
        var arrived = new HashSet<ChunkId>();
        var twice = 0;
        CopyRecord? made = null;
        for (var breaks = 1; made is null; breaks += 3)
        {
            using var link = new NearLink(keep.Store) { BreaksAfter = breaks };
            try
            {
                made = await SendAsync(link);
            }
            catch (IOException)
            {
                Assert.Empty(keep.Store.ReadContents().Copies);
            }
            twice += link.Chunks().Count(c => c.Kind == WireKind.Content && !arrived.Add(c.Chunk.Print));
            keep.Reopen();
        }
        Assert.True(runs > 3, $"{runs} runs");
        Assert.Equal(0, twice);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(made)).Folder));
    }

    [Fact]
    public async Task What_the_machine_remembers_may_be_lost_cut_or_damaged_anywhere()
    {
        Tree(4, 80);
        using (var link = new NearLink(keep.Store))
            await SendAsync(link);
        var random = new Random(8);
        for (var round = 0; round < 30; round++)
        {
            var files = Directory.GetFiles(Folder);
            var hurt = files[random.Next(files.Length)];
            var bytes = File.ReadAllBytes(hurt);
            if (round == 0)
                Directory.Delete(Folder, true);
            else if (round % 3 == 0)
                File.WriteAllBytes(hurt, bytes[..random.Next(bytes.Length)]);
            else if (bytes.Length > 0)
            {
                bytes[random.Next(bytes.Length)] ^= (byte)(1 << random.Next(8));
                File.WriteAllBytes(hurt, bytes);
            }
            keep.Write($"changed-{round % 4}", $"round {round}");
            CopyRecord? made = null;
            for (var tries = 0; made is null; tries++)
            {
                using var link = new NearLink(keep.Store);
                try
                {
                    made = await SendAsync(link);
                }
                catch (ArrivalRefusedException e)
                {
                    // It counted on what it does not know: it forgets everything, as the agent does.
                    Assert.True(tries == 0, e.Message);
                    Directory.Delete(Folder, true);
                }
            }
            Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(made)).Folder));
        }
    }

    [Fact]
    public async Task What_left_the_store_is_sent_again()
    {
        keep.Write("here", new string('h', 300_000));
        var random = new Random(4);
        var content = new byte[600_000];
        random.NextBytes(content);
        keep.Write("then", content);
        using (var link = new NearLink(keep.Store))
            await SendAsync(link);
        File.Delete(keep.Source + "/then");
        using (var link = new NearLink(keep.Store))
            await SendAsync(link);
        keep.Store.MoveToBin("sent-1", DateTimeOffset.UtcNow.AddDays(-1));
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        keep.Write("then", content);
        using var last = new NearLink(keep.Store);
        var made = await SendAsync(last);
        Assert.Equal(600_000, last.Chunks().Where(c => c.Kind == WireKind.Content).Sum(c => c.Chunk.Length));
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(made)).Folder));
        // All copies gone: everything is asked for once, found absent, and sent.
        foreach (var copy in keep.Store.ReadContents().Copies)
            keep.Store.MoveToBin(copy.Record.Id, DateTimeOffset.UtcNow.AddDays(-1));
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
        using var anew = new NearLink(keep.Store);
        made = await SendAsync(anew);
        Assert.True(anew.Asked > 0);
        Assert.Equal(900_000, anew.Chunks().Where(c => c.Kind == WireKind.Content).Sum(c => c.Chunk.Length));
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(made)).Folder));
    }

    [Fact]
    public async Task What_is_in_doubt_is_asked_for_once()
    {
        Tree(9, 50);
        using (var link = new NearLink(keep.Store))
            await SendAsync(link);
        // Its only copy goes to the bin and stays in the store: what it held is asked for, and what is not used is not asked for again.
        keep.Store.MoveToBin("sent-1", DateTimeOffset.UtcNow);
        Directory.Delete(keep.Source, true);
        keep.Write("another", "file");
        using var asks = new NearLink(keep.Store);
        await SendAsync(asks);
        Assert.True(asks.Asked > 0);
        using var last = new NearLink(keep.Store);
        await SendAsync(last);
        Assert.Equal(0, last.Asked);
    }

    /// <summary>Every bit of a record and of a listing counts: what is not what was written is absent.</summary>
    [Fact]
    public void What_is_remembered_is_proved()
    {
        var (chunks, listings) = (elsewhere + "/chunks", elsewhere + "/listings");
        var content = new byte[300];
        new Random(1).NextBytes(content);
        Span<byte> hash = stackalloc byte[Hashes.Size];
        Hashes.Plain(HashKind.Blake3, content, hash);
        var print = ChunkId.Read(hash);
        using (var sent = new SentChunks(chunks))
        using (var kept = new KeptListings(listings))
        {
            sent.Add(print, new ChunkId(1, 2, 3, 4), 300, 1);
            kept.Add(print, content);
        }
        var (record, listing) = (File.ReadAllBytes(chunks), File.ReadAllBytes(listings));
        for (var bit = 0; bit < record.Length * 8; bit++)
        {
            var bent = record.ToArray();
            bent[bit / 8] ^= (byte)(1 << (bit % 8));
            File.WriteAllBytes(chunks, bent);
            using var sent = new SentChunks(chunks);
            Assert.Equal(0, sent.Count);
        }
        using var zstd = new Stores.Packs.Zstd();
        for (var at = 40; at < listing.Length; at++)
        {
            var bent = listing.ToArray();
            bent[at] ^= 4;
            File.WriteAllBytes(listings, bent);
            using var kept = new KeptListings(listings);
            Assert.Throws<Stores.StoreDamageException>(() => kept.Read(print, zstd));
            // Kept anew, it is whole again.
            kept.Add(print, content);
            Assert.Equal(content, kept.Read(print, zstd));
        }
    }

    [Fact]
    public async Task Two_machines_share_chunks_in_the_store_and_neither_learns_of_it()
    {
        Tree(6, 60);
        using (var link = new NearLink(keep.Store))
            await SendAsync(link);
        Directory.Delete(Folder, true);
        using var other = new NearLink(keep.Store, "plover");
        var sent = await SendAsync(other);
        // All of it travelled, nothing of its content was new; the folders above are not this test's alone.
        Assert.Equal(sent.Items > 0, other.Chunks().Exists(c => c.Kind == WireKind.Content));
        Assert.InRange(sent.NewBytes!.Value, 0, 5000);
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(sent)).Folder));
    }

    [Fact]
    public async Task What_the_machine_remembers_does_not_grow_with_its_runs()
    {
        long largest = 0;
        for (var round = 0; round < 25; round++)
        {
            for (var i = 0; i < 20; i++)
                keep.Write($"file-{i}", $"{round} {i}");
            using var link = new NearLink(keep.Store);
            var made = await SendAsync(link, worthIt: 50);
            if (round > 1)
                keep.Store.MoveToBin($"sent-{round - 1}", DateTimeOffset.UtcNow.AddDays(-1));
            Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(Stored(made)).Folder));
            largest = Math.Max(largest, Directory.GetFiles(Folder, "chunks.*").Sum(f => new FileInfo(f).Length));
        }
        Assert.InRange(largest, 1, 150 * 72);
        Assert.Equal(4, Directory.GetFiles(Folder).Length);
    }

    /// <summary>
    /// Several machines send at once over lines that break, somebody writes beside the store, and what expired is reclaimed meanwhile:
    /// every copy that was made restores exactly.
    /// </summary>
    [Fact]
    public async Task Many_that_send_at_once_while_others_write_and_reclaim_get_copies_that_restore()
    {
        using var over = new CancellationTokenSource();
        var reclaiming = Task.Run(() =>
        {
            while (!over.IsCancellationRequested)
                try
                {
                    Reclaim.Run(keep.Store, DateTimeOffset.UtcNow);
                }
                catch (PlaceException e) when (e.Fault == PlaceFault.InUse)
                {
                    // Small packs are being joined.
                }
        });
        var made = (await Task.WhenAll(Enumerable.Range(0, 3).Select(n => Task.Run(() => SenderAsync(n))))).SelectMany(m => m).ToList();
        await over.CancelAsync();
        await reclaiming;
        Assert.Equal(6, made.Count);
        foreach (var (id, source, files) in made)
        {
            var (folder, report) = keep.Restore(keep.Store.ReadRecord(id)!);
            Assert.Empty(report.Problems);
            // Its own source, below where the whole lies.
            var back = folder[..^keep.Source.Length] + source;
            Assert.Equal(files, Directory.GetFiles(back).ToDictionary(f => Path.GetFileName(f)!, File.ReadAllText));
        }
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
    }

    /// <summary>The last two copies of one machine with what they hold; those before go to the bin.</summary>
    private async Task<List<(string Id, string Source, Dictionary<string, string> Files)>> SenderAsync(int number)
    {
        var random = new Random(number);
        var source = Directory.CreateDirectory(Path.Combine(keep.Root, $"machine-{number}")).FullName;
        var folder = Path.Combine(elsewhere, $"of-{number}");
        var kept = new List<(string Id, string Source, Dictionary<string, string> Files)>();
        for (var round = 0; round < 12; round++)
        {
            // Much of it is the same on all machines.
            for (var i = 0; i < 4; i++)
                File.WriteAllText(
                    $"{source}/{random.Next(8)}",
                    $"{random.Next(30)} {new string((char)('a' + random.Next(4)), random.Next(60_000))}"
                );
            var breaks = random.Next(3) == 0 ? random.Next(2) : int.MaxValue;
            var made = await OnceAsync(inDoubt: false) ?? await OnceAsync(inDoubt: true);
            if (made is null)
                continue;
            kept.Add((made.Id, source, Directory.GetFiles(source).ToDictionary(f => Path.GetFileName(f)!, File.ReadAllText)));
            if (kept.Count <= 2)
                continue;
            keep.Store.MoveToBin(kept[0].Id, DateTimeOffset.UtcNow.AddDays(-1));
            kept.RemoveAt(0);

            async Task<CopyRecord?> OnceAsync(bool inDoubt)
            {
                using var link = new NearLink(keep.Store, $"machine-{number}") { BreaksAfter = breaks };
                using var memory = new SendingMemory(folder, 20);
                var order = new BackupOrder($"{number}-{round}", $"job-{number}", "any", [source], [], memory.Newest);
                try
                {
                    return await new BackupRun(
                        new SendingTarget(link, memory, memory.Newest, inDoubt),
                        order,
                        TimeProvider.System,
                        (_, _) => { }
                    ).RunAsync(default);
                }
                catch (Exception e) when (e is IOException || (e is ArrivalRefusedException { Fault: ArrivalFault.Absent } && !inDoubt))
                {
                    return null;
                }
            }
        }
        return kept;
    }
}
