using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;
using System.Runtime.Intrinsics.X86;

namespace IronKeep.Blake3;

/// <summary>Sixteen inputs at a time, with AVX-512.</summary>
internal readonly unsafe struct Lanes512 : ILanes<Vector512<uint>>
{
    // Vector512.IsHardwareAccelerated is false on processors that slow down under wide vectors, although they still gain here.
    public static bool IsSupported => Avx512F.IsSupported;

    public static int Count => 16;

    /// <summary>
    /// So far ahead the caches are told what comes: the same block of the inputs after these. Content that is not in them yet is hashed at
    /// twice the speed; past the end nothing happens.
    /// </summary>
    private const int Ahead = 16 * Words.ChunkSize;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Broadcast(uint word) => Vector512.Create(word);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Load(uint* words) => Avx512F.LoadVector512(words);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Store(Vector512<uint> value, uint* words) => Avx512F.Store(words, value);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Add(Vector512<uint> a, Vector512<uint> b) => Avx512F.Add(a, b);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Xor(Vector512<uint> a, Vector512<uint> b) => Avx512F.Xor(a, b);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Right16(Vector512<uint> a) => Avx512F.RotateRight(a, 16);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Right12(Vector512<uint> a) => Avx512F.RotateRight(a, 12);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Right8(Vector512<uint> a) => Avx512F.RotateRight(a, 8);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector512<uint> Right7(Vector512<uint> a) => Avx512F.RotateRight(a, 7);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Transpose(byte* first, nint stride, Vector512<uint>* words)
    {
        var rows = stackalloc Vector512<uint>[16];
        for (var four = 0; four < 4; four++)
        {
            var at = first + 4 * four * stride;
            var a = Load((uint*)at);
            var b = Load((uint*)(at + stride));
            var c = Load((uint*)(at + 2 * stride));
            var d = Load((uint*)(at + 3 * stride));
            Sse.Prefetch0(at + Ahead);
            Sse.Prefetch0(at + stride + Ahead);
            Sse.Prefetch0(at + 2 * stride + Ahead);
            Sse.Prefetch0(at + 3 * stride + Ahead);
            var abLow = Avx512F.UnpackLow(a, b).AsUInt64();
            var abHigh = Avx512F.UnpackHigh(a, b).AsUInt64();
            var cdLow = Avx512F.UnpackLow(c, d).AsUInt64();
            var cdHigh = Avx512F.UnpackHigh(c, d).AsUInt64();
            rows[four * 4] = Avx512F.UnpackLow(abLow, cdLow).AsUInt32();
            rows[four * 4 + 1] = Avx512F.UnpackHigh(abLow, cdLow).AsUInt32();
            rows[four * 4 + 2] = Avx512F.UnpackLow(abHigh, cdHigh).AsUInt32();
            rows[four * 4 + 3] = Avx512F.UnpackHigh(abHigh, cdHigh).AsUInt32();
        }
        // Row 4g+j now holds, in its quarter k, word 4k+j of the inputs 4g to 4g+3.
        for (var j = 0; j < 4; j++)
        {
            var evenLow = Avx512F.Shuffle4x128(rows[j], rows[4 + j], 0x88);
            var oddLow = Avx512F.Shuffle4x128(rows[j], rows[4 + j], 0xDD);
            var evenHigh = Avx512F.Shuffle4x128(rows[8 + j], rows[12 + j], 0x88);
            var oddHigh = Avx512F.Shuffle4x128(rows[8 + j], rows[12 + j], 0xDD);
            words[j] = Avx512F.Shuffle4x128(evenLow, evenHigh, 0x88);
            words[4 + j] = Avx512F.Shuffle4x128(oddLow, oddHigh, 0x88);
            words[8 + j] = Avx512F.Shuffle4x128(evenLow, evenHigh, 0xDD);
            words[12 + j] = Avx512F.Shuffle4x128(oddLow, oddHigh, 0xDD);
        }
    }
}
