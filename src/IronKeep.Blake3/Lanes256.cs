using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;
using System.Runtime.Intrinsics.X86;

namespace IronKeep.Blake3;

/// <summary>Eight inputs at a time, with AVX2.</summary>
internal readonly unsafe struct Lanes256 : ILanes<Vector256<uint>>
{
    public static bool IsSupported => Avx2.IsSupported;

    public static int Count => 8;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Broadcast(uint word) => Vector256.Create(word);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Load(uint* words) => Avx.LoadVector256(words);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Store(Vector256<uint> value, uint* words) => Avx.Store(words, value);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Add(Vector256<uint> a, Vector256<uint> b) => Avx2.Add(a, b);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Xor(Vector256<uint> a, Vector256<uint> b) => Avx2.Xor(a, b);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Right16(Vector256<uint> a) =>
        Avx2.Shuffle(a.AsByte(), Vector256.Create(Vector128.Create((byte)2, 3, 0, 1, 6, 7, 4, 5, 10, 11, 8, 9, 14, 15, 12, 13))).AsUInt32();

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Right12(Vector256<uint> a) => Avx2.Or(Avx2.ShiftRightLogical(a, 12), Avx2.ShiftLeftLogical(a, 20));

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Right8(Vector256<uint> a) =>
        Avx2.Shuffle(a.AsByte(), Vector256.Create(Vector128.Create((byte)1, 2, 3, 0, 5, 6, 7, 4, 9, 10, 11, 8, 13, 14, 15, 12))).AsUInt32();

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector256<uint> Right7(Vector256<uint> a) => Avx2.Or(Avx2.ShiftRightLogical(a, 7), Avx2.ShiftLeftLogical(a, 25));

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Transpose(byte* first, nint stride, Vector256<uint>* words)
    {
        Half(first, stride, words);
        Half(first + 32, stride, words + 8);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Half(byte* first, nint stride, Vector256<uint>* words)
    {
        var rows = stackalloc Vector256<uint>[8];
        for (var four = 0; four < 2; four++)
        {
            var at = first + 4 * four * stride;
            var a = Load((uint*)at);
            var b = Load((uint*)(at + stride));
            var c = Load((uint*)(at + 2 * stride));
            var d = Load((uint*)(at + 3 * stride));
            var abLow = Avx2.UnpackLow(a, b).AsUInt64();
            var abHigh = Avx2.UnpackHigh(a, b).AsUInt64();
            var cdLow = Avx2.UnpackLow(c, d).AsUInt64();
            var cdHigh = Avx2.UnpackHigh(c, d).AsUInt64();
            rows[four * 4] = Avx2.UnpackLow(abLow, cdLow).AsUInt32();
            rows[four * 4 + 1] = Avx2.UnpackHigh(abLow, cdLow).AsUInt32();
            rows[four * 4 + 2] = Avx2.UnpackLow(abHigh, cdHigh).AsUInt32();
            rows[four * 4 + 3] = Avx2.UnpackHigh(abHigh, cdHigh).AsUInt32();
        }
        for (var j = 0; j < 4; j++)
        {
            words[j] = Avx2.Permute2x128(rows[j], rows[4 + j], 0x20);
            words[4 + j] = Avx2.Permute2x128(rows[j], rows[4 + j], 0x31);
        }
    }
}
