using System.Diagnostics.CodeAnalysis;
using System.Numerics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using System.Runtime.Intrinsics.X86;

namespace IronKeep.Blake3;

/// <summary>
/// The constants of the function and its compression of one block, row by row. Machines are little-endian, as every one that .NET 10 runs
/// on here.
/// </summary>
internal static unsafe class Words
{
    public const int BlockSize = 64;
    public const int ChunkSize = 1024;
    public const int HashSize = 32;
    public const int Rounds = 7;

    public const uint ChunkStart = 1,
        ChunkEnd = 2,
        Parent = 4,
        Root = 8,
        KeyedHash = 16;

    public const uint Iv0 = 0x6A09E667,
        Iv1 = 0xBB67AE85,
        Iv2 = 0x3C6EF372,
        Iv3 = 0xA54FF53A;
    public static ReadOnlySpan<uint> Iv => [Iv0, Iv1, Iv2, Iv3, 0x510E527F, 0x9B05688C, 0x1F83D9AB, 0x5BE0CD19];

    // Which word of the block comes where in which round; section 2.2 of the BLAKE3 paper (O'Connor et al., 2020).
    private static ReadOnlySpan<byte> Order =>
        [
            0,
            1,
            2,
            3,
            4,
            5,
            6,
            7,
            8,
            9,
            10,
            11,
            12,
            13,
            14,
            15,
            2,
            6,
            3,
            10,
            7,
            0,
            4,
            13,
            1,
            11,
            12,
            5,
            9,
            14,
            15,
            8,
            3,
            4,
            10,
            12,
            13,
            2,
            7,
            14,
            6,
            5,
            9,
            0,
            11,
            15,
            8,
            1,
            10,
            7,
            12,
            9,
            14,
            3,
            13,
            15,
            4,
            0,
            11,
            2,
            5,
            8,
            1,
            6,
            12,
            13,
            9,
            11,
            15,
            10,
            14,
            8,
            7,
            2,
            5,
            3,
            0,
            1,
            6,
            4,
            9,
            14,
            11,
            5,
            8,
            12,
            15,
            1,
            13,
            3,
            0,
            10,
            2,
            6,
            4,
            7,
            11,
            15,
            5,
            0,
            1,
            9,
            8,
            6,
            14,
            10,
            2,
            12,
            3,
            4,
            7,
            13,
        ];

    /// <summary>The order of the words, 16 bytes a round. It lies in the program's image, so the pointer stays good.</summary>
    public static byte* Schedule => (byte*)Unsafe.AsPointer(ref MemoryMarshal.GetReference(Order));

    /// <summary>
    /// Compresses one block of 64 bytes; <paramref name="result"/> is the first half of the output, which may be
    /// <paramref name="chaining"/> itself.
    /// </summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    public static void Compress(uint* chaining, byte* block, uint length, ulong counter, uint flags, uint* result)
    {
        if (!Vector128.IsHardwareAccelerated)
        {
            CompressPlainly(chaining, (uint*)block, length, counter, flags, result);
            return;
        }
        var m = (uint*)block;
        var s = Schedule;
        Vector128<uint> a = Vector128.Load(chaining),
            b = Vector128.Load(chaining + 4);
        Vector128<uint> c = Vector128.Create(Iv0, Iv1, Iv2, Iv3),
            d = Vector128.Create((uint)counter, (uint)(counter >> 32), length, flags);
        for (var round = 0; round < Rounds; round++, s += 16)
        {
            // The columns, then the diagonals, which the turned rows bring into columns.
            Mix(
                ref a,
                ref b,
                ref c,
                ref d,
                Vector128.Create(m[s[0]], m[s[2]], m[s[4]], m[s[6]]),
                Vector128.Create(m[s[1]], m[s[3]], m[s[5]], m[s[7]])
            );
            (b, c, d) = (
                Vector128.Shuffle(b, Vector128.Create(1u, 2, 3, 0)),
                Vector128.Shuffle(c, Vector128.Create(2u, 3, 0, 1)),
                Vector128.Shuffle(d, Vector128.Create(3u, 0, 1, 2))
            );
            Mix(
                ref a,
                ref b,
                ref c,
                ref d,
                Vector128.Create(m[s[8]], m[s[10]], m[s[12]], m[s[14]]),
                Vector128.Create(m[s[9]], m[s[11]], m[s[13]], m[s[15]])
            );
            (b, c, d) = (
                Vector128.Shuffle(b, Vector128.Create(3u, 0, 1, 2)),
                Vector128.Shuffle(c, Vector128.Create(2u, 3, 0, 1)),
                Vector128.Shuffle(d, Vector128.Create(1u, 2, 3, 0))
            );
        }
        (a ^ c).Store(result);
        (b ^ d).Store(result + 4);
    }

    /// <summary>The same without vectors.</summary>
    internal static void CompressPlainly(uint* chaining, uint* m, uint length, ulong counter, uint flags, uint* result)
    {
        var v = stackalloc uint[16]
        {
            chaining[0],
            chaining[1],
            chaining[2],
            chaining[3],
            chaining[4],
            chaining[5],
            chaining[6],
            chaining[7],
            Iv0,
            Iv1,
            Iv2,
            Iv3,
            (uint)counter,
            (uint)(counter >> 32),
            length,
            flags,
        };
        var s = Schedule;
        for (var round = 0; round < Rounds; round++, s += 16)
        {
            for (var i = 0; i < 4; i++)
                Mix(v + i, v + 4 + i, v + 8 + i, v + 12 + i, m[s[2 * i]], m[s[2 * i + 1]]);
            for (var i = 0; i < 4; i++)
                Mix(v + i, v + 4 + (i + 1) % 4, v + 8 + (i + 2) % 4, v + 12 + (i + 3) % 4, m[s[8 + 2 * i]], m[s[9 + 2 * i]]);
        }
        for (var i = 0; i < 8; i++)
            result[i] = v[i] ^ v[i + 8];

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        static void Mix(uint* a, uint* b, uint* c, uint* d, uint x, uint y)
        {
            *a += *b + x;
            *d = BitOperations.RotateRight(*d ^ *a, 16);
            *c += *d;
            *b = BitOperations.RotateRight(*b ^ *c, 12);
            *a += *b + y;
            *d = BitOperations.RotateRight(*d ^ *a, 8);
            *c += *d;
            *b = BitOperations.RotateRight(*b ^ *c, 7);
        }
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Mix(
        ref Vector128<uint> a,
        ref Vector128<uint> b,
        ref Vector128<uint> c,
        ref Vector128<uint> d,
        Vector128<uint> x,
        Vector128<uint> y
    )
    {
        a += b + x;
        d = Right(d ^ a, 16);
        c += d;
        b = Right(b ^ c, 12);
        a += b + y;
        d = Right(d ^ a, 8);
        c += d;
        b = Right(b ^ c, 7);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static Vector128<uint> Right(Vector128<uint> value, [ConstantExpected] byte by) =>
        Avx512F.VL.IsSupported ? Avx512F.VL.RotateRight(value, by) : value >> by | value << (32 - by);
}
