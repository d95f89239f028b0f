using System.Buffers.Binary;
using System.Globalization;
using IronKeep.Stores;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A real store, one of whose files is made to lie in some way, hundreds of times: what opens, checks, reclaims and restores says so in
/// its own words, or gives back exactly what was taken. IRONKEEP_FUZZ sets the number of rounds for a longer night.
/// </summary>
[Collection("alone")]
public sealed class FuzzTests : IDisposable
{
    private const long MostAllocated = 400L * 1024 * 1024;
    private static readonly int Rounds = int.Parse(
        Environment.GetEnvironmentVariable("IRONKEEP_FUZZ") ?? "150",
        CultureInfo.InvariantCulture
    );
    private Keep? keep;

    public void Dispose() => keep?.Dispose();

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Whatever_a_file_of_the_store_says_nothing_breaks_and_nothing_wrong_is_restored(bool encrypted)
    {
        keep = encrypted ? new Keep() : new Keep(StoreMaking.Open);
        var random = new Random(2);
        foreach (var (name, size) in new[] { ("a/one", 90_000), ("a/two", 300_000), ("b/small", 17), ("b/c/empty", 0), ("text", 5000) })
        {
            var content = new byte[size];
            if (name == "text")
                Array.Fill(content, (byte)'t');
            else
                random.NextBytes(content);
            keep.Write(name, content);
        }
        var first = await keep.BackUp();
        keep.Write("b/later", "the godwits left");
        var taken = new Dictionary<string, byte[]>();
        foreach (var file in Directory.EnumerateFiles(keep.Source, "*", SearchOption.AllDirectories))
            taken[Path.GetRelativePath(keep.Source, file)] = File.ReadAllBytes(file);
        var copies = new[] { first, await keep.BackUp(first) };
        keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow);
        LeavingList.Of([new string('0', 64)]).Write(keep.Place);
        keep.Reopen();
        var files = Directory
            .EnumerateFiles(keep.StoreFolder, "*", SearchOption.AllDirectories)
            .ToDictionary(f => Path.GetRelativePath(keep.StoreFolder, f), File.ReadAllBytes);
        var seed = Environment.TickCount;
        for (var round = 0; round < Rounds; round++)
        {
            random = new Random(seed + round);
            var victim = files.Keys.Order(StringComparer.Ordinal).ElementAt(random.Next(files.Count));
            var (name, bytes, how) = Lie(victim, files[victim], encrypted, random);
            Lay(files, victim, name, bytes);
            var before = GC.GetTotalAllocatedBytes();
            try
            {
                Use(copies, taken, $"seed {seed + round}: {victim}, {how}");
            }
            catch (Exception e) when (e is not Xunit.Sdk.XunitException)
            {
                Assert.True(e is StoreDamageException or PlaceException or StoreKeyException, $"seed {seed + round}: {victim}, {how}: {e}");
            }
            finally
            {
                keep.Reopen();
            }
            Assert.InRange(GC.GetTotalAllocatedBytes() - before, 0, MostAllocated);
        }
    }

    private void Use(CopyRecord[] copies, Dictionary<string, byte[]> taken, string what)
    {
        foreach (var copy in copies)
        {
            (string Folder, IronKeep.Stores.Restores.RestoreReport Report) back;
            try
            {
                if (keep!.Store.ReadRecord(copy.Id) is not { } record)
                    continue;
                back = keep.Restore(record);
            }
            catch (StoreDamageException)
            {
                // Told; the other copy may still be whole.
                continue;
            }
            foreach (
                var file in Directory.Exists(back.Folder) ? Directory.EnumerateFiles(back.Folder, "*", SearchOption.AllDirectories) : []
            )
            {
                var path = Path.GetRelativePath(back.Folder, file);
                Assert.True(
                    taken.TryGetValue(path, out var content) && File.ReadAllBytes(file).AsSpan().SequenceEqual(content),
                    $"{what}: {path} came back as something else"
                );
            }
            if (back.Report.Problems.Count == 0)
                Assert.True(back.Report.Files >= taken.Count - 1, $"{what}: files are missing and nothing was said");
        }
        keep!.Store.KeyWraps();
        StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep });
        Reclaim.Run(keep.Store, DateTimeOffset.UtcNow.AddDays(-1));
        StoreCheck.Run(keep.Store, CheckScope.Everything with { OnlyLooks = true });
    }

    /// <summary>A file that is not what was written; some of the lies are told consistently.</summary>
    private static (string Name, byte[] Bytes, string How) Lie(string name, byte[] was, bool encrypted, Random random)
    {
        var bytes = was.ToArray();
        // Near the ends are the numbers that others hang on.
        int Place(int width) =>
            Math.Max(
                0,
                random.Next(3) switch
                {
                    0 => random.Next(Math.Min(120, bytes.Length)),
                    1 => bytes.Length - 1 - random.Next(Math.Min(300, bytes.Length)),
                    _ => random.Next(bytes.Length),
                }
                    - width
                    + 1
            );
        switch (random.Next(name.EndsWith(".pack", StringComparison.Ordinal) && !encrypted ? 9 : 7))
        {
            case 0:
                bytes[Place(1)] ^= (byte)(1 << random.Next(8));
                return (name, bytes, "a bit turned");
            case 1:
                return (name, bytes[..random.Next(bytes.Length)], "cut short");
            case 2:
                return (name, [.. bytes, .. Noise(random, random.Next(1, 5000))], "made longer");
            case 3:
                if (bytes.Length < 8)
                    return (name, [], "emptied");
                BinaryPrimitives.WriteUInt64LittleEndian(bytes.AsSpan(Place(8)), Extremes[random.Next(Extremes.Length)]);
                return (name, bytes, "a number made extreme");
            case 4:
                Noise(random, Math.Min(40, bytes.Length)).CopyTo(bytes, Place(Math.Min(40, bytes.Length)));
                return (name, bytes, "noise put in");
            case 5:
                return (name, Noise(random, random.Next(9000)), "all noise");
            case 6:
                var (from, to) = (random.Next(bytes.Length), random.Next(bytes.Length));
                return (name, [.. bytes[..Math.Max(from, to)], .. bytes[Math.Min(from, to)..]], "a part twice");
            default:
                // A table or tail that lies, with its check and the pack's name made to fit.
                if (bytes.Length < PackFormat.TailSize + 60)
                    return (name, [], "emptied");
                var tail = bytes.Length - PackFormat.TailSize;
                var table = (int)Math.Clamp(BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(tail)), 0, tail);
                var at =
                    random.Next(4) == 0 ? tail + random.Next(20) : Math.Min(tail - 4, table + random.Next(Math.Max(1, tail - table - 4)));
                BinaryPrimitives.WriteUInt32LittleEndian(
                    bytes.AsSpan(at),
                    random.Next(2) == 0 ? (uint)Extremes[random.Next(Extremes.Length)] : (uint)random.Next(70_000)
                );
                Hashes.Plain(HashKind.Blake3, bytes.AsSpan(table, tail - table), bytes.AsSpan(tail + 24, Hashes.Size));
                Span<byte> hash = stackalloc byte[Hashes.Size];
                Hashes.Plain(HashKind.Blake3, bytes, hash);
                return (PackNames.FileOf(Convert.ToHexStringLower(hash)), bytes, $"a consistent lie at {at} of {bytes.Length}");
        }
    }

    private static readonly ulong[] Extremes =
    [
        0,
        1,
        ulong.MaxValue,
        long.MaxValue,
        int.MaxValue,
        uint.MaxValue,
        0x8000_0000_8000_0000,
        0x0100_0000_0100_0000,
        0x7FFF_FFF0_0000_0001,
    ];

    private static byte[] Noise(Random random, int length)
    {
        var noise = new byte[length];
        random.NextBytes(noise);
        return noise;
    }

    private void Lay(Dictionary<string, byte[]> files, string victim, string name, byte[] bytes)
    {
        foreach (var file in Directory.EnumerateFiles(keep!.StoreFolder, "*", SearchOption.AllDirectories))
            File.Delete(file);
        foreach (var (path, content) in files.Where(f => f.Key != victim).Append(new(name, bytes)))
        {
            var full = Path.Combine(keep.StoreFolder, path);
            Directory.CreateDirectory(Path.GetDirectoryName(full)!);
            File.WriteAllBytes(full, content);
        }
    }
}

/// <summary>Tests that measure the whole process, and run while no other does.</summary>
[CollectionDefinition("alone", DisableParallelization = true)]
public sealed class Alone;
