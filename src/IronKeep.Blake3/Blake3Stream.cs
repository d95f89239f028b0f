using System.Numerics;

namespace IronKeep.Blake3;

/// <summary>
/// The hash of content that comes piece by piece. Pieces of 64 KiB and more keep the wide vectors full. Not for two threads at once.
/// </summary>
public sealed unsafe class Blake3Stream
{
    private readonly uint[] key;
    private readonly uint flags;

    // One chaining value for each whole subtree so far, largest first: one for each bit that is set in the number of chunks.
    private readonly byte[] stack = new byte[55 * Words.HashSize];
    private readonly byte[] chunk = new byte[Words.ChunkSize];
    private int stacked,
        held;
    private ulong chunks;

    public Blake3Stream()
    {
        key = Words.Iv.ToArray();
    }

    /// <summary>The keyed hash; the key has 32 bytes.</summary>
    public Blake3Stream(ReadOnlySpan<byte> key)
    {
        if (key.Length != Words.HashSize)
            throw new ArgumentException("a key has 32 bytes", nameof(key));
        this.key = new uint[8];
        key.CopyTo(System.Runtime.InteropServices.MemoryMarshal.AsBytes(this.key.AsSpan()));
        flags = Words.KeyedHash;
    }

    /// <summary>Forgets what was added.</summary>
    public void Reset() => (stacked, held, chunks) = (0, 0, 0);

    public void Add(ReadOnlySpan<byte> content)
    {
        if (held > 0)
        {
            var taken = Math.Min(content.Length, Words.ChunkSize - held);
            content[..taken].CopyTo(chunk.AsSpan(held));
            held += taken;
            content = content[taken..];
            if (content.Length == 0)
                return;
            PushHeld();
        }
        fixed (byte* start = content)
        fixed (uint* keyWords = key)
        {
            var input = start;
            var left = (nuint)content.Length;
            var pair = stackalloc byte[Words.BlockSize];
            var single = stackalloc uint[8];
            // An input of one chunk is its own root, so the first chunk waits for another. Larger subtrees are put down as two halves,
            // and whoever comes next, or the end, joins them: with the root's flag or without.
            while (left > Words.ChunkSize || left == Words.ChunkSize && chunks > 0)
            {
                // The largest whole subtree that fits the place where it would stand.
                var size = (nuint)1 << BitOperations.Log2((ulong)left);
                while ((((ulong)size - 1) & (chunks * Words.ChunkSize)) != 0)
                    size /= 2;
                var count = (ulong)(size / Words.ChunkSize);
                if (count <= 1)
                {
                    Subtree.LastChunk(input, Words.ChunkSize, keyWords, chunks, flags, single);
                    Push((byte*)single, chunks);
                    size = Words.ChunkSize;
                    count = 1;
                }
                else
                {
                    Subtree.ToTopPair(input, size, keyWords, chunks, flags, pair);
                    Push(pair, chunks);
                    Push(pair + Words.HashSize, chunks + count / 2);
                }
                chunks += count;
                input += size;
                left -= size;
            }
            new ReadOnlySpan<byte>(input, (int)left).CopyTo(chunk);
            held = (int)left;
        }
    }

    /// <summary>The hash of all that was added; more may be added afterwards.</summary>
    public void Finish(Span<byte> result)
    {
        var value = stackalloc uint[8];
        var block = stackalloc byte[Words.BlockSize];
        if (held > 0)
            Merge(chunks);
        fixed (uint* keyWords = key)
        fixed (byte* last = chunk)
        fixed (byte* values = stack)
        {
            if (chunks == 0)
            {
                Subtree.LastChunk(last, held, keyWords, 0, flags | Words.Root, value);
                new ReadOnlySpan<byte>(value, Words.HashSize).CopyTo(result);
                return;
            }
            // Right to left; the topmost merge is the root.
            var at = stacked - 1;
            if (held > 0)
                Subtree.LastChunk(last, held, keyWords, chunks, flags, value);
            else
                Buffer.MemoryCopy(values + at-- * Words.HashSize, value, Words.HashSize, Words.HashSize);
            for (; at >= 0; at--)
            {
                Buffer.MemoryCopy(values + at * Words.HashSize, block, Words.HashSize, Words.HashSize);
                Buffer.MemoryCopy(value, block + Words.HashSize, Words.HashSize, Words.HashSize);
                Words.Compress(keyWords, block, Words.BlockSize, 0, flags | Words.Parent | (at == 0 ? Words.Root : 0), value);
            }
        }
        new ReadOnlySpan<byte>(value, Words.HashSize).CopyTo(result);
    }

    private void PushHeld()
    {
        var value = stackalloc uint[8];
        fixed (uint* keyWords = key)
        fixed (byte* input = chunk)
            Subtree.LastChunk(input, Words.ChunkSize, keyWords, chunks, flags, value);
        Push((byte*)value, chunks);
        chunks++;
        held = 0;
    }

    /// <summary>Puts a chaining value on the stack, behind those of the <paramref name="before"/> chunks.</summary>
    private void Push(byte* value, ulong before)
    {
        Merge(before);
        new ReadOnlySpan<byte>(value, Words.HashSize).CopyTo(stack.AsSpan(stacked * Words.HashSize));
        stacked++;
    }

    /// <summary>Merges the subtrees that are whole once there are more than <paramref name="count"/> chunks.</summary>
    private void Merge(ulong count)
    {
        var wanted = BitOperations.PopCount(count);
        fixed (uint* keyWords = key)
        fixed (byte* values = stack)
        {
            for (; stacked > wanted; stacked--)
            {
                var left = values + (stacked - 2) * Words.HashSize;
                Words.Compress(keyWords, left, Words.BlockSize, 0, flags | Words.Parent, (uint*)left);
            }
        }
    }
}
