using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

/// <summary>A machine that lies about what it sends: an error each, nothing that counts, and nothing of another machine's.</summary>
public sealed class ArrivalTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    private static ChunkId Print(ReadOnlySpan<byte> content)
    {
        Span<byte> print = stackalloc byte[Hashes.Size];
        Hashes.Plain(HashKind.Blake3, content, print);
        return ChunkId.Read(print);
    }

    private static byte[] Batch(WireKind kind, params byte[][] chunks) => Batch(kind, c => Print(c), chunks);

    private static byte[] Batch(WireKind kind, Func<byte[], ChunkId> label, params byte[][] chunks)
    {
        var raw = chunks.SelectMany(c => c).ToArray();
        var bytes = new byte[4 + WireBatch.SizeOf(chunks.Length, raw.Length)];
        WireBatch.Magic.CopyTo(bytes);
        WireBatch.Write(
            bytes.AsSpan(4),
            kind,
            false,
            raw.Length,
            [.. chunks.Select(c => new WireChunk(Print(c), label(c), c.Length))],
            raw
        );
        return bytes;
    }

    private static ChunkId Told(byte[] answer, int chunk = 0) =>
        ChunkId.Read(answer.AsSpan(ArrivingCopy.AnswerHead + chunk * ChunkId.Size));

    private static byte[] Listing(params TreeEntry[] entries)
    {
        var buffer = new RecordBuffer();
        buffer.Append([FolderListing.Version]);
        foreach (var entry in entries)
            EntryRecord.Write(buffer, entry);
        return buffer.Written.ToArray();
    }

    private static TreeEntry Entry(string name, EntryKind kind, params ChunkId[] content) =>
        new(
            kind,
            System.Text.Encoding.UTF8.GetBytes(name),
            0b110_100_100,
            0,
            0,
            1,
            default,
            default,
            1,
            1,
            kind == EntryKind.File ? 5 : 0,
            new ContentRef(0, [.. content]),
            0,
            "",
            "",
            0,
            [],
            [],
            null
        );

    private static CopyRecord Record(params ChunkId[] root) =>
        new(
            "lie",
            "job",
            "curlew",
            DateTimeOffset.UnixEpoch,
            DateTimeOffset.UnixEpoch,
            ["/x"],
            1,
            5,
            0,
            0,
            [.. root.Select(r => r.ToString())]
        );

    private ArrivingCopy Begin(string machine = "curlew") => ArrivingCopy.Begin(keep.Store, machine, 1);

    private void Refused(ArrivalFault fault, Action act)
    {
        var e = Assert.Throws<ArrivalRefusedException>(act);
        Assert.Equal(fault, e.Fault);
        Assert.DoesNotContain(keep.Store.ReadContents().Copies, c => c.Record.Id == "lie");
    }

    [Fact]
    public void Only_what_a_machine_was_told_itself_can_be_named()
    {
        using var plover = Begin("plover");
        var secret = plover.Take(Batch(WireKind.Content, "secret of plover"u8.ToArray()));
        var its = Told(secret);
        var inStore = new SealedIds(keep.Store.Keys, "plover").Open(its);
        var itsListing = Listing(Entry("s", EntryKind.File, its));
        var itsRoot = Told(plover.Take(Batch(WireKind.Listing, itsListing)));
        plover.Commit(Record(itsRoot) with { Id = "plovers", Machine = "plover" }, null, default);

        foreach (var name in new[] { its, inStore, Print("secret of plover"u8), itsRoot, Print(itsListing), default })
        {
            using var liar = Begin();
            Refused(ArrivalFault.Absent, () => liar.Take(Batch(WireKind.Listing, Listing(Entry("s", EntryKind.File, name)))));
            Refused(ArrivalFault.Absent, () => liar.Take(Batch(WireKind.Listing, Listing(Entry("s", EntryKind.Folder, name)))));
            Refused(ArrivalFault.Absent, () => liar.Take(Batch(WireKind.List, Bytes(name))));
            Assert.Equal([0], liar.Has(Bytes(name)));
            Refused(ArrivalFault.Absent, () => liar.Commit(Record(name), null, default));
            // What was refused is over.
            Refused(ArrivalFault.Wrong, () => liar.Has(Bytes(name)));
        }
        using var curlew = Begin();
        // Whether it is there is not to be learned by sending it either: what is told is the machine's own.
        var own = Told(curlew.Take(Batch(WireKind.Content, "secret of plover"u8.ToArray())));
        Assert.NotEqual(its, own);
        Assert.Equal([1], curlew.Has(Bytes(own)));
        using (var again = Begin("plover"))
            Assert.Equal([0, 1], again.Has([.. Bytes(own), .. Bytes(its)]));
        curlew.Commit(Record(Told(curlew.Take(Batch(WireKind.Listing, Listing(Entry("s", EntryKind.File, own)))))), null, default);
        Assert.Equal(["lie", "plovers"], keep.Store.ReadContents().Copies.Select(c => c.Record.Id).Order());
    }

    /// <summary>Of a block that the store has in part only the rest is stored.</summary>
    [Fact]
    public void What_is_there_already_is_not_stored_again()
    {
        using (var first = Begin())
        {
            first.Take(Batch(WireKind.Content, "one"u8.ToArray(), "two"u8.ToArray()));
            Assert.Equal(6, first.NewBytes);
        }
        using (var second = Begin("plover"))
        {
            second.Take(Batch(WireKind.Content, "two"u8.ToArray(), "three"u8.ToArray()));
            Assert.Equal(5, second.NewBytes);
        }
        var stored = new List<ChunkId>();
        foreach (var (pack, _, _) in keep.Store.Index.Staying)
        foreach (var id in keep.Store.Index.TableOf(pack)!.Ids)
            stored.Add(id);
        Assert.Equal(3, stored.Count);
        Assert.Equal(3, stored.Distinct().Count());
    }

    private static byte[] Bytes(ChunkId id)
    {
        var bytes = new byte[ChunkId.Size];
        id.Write(bytes);
        return bytes;
    }

    [Fact]
    public void What_is_not_what_it_says_is_refused()
    {
        using var curlew = Begin();
        var content = Told(curlew.Take(Batch(WireKind.Content, "hello"u8.ToArray())));
        Wrong(Batch(WireKind.Listing, "no listing"u8.ToArray()));
        Wrong(Batch(WireKind.List, "no list"u8.ToArray()));
        foreach (var name in new[] { "..", ".", "", "a/b", "nul\0" })
            Wrong(Batch(WireKind.Listing, Listing(Entry(name, EntryKind.File, content))));
        Wrong(Batch(WireKind.Listing, Listing(Entry("b", EntryKind.File, content), Entry("a", EntryKind.File, content))));
        Wrong(Batch(WireKind.Listing, Listing(Entry("a", EntryKind.File, content), Entry("a", EntryKind.Folder))));
        Wrong(Batch(WireKind.Content, new byte[ContentCutter.Most + 1]));
        // One label for two listings: what was counted on would become another.
        var label = Print("label"u8);
        Wrong(
            Batch(WireKind.Listing, _ => label, Listing(Entry("a", EntryKind.File, content)), Listing(Entry("b", EntryKind.File, content)))
        );
        var root = Told(curlew.Take(Batch(WireKind.Listing, _ => label, Listing(Entry("a", EntryKind.File, content)))));
        // A label holds in its batch alone.
        Refused(ArrivalFault.Absent, () => curlew.Take(Batch(WireKind.Listing, Listing(Entry("x", EntryKind.Folder, label)))));
        Refused(ArrivalFault.Wrong, () => curlew.Has(new byte[33]));
        var bent = Batch(WireKind.Content, "hello again"u8.ToArray());
        bent[^1] ^= 1;
        Wrong(bent);
        // A block that unpacks to more than it says, and to less.
        using var zstd = new Zstd();
        var packed = new byte[4096];
        var length = zstd.Compress(new byte[1_500_000], packed);
        foreach (var said in new[] { 1_000_000, 2_000_000 })
        {
            var bomb = new byte[4 + WireBatch.SizeOf(2, length)];
            WireBatch.Magic.CopyTo(bomb);
            var half = new WireChunk(Print(new byte[said / 2]), default, said / 2);
            WireBatch.Write(bomb.AsSpan(4), WireKind.Content, true, said, [half, half], packed.AsSpan(0, length));
            Wrong(bomb);
        }

        foreach (var lie in new[] { Record(), Record(root) with { Depth = 9 }, Record(root) with { Items = -1 } })
            Refused(ArrivalFault.Wrong, () => curlew.Commit(lie, null, default));
        // Content, or a listing that is said to be a list, is no root.
        Refused(ArrivalFault.Absent, () => curlew.Commit(Record(root) with { Depth = 1 }, null, default));
        Refused(ArrivalFault.Absent, () => curlew.Commit(Record(content), null, default));

        void Wrong(byte[] batch) => Refused(ArrivalFault.Wrong, () => curlew.Take(batch));
    }

    /// <summary>Batches of a real run, bent at random: taken or refused, never anything else, and what is refused says so.</summary>
    [Fact]
    public async Task Whatever_is_done_to_a_batch_it_is_taken_or_refused()
    {
        for (var i = 0; i < 40; i++)
            keep.Write($"{i % 3}/{i}", string.Concat(Enumerable.Repeat($"{i} ", 1 + i * 97)));
        using var link = new NearLink(keep.Store);
        using (var memory = new SendingMemory(keep.Root + "/memory"))
            await new BackupRun(
                new SendingTarget(link, memory, null),
                new BackupOrder("true", "job", "curlew", [keep.Source], [], null),
                TimeProvider.System,
                (_, _) => { }
            ).RunAsync(default);
        link.Dispose();
        using var curlew = Begin();
        var random = new Random(11);
        var (taken, refused) = (0, 0);
        for (var round = 0; round < 3000; round++)
        {
            var batch = link.Batches[random.Next(link.Batches.Count)].ToArray();
            switch (random.Next(5))
            {
                case 0:
                    batch = batch[..random.Next(batch.Length)];
                    break;
                case 1:
                    batch = [.. batch, .. batch[random.Next(batch.Length)..]];
                    break;
                case 2:
                    random.NextBytes(batch.AsSpan(random.Next(batch.Length)));
                    break;
                default:
                    for (var i = random.Next(1, 4); i > 0; i--)
                        batch[random.Next(Math.Min(batch.Length, random.Next(2) == 0 ? 200 : batch.Length))] ^= (byte)(1 << random.Next(8));
                    break;
            }
            try
            {
                curlew.Take(batch);
                taken++;
            }
            catch (ArrivalRefusedException)
            {
                refused++;
            }
        }
        Assert.True(refused > 2000 && taken > 10, $"{taken} taken, {refused} refused");
    }

    /// <summary>
    /// A folder that is taken over must be whole: the machine names a listing of its own of which the content is gone, and its own copy of
    /// before does not vouch for it.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_folder_that_is_not_whole_any_more_cannot_be_taken_over(bool below)
    {
        ChunkId root;
        using (var curlew = Begin())
        {
            var content = new byte[300_000];
            new Random(3).NextBytes(content);
            var file = Told(curlew.Take(Batch(WireKind.Content, content)));
            var folder = Told(curlew.Take(Batch(WireKind.Listing, Listing(Entry("file", EntryKind.File, file)))));
            root = Told(curlew.Take(Batch(WireKind.Listing, Listing(Entry("folder", EntryKind.Folder, folder)))));
            curlew.Commit(Record(root) with { Id = "first" }, null, default);
            if (below)
                root = folder;
        }
        var first = keep.Store.ReadRecord("first");
        foreach (var (pack, _, kind) in keep.Store.Index.Staying.ToList())
            if (kind == PackKind.Content)
                File.Delete($"{keep.StoreFolder}/{PackNames.FileOf(pack)}");
        keep.Reopen();
        using var again = Begin();
        if (below)
        {
            var over = again.Take(Batch(WireKind.Listing, Listing(Entry("elsewhere", EntryKind.Folder, root))));
            Refused(ArrivalFault.Absent, () => again.Commit(Record(Told(over)), first, default));
        }
        else
            Refused(ArrivalFault.Absent, () => again.Commit(Record(root), first, default));
    }

    /// <summary>A few bytes that name a folder within a folder, many times each, are read once each.</summary>
    [Fact]
    public void A_tree_that_names_one_folder_millions_of_times_is_proved_at_once()
    {
        ChunkId told;
        using (var curlew = Begin())
        {
            told = Told(curlew.Take(Batch(WireKind.Listing, Listing(Entry("leaf", EntryKind.Symlink)))));
            for (var depth = 0; depth < 30; depth++)
            {
                var below = told;
                told = Told(
                    curlew.Take(
                        Batch(WireKind.Listing, Listing([.. Enumerable.Range(10, 8).Select(i => Entry($"{i}", EntryKind.Folder, below))]))
                    )
                );
            }
            curlew.Commit(Record(told) with { Id = "bomb" }, null, default);
        }
        using var again = Begin();
        again.Commit(Record(told), null, default);
        Assert.Equal(2, keep.Store.ReadContents().Copies.Length);
    }

    [Theory]
    [InlineData(HashKind.Blake3)]
    [InlineData(HashKind.Sha256)]
    public void Identities_turn_over_and_back_for_one_machine_alone(HashKind hash)
    {
        var keys = new StoreKeys(hash, true, new byte[StoreKeys.Size]);
        var (curlew, plover) = (new SealedIds(keys, "curlew"), new SealedIds(keys, "plover"));
        var seen = new HashSet<ChunkId>();
        var random = new Random(1);
        var bytes = new byte[ChunkId.Size];
        for (var i = 0; i < 200; i++)
        {
            random.NextBytes(bytes);
            var id = ChunkId.Read(bytes);
            Assert.Equal(id, curlew.Open(curlew.Seal(id)));
            Assert.Equal(id, curlew.Seal(curlew.Open(id)));
            Assert.True(seen.Add(curlew.Seal(id)) && seen.Add(plover.Seal(id)) && seen.Add(id) && seen.Add(plover.Open(curlew.Seal(id))));
            // One bit changes both halves.
            bytes[i % ChunkId.Size] ^= 1;
            var near = curlew.Seal(ChunkId.Read(bytes));
            Assert.True(near.A != curlew.Seal(id).A && near.D != curlew.Seal(id).D);
        }
    }
}
