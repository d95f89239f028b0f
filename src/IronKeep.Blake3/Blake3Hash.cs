// Stack memory is always written before it is read here, and clearing it first would cost a tenth of the time.
[module: System.Runtime.CompilerServices.SkipLocalsInit]

namespace IronKeep.Blake3;

/// <summary>
/// BLAKE3 of content in memory, plain and keyed. Results are 32 bytes. Source: "BLAKE3: one function, fast
/// everywhere" (O'Connor, Aumasson, Neves, Wilcox-O'Hearn, 2020). Safe for several threads.
/// </summary>
public static unsafe class Blake3Hash
{
    /// <summary>Bytes of a hash and of a key.</summary>
    public const int Size = Words.HashSize;

    /// <summary>The hash, the same as that of the program b3sum.</summary>
    public static void Hash(ReadOnlySpan<byte> content, Span<byte> result)
    {
        fixed (uint* key = Words.Iv)
            Root(content, key, 0, result);
    }

    /// <summary>The hash that only those who have the key (32 bytes) can compute.</summary>
    public static void KeyedHash(ReadOnlySpan<byte> key, ReadOnlySpan<byte> content, Span<byte> result)
    {
        if (key.Length != Size)
            throw new ArgumentException("a key has 32 bytes", nameof(key));
        var words = stackalloc uint[8];
        key.CopyTo(new Span<byte>(words, Size));
        Root(content, words, Words.KeyedHash, result);
    }

    private static void Root(ReadOnlySpan<byte> content, uint* key, uint flags, Span<byte> result)
    {
        if (result.Length != Size)
            throw new ArgumentException("a hash has 32 bytes", nameof(result));
        var value = stackalloc uint[8];
        fixed (byte* input = content)
        {
            if (content.Length <= Words.ChunkSize)
                Subtree.LastChunk(input, content.Length, key, 0, flags | Words.Root, value);
            else
            {
                var pair = stackalloc byte[Words.BlockSize];
                Subtree.ToTopPair(input, (nuint)content.Length, key, 0, flags, pair);
                Words.Compress(key, pair, Words.BlockSize, 0, flags | Words.Parent | Words.Root, value);
            }
        }
        new ReadOnlySpan<byte>(value, Size).CopyTo(result);
    }
}
