using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;

namespace IronKeep.Blake3;

/// <summary>Four inputs at a time, on any machine with vectors of 128 bits.</summary>
internal readonly unsafe struct Lanes128 : ILanes<Vector128<uint>>
{
    public static bool IsSupported => Vector128.IsHardwareAccelerated;

    public static int Count => 4;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Broadcast(uint word) => Vector128.Create(word);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Load(uint* words) => Vector128.Load(words);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Store(Vector128<uint> value, uint* words) => value.Store(words);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Add(Vector128<uint> a, Vector128<uint> b) => a + b;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Xor(Vector128<uint> a, Vector128<uint> b) => a ^ b;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Right16(Vector128<uint> a) => (a >>> 16) | (a << 16);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Right12(Vector128<uint> a) => (a >>> 12) | (a << 20);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Right8(Vector128<uint> a) => (a >>> 8) | (a << 24);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static Vector128<uint> Right7(Vector128<uint> a) => (a >>> 7) | (a << 25);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static void Transpose(byte* first, nint stride, Vector128<uint>* words)
    {
        uint* a = (uint*)first,
            b = (uint*)(first + stride),
            c = (uint*)(first + 2 * stride),
            d = (uint*)(first + 3 * stride);
        for (var i = 0; i < 16; i++)
            words[i] = Vector128.Create(a[i], b[i], c[i], d[i]);
    }
}
