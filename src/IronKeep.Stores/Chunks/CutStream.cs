namespace IronKeep.Stores.Chunks;

/// <summary>
/// Cuts content that comes in pieces exactly as a run cuts it that reads the whole: by what it holds, and anew at every
/// <see cref="ContentCutter.Stretch"/> of content that is longer. <paramref name="length"/> is that of all the content, in bytes.
/// </summary>
internal sealed class CutStream(long length, CutStream.Chunk take)
{
    public delegate void Chunk(ReadOnlySpan<byte> content);

    private readonly byte[] buffer = new byte[4 * ContentCutter.Most];
    private int start,
        filled;
    private long position;

    public void Add(ReadOnlySpan<byte> content)
    {
        while (content.Length > 0)
        {
            // A stretch ends the buffer as the content's end does.
            var stretch = length > ContentCutter.Stretch ? ContentCutter.Stretch - position % ContentCutter.Stretch : long.MaxValue;
            var count = (int)Math.Min(Math.Min(content.Length, stretch), buffer.Length - filled);
            content[..count].CopyTo(buffer.AsSpan(filled));
            content = content[count..];
            filled += count;
            position += count;
            var ends = count == stretch;
            while (filled - start >= ContentCutter.Most || ends && filled > start)
                Cut();
            if (start > 0 && filled == buffer.Length)
                Close();
        }
    }

    /// <summary>Gives what is left.</summary>
    public void End()
    {
        while (filled > start)
            Cut();
    }

    private void Cut()
    {
        var cut = ContentCutter.NextCut(buffer.AsSpan(start, filled - start));
        take(buffer.AsSpan(start, cut));
        start += cut;
        if (start == filled)
            (start, filled) = (0, 0);
    }

    private void Close()
    {
        buffer.AsSpan(start, filled - start).CopyTo(buffer);
        (start, filled) = (0, filled - start);
    }
}
