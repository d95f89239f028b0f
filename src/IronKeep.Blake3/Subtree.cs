using System.Numerics;
using System.Runtime.Intrinsics;

namespace IronKeep.Blake3;

/// <summary>
/// Hashes whole subtrees at once, so that wide vectors are full: first the chunks, then level by level their parents. After the
/// paper's section 5.3.
/// </summary>
internal static unsafe class Subtree
{
    /// <summary>At most so many chaining values come out of <see cref="Wide"/>.</summary>
    public const int MostLanes = 16;

    /// <summary>How many inputs the machine hashes at once; tests set it to try each width.</summary>
    internal static int Degree { get; set; } =
        Lanes512.IsSupported ? 16
        : Lanes256.IsSupported ? 8
        : Lanes128.IsSupported ? 4
        : 1;

    /// <summary>
    /// Hashes more than one chunk of input down to its two topmost chaining values (64 bytes at <paramref name="result"/>).
    /// <paramref name="counter"/> is the number of the first chunk.
    /// </summary>
    public static void ToTopPair(byte* input, nuint length, uint* key, ulong counter, uint flags, byte* result)
    {
        var values = stackalloc byte[2 * MostLanes * Words.HashSize];
        var above = stackalloc byte[MostLanes * Words.HashSize];
        var count = Wide(input, length, key, counter, flags, values);
        while (count > 2)
        {
            count = Parents(values, count, key, flags, above);
            Buffer.MemoryCopy(above, values, count * Words.HashSize, count * Words.HashSize);
        }
        Buffer.MemoryCopy(values, result, 2 * Words.HashSize, 2 * Words.HashSize);
    }

    /// <summary>The length of the left part of an input: the largest power of two of chunks that leaves something for the right.</summary>
    public static nuint LeftLength(nuint length) =>
        BitOperations.RoundUpToPowerOf2((length - 1) / Words.ChunkSize + 1) / 2 * Words.ChunkSize;

    private static int Wide(byte* input, nuint length, uint* key, ulong counter, uint flags, byte* result)
    {
        var degree = Math.Max(Degree, 2);
        if (length <= (nuint)(degree * Words.ChunkSize))
            return Chunks(input, length, key, counter, flags, result);
        var left = LeftLength(length);
        var values = stackalloc byte[2 * MostLanes * Words.HashSize];
        var leftCount = Wide(input, left, key, counter, flags, values);
        var rightCount = Wide(
            input + left,
            length - left,
            key,
            counter + left / Words.ChunkSize,
            flags,
            values + leftCount * Words.HashSize
        );
        if (leftCount > 1)
            return Parents(values, leftCount + rightCount, key, flags, result);
        Buffer.MemoryCopy(values, result, 2 * Words.HashSize, 2 * Words.HashSize);
        return 2;
    }

    private static int Chunks(byte* input, nuint length, uint* key, ulong counter, uint flags, byte* result)
    {
        var whole = (int)(length / Words.ChunkSize);
        Many(
            input,
            Words.ChunkSize,
            whole,
            Words.ChunkSize / Words.BlockSize,
            key,
            counter,
            true,
            flags,
            Words.ChunkStart,
            Words.ChunkEnd,
            result
        );
        var rest = (int)(length % Words.ChunkSize);
        if (rest == 0)
            return whole;
        LastChunk(input + whole * Words.ChunkSize, rest, key, counter + (ulong)whole, flags, (uint*)(result + whole * Words.HashSize));
        return whole + 1;
    }

    /// <summary>The chaining value of one chunk of 0 to 1024 bytes. With the root flag it is the hash of an input of one chunk.</summary>
    public static void LastChunk(byte* input, int length, uint* key, ulong counter, uint flags, uint* result)
    {
        var block = stackalloc byte[Words.BlockSize];
        var root = flags & Words.Root;
        flags &= ~Words.Root;
        for (var i = 0; i < 8; i++)
            result[i] = key[i];
        for (var at = 0; ; at += Words.BlockSize)
        {
            var size = Math.Min(Words.BlockSize, length - at);
            var last = at + Words.BlockSize >= length;
            var blockFlags = flags | (at == 0 ? Words.ChunkStart : 0) | (last ? Words.ChunkEnd | root : 0);
            var from = input + at;
            if (size < Words.BlockSize)
            {
                new Span<byte>(block, Words.BlockSize).Clear();
                Buffer.MemoryCopy(from, block, Words.BlockSize, size);
                from = block;
            }
            Words.Compress(result, from, (uint)size, counter, blockFlags, result);
            if (last)
                return;
        }
    }

    private static int Parents(byte* values, int count, uint* key, uint flags, byte* result)
    {
        var pairs = count / 2;
        Many(values, Words.BlockSize, pairs, 1, key, 0, false, flags | Words.Parent, 0, 0, result);
        if (count % 2 == 0)
            return pairs;
        Buffer.MemoryCopy(values + 2 * pairs * Words.HashSize, result + pairs * Words.HashSize, Words.HashSize, Words.HashSize);
        return pairs + 1;
    }

    private static void Many(
        byte* input,
        nint stride,
        int count,
        int blocks,
        uint* key,
        ulong counter,
        bool counted,
        uint flags,
        uint start,
        uint end,
        byte* result
    )
    {
        while (count > 0)
        {
            var done = 1;
            if (count >= 16 && Degree >= 16)
            {
                WideKernel<Vector512<uint>, Lanes512>.Hash(input, stride, blocks, key, counter, counted, flags, start, end, result);
                done = 16;
            }
            else if (count >= 8 && Degree >= 8)
            {
                WideKernel<Vector256<uint>, Lanes256>.Hash(input, stride, blocks, key, counter, counted, flags, start, end, result);
                done = 8;
            }
            else if (count >= 4 && Degree >= 4)
            {
                WideKernel<Vector128<uint>, Lanes128>.Hash(input, stride, blocks, key, counter, counted, flags, start, end, result);
                done = 4;
            }
            else
            {
                var value = (uint*)result;
                for (var i = 0; i < 8; i++)
                    value[i] = key[i];
                for (var block = 0; block < blocks; block++)
                    Words.Compress(
                        value,
                        input + block * Words.BlockSize,
                        Words.BlockSize,
                        counter,
                        flags | (block == 0 ? start : 0) | (block == blocks - 1 ? end : 0),
                        value
                    );
            }
            input += done * stride;
            result += done * Words.HashSize;
            count -= done;
            if (counted)
                counter += (ulong)done;
        }
    }
}
