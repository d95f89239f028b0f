namespace IronKeep.Following.Syslog;

/// <summary>
/// Takes messages out of a stream: each says its length before it, or ends with its line; a sender uses one of the two, and may change.
/// Source: RFC 6587 (section 3.4). A frame that says to be too long ends the stream, one without an end is cut.
/// </summary>
public sealed class SyslogFrames
{
    private const int MostDigits = 7;

    /// <summary>A counted frame longer than this is none (bytes).</summary>
    public const int MostFrame = 1024 * 1024;
    private byte[] buffer = new byte[16 * 1024];
    private int length;

    /// <summary>Of a line that was cut, what comes until its end.</summary>
    private bool skips;

    /// <summary>
    /// Takes what arrived; the messages that are complete. Null: what came is no syslog, and the stream is of no use any more.
    /// </summary>
    public List<byte[]>? Feed(ReadOnlySpan<byte> arrived)
    {
        if (length + arrived.Length > buffer.Length)
            Array.Resize(ref buffer, Math.Max(buffer.Length * 2, length + arrived.Length));
        arrived.CopyTo(buffer.AsSpan(length));
        length += arrived.Length;
        var messages = new List<byte[]>();
        var at = 0;
        while (at < length)
        {
            var rest = buffer.AsSpan(at, length - at);
            if (skips)
            {
                var ends = rest.IndexOf((byte)'\n');
                if (ends < 0)
                {
                    at = length;
                    break;
                }
                (skips, at) = (false, at + ends + 1);
                continue;
            }
            if (rest[0] is >= (byte)'1' and <= (byte)'9' && Counted(rest) is var (digits, count))
            {
                if (count > MostFrame)
                    return null;
                if (digits < 0 || rest.Length < digits + 1 + count)
                    break;
                messages.Add(rest.Slice(digits + 1, count).ToArray());
                at += digits + 1 + count;
                continue;
            }
            var end = rest.IndexOfAny((byte)'\n', (byte)0);
            if (end < 0 && rest.Length < SyslogMessage.MostBytes)
                break;
            if (end < 0)
                (skips, end) = (true, rest.Length - 1);
            if (end > 0)
                messages.Add(rest[..(skips ? end + 1 : end)].ToArray());
            at += end + 1;
        }
        buffer.AsSpan(at, length - at).CopyTo(buffer);
        length -= at;
        return messages;
    }

    /// <summary>What came last without an end, when the sender is gone.</summary>
    public byte[]? Finish() => length > 0 && !skips ? buffer[..length] : null;

    /// <summary>
    /// The number of digits and the count before a frame; null when it is a line that begins with a digit, -1 digits when more must come.
    /// </summary>
    private static (int Digits, int Count)? Counted(ReadOnlySpan<byte> rest)
    {
        var count = 0;
        for (var i = 0; i < rest.Length && i <= MostDigits; i++)
        {
            // What is counted begins with its priority; else it is a line that begins with a number.
            if (rest[i] == ' ')
                return i + 1 == rest.Length ? (-1, 0)
                    : rest[i + 1] == '<' ? (i, count)
                    : null;
            if (!char.IsAsciiDigit((char)rest[i]))
                return null;
            count = count * 10 + rest[i] - '0';
        }
        return rest.Length > MostDigits ? null : (-1, 0);
    }
}
