using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace IronKeep.Stores.Chunks;

/// <summary>
/// Finds where to cut content, so that an insertion moves few cuts: a gear hash over the bytes with normalised cut points, after
/// the FastCDC paper (Xia et al., USENIX ATC 2016). The table comes from SplitMix64 with a fixed seed and is part of the format.
/// </summary>
public static class ContentCutter
{
    public const int Least = 64 * 1024;
    public const int Normal = 256 * 1024;
    public const int Most = 1024 * 1024;

    /// <summary>
    /// Content longer than this is cut in stretches of this length (bytes), each on its own, so that all cores can work on one file.
    /// </summary>
    public const long Stretch = 64L * 1024 * 1024;

    // Two bits harder before the normal size, two bits easier after it (the paper's normalisation level 2); the top bits of the
    // hash depend on the last 64 bytes.
    private const ulong HardMask = 0xFFFF_F000_0000_0000;
    private const ulong EasyMask = 0xFFFF_0000_0000_0000;
    private static readonly ulong[] Gear = MakeGear(0x1705_6B65_6570_0001);

    /// <summary>
    /// The length of the next chunk of <paramref name="data"/>. When <paramref name="data"/> may go on, it must hold at least
    /// <see cref="Most"/> bytes, so that the cut does not depend on how the content was read.
    /// </summary>
    public static int NextCut(ReadOnlySpan<byte> data)
    {
        if (data.Length <= Least)
            return data.Length;
        var end = Math.Min(data.Length, Most);
        ulong hash = 0;
        var cut = Search(data, Least, Math.Min(Normal, end), HardMask, ref hash);
        if (cut < 0)
            cut = Search(data, Math.Min(Normal, end), end, EasyMask, ref hash);
        return cut < 0 ? end : cut;
    }

    // Two bytes a turn keeps the loop out of its own way.
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static int Search(ReadOnlySpan<byte> data, int from, int to, ulong mask, ref ulong hash)
    {
        ref var bytes = ref MemoryMarshal.GetReference(data);
        ref var gear = ref MemoryMarshal.GetArrayDataReference(Gear);
        var h = hash;
        var i = from;
        for (; i + 1 < to; i += 2)
        {
            var first = (h << 1) + Unsafe.Add(ref gear, (nuint)Unsafe.Add(ref bytes, (nuint)i));
            if ((first & mask) == 0)
                return i + 1;
            h = (first << 1) + Unsafe.Add(ref gear, (nuint)Unsafe.Add(ref bytes, (nuint)i + 1));
            if ((h & mask) == 0)
                return i + 2;
        }
        if (i < to)
        {
            h = (h << 1) + Unsafe.Add(ref gear, (nuint)Unsafe.Add(ref bytes, (nuint)i));
            if ((h & mask) == 0)
                return i + 1;
        }
        hash = h;
        return -1;
    }

    private static ulong[] MakeGear(ulong seed)
    {
        var table = new ulong[256];
        for (var i = 0; i < table.Length; i++)
        {
            seed += 0x9E37_79B9_7F4A_7C15;
            var z = (seed ^ (seed >> 30)) * 0xBF58_476D_1CE4_E5B9;
            z = (z ^ (z >> 27)) * 0x94D0_49BB_1331_11EB;
            table[i] = z ^ (z >> 31);
        }
        return table;
    }
}
