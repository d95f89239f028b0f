namespace IronKeep.Stores.Trees;

/// <summary>Bytes that grow at their end. Not for two threads at once.</summary>
public sealed class RecordBuffer
{
    private const int MostIdle = 64;
    private static readonly System.Collections.Concurrent.ConcurrentBag<RecordBuffer> Idle = [];
    private byte[] bytes = new byte[1024];

    /// <summary>An empty buffer, perhaps one that was given back.</summary>
    public static RecordBuffer Rent() => Idle.TryTake(out var buffer) ? buffer : new RecordBuffer();

    /// <summary>Gives the buffer back; it must not be used any more.</summary>
    public void Return()
    {
        Clear();
        if (Idle.Count < MostIdle)
            Idle.Add(this);
    }

    public int Length { get; private set; }

    public ReadOnlySpan<byte> Written => bytes.AsSpan(0, Length);

    public void Clear() => Length = 0;

    /// <summary>The bytes from a position on, to write over them.</summary>
    public Span<byte> At(int position) => bytes.AsSpan(position, Length - position);

    /// <summary>Room for so many bytes at the end; valid until the next call.</summary>
    public Span<byte> Take(int size)
    {
        if (Length + size > bytes.Length)
            Array.Resize(ref bytes, Math.Max(bytes.Length * 2, Length + size));
        Length += size;
        return bytes.AsSpan(Length - size, size);
    }

    public void Append(ReadOnlySpan<byte> more) => more.CopyTo(Take(more.Length));

    /// <summary>A byte string with its length in front.</summary>
    public void Bytes(ReadOnlySpan<byte> content)
    {
        Number((ulong)content.Length);
        Append(content);
    }

    /// <summary>Seven bits a byte, low bits first, the top bit set on all but the last (LEB128).</summary>
    public void Number(ulong value)
    {
        Span<byte> digits = stackalloc byte[10];
        var n = 0;
        for (; value >= 0x80; value >>= 7)
            digits[n++] = (byte)(value | 0x80);
        digits[n++] = (byte)value;
        Append(digits[..n]);
    }
}
