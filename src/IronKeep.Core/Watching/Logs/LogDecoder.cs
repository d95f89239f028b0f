using System.Text;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// Turns the bytes of a log into text: UTF-8, with single bytes that are none taken for Latin-1; UTF-16 where its mark, or its null bytes,
/// show it. Fed piece by piece; a character that is cut waits for its rest.
/// </summary>
public sealed class LogDecoder
{
    private Decoder? decoder;

    /// <summary>The most characters that so many bytes can give.</summary>
    public static int MostOf(int bytes) => bytes + 4;

    /// <summary>Whether the text is UTF-16, where a line's end takes two bytes.</summary>
    public bool IsWide { get; private set; }

    /// <summary>Decodes a piece into <paramref name="text"/>, which has room for <see cref="MostOf"/>; returns the characters.</summary>
    public int Decode(ReadOnlySpan<byte> bytes, Span<char> text)
    {
        if (decoder is null)
        {
            if (bytes.Length == 0)
                return 0;
            var (encoding, mark) = EncodingOf(bytes);
            IsWide = encoding is UnicodeEncoding;
            decoder = encoding.GetDecoder();
            bytes = bytes[mark..];
        }
        return decoder.GetChars(bytes, text, flush: false);
    }

    /// <summary>Says beforehand what a file is in whose middle reading begins.</summary>
    public void Begin(bool isWide, bool bigEndian = false)
    {
        IsWide = isWide;
        decoder = isWide ? new UnicodeEncoding(bigEndian, false).GetDecoder() : Utf8().GetDecoder();
    }

    private static (Encoding Encoding, int Mark) EncodingOf(ReadOnlySpan<byte> bytes) =>
        bytes switch
        {
            [0xEF, 0xBB, 0xBF, ..] => (Utf8(), 3),
            [0xFF, 0xFE, ..] => (new UnicodeEncoding(false, false), 2),
            [0xFE, 0xFF, ..] => (new UnicodeEncoding(true, false), 2),
            // Text of the usual letters in UTF-16 has every other byte null.
            [not 0, 0, not 0, 0, ..] => (new UnicodeEncoding(false, false), 0),
            [0, not 0, 0, not 0, ..] => (new UnicodeEncoding(true, false), 0),
            _ => (Utf8(), 0),
        };

    private static UTF8Encoding Utf8()
    {
        var encoding = (UTF8Encoding)new UTF8Encoding(false).Clone();
        encoding.DecoderFallback = new Latin1Fallback();
        return encoding;
    }

    /// <summary>A byte that is no UTF-8 is a character of Latin-1.</summary>
    private sealed class Latin1Fallback : DecoderFallback
    {
        public override int MaxCharCount => 4;

        public override DecoderFallbackBuffer CreateFallbackBuffer() => new Buffer();

        private sealed class Buffer : DecoderFallbackBuffer
        {
            private byte[] unknown = [];
            private int at;

            public override int Remaining => unknown.Length - at;

            public override bool Fallback(byte[] bytesUnknown, int index)
            {
                (unknown, at) = ([.. bytesUnknown], 0);
                return true;
            }

            public override char GetNextChar() => at < unknown.Length ? (char)unknown[at++] : '\0';

            public override bool MovePrevious() => at > 0 && at-- > 0;

            public override void Reset() => (unknown, at) = ([], 0);
        }
    }
}
