using System.Diagnostics;
using IronKeep.Blake3;

namespace IronKeep.Stores.Tests;

/// <summary>The hash against its published test vectors and against the program b3sum, at each width of vectors this machine has.</summary>
[Collection("blake3")]
public sealed class Blake3Tests : IDisposable
{
    private static readonly byte[] Key = "whats the Elvish word for friend"u8.ToArray();
    private readonly string folder = Directory.CreateTempSubdirectory("hash-").FullName;
    private readonly int degree = Subtree.Degree;

    public void Dispose()
    {
        Subtree.Degree = degree;
        Directory.Delete(folder, true);
    }

    // From the vectors published with the function: the input is 0, 1, … 250, 0, 1, …; plain and keyed.
    [Theory]
    [InlineData(
        0,
        "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262",
        "92b2b75604ed3c761f9d6f62392c8a9227ad0ea3f09573e783f1498a4ed60d26"
    )]
    [InlineData(
        1,
        "2d3adedff11b61f14c886e35afa036736dcd87a74d27b5c1510225d0f592e213",
        "6d7878dfff2f485635d39013278ae14f1454b8c0a3a2d34bc1ab38228a80c95b"
    )]
    [InlineData(
        1024,
        "42214739f095a406f3fc83deb889744ac00df831c10daa55189b5d121c855af7",
        "75c46f6f3d9eb4f55ecaaee480db732e6c2105546f1e675003687c31719c7ba4"
    )]
    [InlineData(
        1025,
        "d00278ae47eb27b34faecf67b4fe263f82d5412916c1ffd97c8cb7fb814b8444",
        "357dc55de0c7e382c900fd6e320acc04146be01db6a8ce7210b7189bd664ea69"
    )]
    [InlineData(
        102400,
        "bc3e3d41a1146b069abffad3c0d44860cf664390afce4d9661f7902e7943e085",
        "1c35d1a5811083fd7119f5d5d1ba027b4d01c0c6c49fb6ff2cf75393ea5db4a7"
    )]
    public void The_published_vectors_come_out(int length, string plain, string keyed)
    {
        var input = new byte[length];
        for (var i = 0; i < length; i++)
            input[i] = (byte)(i % 251);
        foreach (var width in Widths())
        {
            Subtree.Degree = width;
            Assert.Equal(plain, Hash(input, null));
            Assert.Equal(keyed, Hash(input, Key));
        }
    }

    [Fact]
    public unsafe void A_block_without_vectors_is_the_same_as_with_them()
    {
        var random = new Random(5);
        var (chaining, block) = (new uint[8], new uint[16]);
        uint* plain = stackalloc uint[8],
            wide = stackalloc uint[8];
        for (var i = 0; i < 2000; i++)
        {
            random.NextBytes(System.Runtime.InteropServices.MemoryMarshal.AsBytes(chaining.AsSpan()));
            random.NextBytes(System.Runtime.InteropServices.MemoryMarshal.AsBytes(block.AsSpan()));
            var (length, counter, flags) = ((uint)random.Next(65), (ulong)random.NextInt64(), (uint)random.Next(32));
            fixed (uint* key = chaining)
            fixed (uint* words = block)
            {
                Words.Compress(key, (byte*)words, length, counter, flags, wide);
                Words.CompressPlainly(key, words, length, counter, flags, plain);
            }
            Assert.Equal(new ReadOnlySpan<uint>(wide, 8).ToArray(), new ReadOnlySpan<uint>(plain, 8).ToArray());
        }
    }

    [Fact]
    public void Random_lengths_agree_with_b3sum_in_one_piece_and_in_many()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        var lengths = Enumerable
            .Range(0, 40)
            .Select(i => i < 20 ? random.Next(20_000) : random.Next(1_500_000))
            .Concat([1023, 2048, 2049, 8192, 16384, 16385, 65536, 1 << 20])
            .ToList();
        for (var i = 0; i < lengths.Count; i++)
        {
            var content = new byte[lengths[i]];
            random.NextBytes(content);
            File.WriteAllBytes($"{folder}/{i}", content);
        }
        File.WriteAllBytes($"{folder}/key", Key);
        foreach (var key in new[] { null, Key })
        {
            var expected = Shell(
                    key is null
                        ? $"seq 0 {lengths.Count - 1} | xargs b3sum --no-names"
                        : $"for i in $(seq 0 {lengths.Count - 1}); do b3sum --no-names --keyed $i < key; done"
                )
                .Split('\n');
            for (var i = 0; i < lengths.Count; i++)
            {
                var content = File.ReadAllBytes($"{folder}/{i}");
                foreach (var width in Widths())
                {
                    Subtree.Degree = width;
                    Assert.True(expected[i] == Hash(content, key), $"seed {seed}, {lengths[i]} bytes, {width} wide");
                    Assert.True(
                        expected[i] == HashInPieces(content, key, random),
                        $"seed {seed}, {lengths[i]} bytes in pieces, {width} wide"
                    );
                }
            }
        }
    }

    private IEnumerable<int> Widths() => new[] { 1, 4, 8, 16 }.Where(w => w <= degree);

    private static string Hash(byte[] content, byte[]? key)
    {
        var result = new byte[Blake3Hash.Size];
        if (key is null)
            Blake3Hash.Hash(content, result);
        else
            Blake3Hash.KeyedHash(key, content, result);
        return Convert.ToHexStringLower(result);
    }

    private static string HashInPieces(byte[] content, byte[]? key, Random random)
    {
        var stream = key is null ? new Blake3Stream() : new Blake3Stream(key);
        for (var at = 0; at < content.Length; )
        {
            var size = Math.Min(
                content.Length - at,
                random.Next(4) switch
                {
                    0 => random.Next(200_000),
                    1 => 1024 << random.Next(9),
                    _ => random.Next(3000),
                }
            );
            stream.Add(content.AsSpan(at, size));
            at += size;
        }
        var result = new byte[Blake3Hash.Size];
        stream.Finish(result);
        return Convert.ToHexStringLower(result);
    }

    private string Shell(string command)
    {
        using var process = Process.Start(
            new ProcessStartInfo("/bin/bash", ["-c", command]) { WorkingDirectory = folder, RedirectStandardOutput = true }
        )!;
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return output;
    }
}
