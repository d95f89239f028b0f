using CsCheck;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Tests;

public sealed class FormatTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("store-").FullName;

    private static readonly StoreKeys Keys = new(HashKind.Blake3, true, new byte[32]);

    public void Dispose() => Directory.Delete(folder, true);

    [Fact]
    public void Cuts_keep_their_bounds_and_survive_an_insertion()
    {
        Gen.Select(Gen.Int, Gen.Int[0, 6_000_000], Gen.Int[1, 5000])
            .Sample(
                (seed, size, inserted) =>
                {
                    var random = new Random(seed);
                    var content = new byte[size];
                    random.NextBytes(content);
                    var cuts = Cut(content);
                    Assert.Equal(size, cuts.Sum(c => c.Length));
                    Assert.All(cuts.SkipLast(1), c => Assert.InRange(c.Length, ContentCutter.Least, ContentCutter.Most));
                    if (size < 3_000_000)
                        return;
                    var at = random.Next(size);
                    var more = new byte[inserted];
                    random.NextBytes(more);
                    var before = cuts.Select(c => Keys.IdOf(c)).ToHashSet();
                    var changed = Cut([.. content[..at], .. more, .. content[at..]])
                        .Where(c => !before.Contains(Keys.IdOf(c)))
                        .Sum(c => c.Length);
                    Assert.True(changed <= 4 * ContentCutter.Most, $"seed {seed}: {changed} bytes are new after {inserted} were inserted");
                },
                iter: 60
            );
    }

    [Fact]
    public void A_listing_comes_back_as_it_was()
    {
        GenEntries.Sample(entries =>
        {
            var back = FolderListing.Read(Listing(entries));
            var sorted = entries.OrderBy(e => e.Name, ByteOrder.Instance).ToList();
            return back.Count == sorted.Count && back.Zip(sorted).All(p => Same(p.First, p.Second));
        });
    }

    [Fact]
    public void A_damaged_listing_is_refused_and_never_read_wildly()
    {
        Gen.Select(GenEntries, Gen.Int, Gen.Byte.Array[0, 400])
            .Sample(
                (entries, seed, noise) =>
                {
                    var random = new Random(seed);
                    var bytes = seed % 2 == 0 ? [FolderListing.Version, .. noise] : Listing(entries);
                    for (var i = 0; i < 3 && bytes.Length > 1; i++)
                        bytes[random.Next(bytes.Length)] = (byte)random.Next(256);
                    try
                    {
                        Assert.All(FolderListing.Read(bytes.AsSpan(0, random.Next(bytes.Length + 1))), e =>
                            Assert.True(EntryRecord.IsSafeName(e.Name))
                        );
                    }
                    catch (StoreDamageException)
                    {
                        // The only way out of bad bytes.
                    }
                },
                iter: 5000
            );
    }

    [Theory]
    [InlineData("..")]
    [InlineData(".")]
    [InlineData("a/b")]
    [InlineData("")]
    [InlineData("a\0b")]
    public void A_name_that_leads_elsewhere_is_not_taken_from_a_listing(string name)
    {
        var entry = Entry(EntryKind.File, System.Text.Encoding.UTF8.GetBytes(name));
        Assert.Throws<StoreDamageException>(() => FolderListing.Read(Listing([entry])));
    }

    [Fact]
    public void Names_of_any_bytes_are_shown_and_read_back()
    {
        Gen.Byte.Array[1, 40]
            .Sample(
                name => NameText.Read(NameText.Show(name))!.AsSpan().SequenceEqual(name) && !NameText.Show(name).Any(char.IsControl),
                iter: 5000
            );
        Assert.Equal("café ☂", NameText.Show("café ☂"u8));
        Assert.Equal("a\\\\b\\xff\\x0a", NameText.Show([(byte)'a', (byte)'\\', (byte)'b', 0xff, 10]));
        Assert.Null(NameText.Read("half\\x4"));
        Assert.Null(NameText.Read("\ud800"));
    }

    [Fact]
    public void Files_of_noise_in_a_store_are_named_and_do_no_harm()
    {
        var place = new FolderPlace(folder);
        PooledStore.Create(place, StoreMaking.Open, DateTimeOffset.UnixEpoch);
        var random = new Random(11);
        for (var i = 0; i < 40; i++)
        {
            var noise = new byte[random.Next(0, 4000)];
            random.NextBytes(noise);
            // A proper ending makes the reader go further into the noise.
            if (i % 2 == 0 && noise.Length > 60)
                "IKPACKED"u8.CopyTo(noise.AsSpan(noise.Length - 8));
            place.Write($"packs/{i:x2}/{i:x2}{i:x62}.pack", noise);
            place.Write($"copies/noise-{i}.copy", noise);
        }
        using var store = PooledStore.Open(place);
        var report = StoreCheck.Run(store);
        Assert.Equal(40, report.Damage.Length);
        Assert.Equal(40, report.Copies.Length);
        // Which chunks the unreadable records need is not known, so nothing may be reclaimed.
        Assert.Throws<StoreDamageException>(() => Reclaim.Run(store, DateTimeOffset.MaxValue));
    }

    [Fact]
    public void An_unknown_feature_is_refused_by_its_name()
    {
        var place = new FolderPlace(folder);
        var head = new StoreHead("ironkeep-pooled", 2, "x", DateTimeOffset.UnixEpoch, "sha-256", "none", ["folded-ledger"], new byte[32]);
        place.Write("store.head", head.ToBytes());
        Assert.Contains("folded-ledger", Assert.Throws<StoreDamageException>(() => PooledStore.Open(place)).Message);
    }

    [Fact]
    public void A_folder_with_other_things_is_not_taken_for_a_store()
    {
        File.WriteAllText(folder + "/letter", "");
        Assert.Contains(
            "not empty",
            Assert
                .Throws<PlaceException>(() => PooledStore.Create(new FolderPlace(folder), StoreMaking.Open, DateTimeOffset.UnixEpoch))
                .Message
        );
    }

    private static List<byte[]> Cut(byte[] content)
    {
        var chunks = new List<byte[]>();
        for (var at = 0; at < content.Length; at += chunks[^1].Length)
            chunks.Add(content.AsSpan(at, ContentCutter.NextCut(content.AsSpan(at))).ToArray());
        return chunks;
    }

    private static byte[] Listing(IEnumerable<TreeEntry> entries)
    {
        var buffer = new RecordBuffer();
        buffer.Append([FolderListing.Version]);
        foreach (var entry in entries.OrderBy(e => e.Name, ByteOrder.Instance))
            EntryRecord.Write(buffer, entry);
        return buffer.Written.ToArray();
    }

    private static TreeEntry Entry(EntryKind kind, byte[] name) =>
        new(kind, name, 0, 0, 0, 1, default, default, 0, 0, 0, ContentRef.Empty, 0, "", "", 0, [], [], null);

    private static readonly Gen<TreeEntry> GenEntry = Gen.Select(
            Gen.Int[1, 7],
            Gen.Byte[1, 255].Array[1, 60],
            Gen.UInt[0, 0xFFF],
            Gen.Long,
            Gen.ULong,
            Gen.Char['a', 'z'].Array[0, 12].Select(c => new string(c)),
            Gen.Byte.Array[0, 90],
            Gen.ULong.Array[0, 5]
        )
        .Select(
            (kind, name, mode, time, inode, owner, target, ids) =>
                new TreeEntry(
                    (EntryKind)kind,
                    [.. name.Select(b => b == (byte)'/' ? (byte)'_' : b)],
                    mode,
                    mode * 7,
                    uint.MaxValue,
                    (uint)inode,
                    new FileTime(time, 999_999_999),
                    new FileTime(-time, 1),
                    inode,
                    inode >> 3,
                    long.MaxValue,
                    new ContentRef(ids.Length % 3, [.. ids.Select(i => new ChunkId(i, 1, 2, i))]),
                    3,
                    owner,
                    owner,
                    inode >> 9,
                    target,
                    [.. ids.Select(i => new NamedAttribute(target, BitConverter.GetBytes(i)))],
                    ids.Length == 0 ? null : [.. ids.Skip(1).Select((_, i) => new Extent(i * 10, 5))]
                )
        );

    private static readonly Gen<List<TreeEntry>> GenEntries = GenEntry
        .List[0, 12]
        .Select(l => l.DistinctBy(e => e.Name, ByteOrder.Instance).Where(e => EntryRecord.IsSafeName(e.Name)).ToList());

    private static bool Same(TreeEntry a, TreeEntry b) =>
        a == b with { Name = a.Name, LinkTarget = a.LinkTarget, Attributes = a.Attributes, Extents = a.Extents }
        && a.Name.SequenceEqual(b.Name)
        && a.LinkTarget.SequenceEqual(b.LinkTarget)
        && a.Extents.HasValue == b.Extents.HasValue
        && (a.Extents ?? []).SequenceEqual(b.Extents ?? [])
        && a.Attributes.Length == b.Attributes.Length
        && a.Attributes.Zip(b.Attributes)
            .All(p => p.First.Name.SequenceEqual(p.Second.Name) && p.First.Value.SequenceEqual(p.Second.Value));
}
