using System.Buffers;
using System.Buffers.Binary;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// How chunks are asked for and given. Asked: for each its kind (one byte, <see cref="WireKind"/>) and identity. Given, little endian:
/// "IKG1", codec (one byte: 0 as it is, 1 one frame of Zstandard), the length of the body (32 bits), the body: for each of the first chunks
/// that were asked for one byte (1: its bytes follow; 0: why it cannot be given, UTF-8), a length (32 bits), and so many bytes.
/// </summary>
public static class WireAsk
{
    /// <summary>The bytes that asking for one chunk takes, and how many may be asked for at once.</summary>
    public const int Size = 1 + ChunkId.Size,
        Most = 512;

    /// <summary>An answer that is as long (bytes, unpacked) gets no more chunks.</summary>
    public const int AnswerUntil = 2 * 1024 * 1024;

    /// <summary>No answer is longer, unpacked.</summary>
    private const int MostBody = AnswerUntil + PackFormat.MostBlockRaw + ChunkHead;
    private const int Head = 9,
        ChunkHead = 5;

    /// <summary>No answer is longer as it travels.</summary>
    public const int MostAnswer = Head + MostBody;

    private static ReadOnlySpan<byte> Magic => "IKG1"u8;

    public static void Write(Span<byte> to, WireKind kind, ChunkId id)
    {
        to[0] = (byte)kind;
        id.Write(to[1..]);
    }

    internal static void Add(ArrayBufferWriter<byte> body, bool there, ReadOnlySpan<byte> content)
    {
        var head = body.GetSpan(ChunkHead);
        head[0] = there ? (byte)1 : (byte)0;
        BinaryPrimitives.WriteInt32LittleEndian(head[1..], content.Length);
        body.Advance(ChunkHead);
        body.Write(content);
    }

    internal static byte[] Answer(ReadOnlySpan<byte> body, Zstd zstd)
    {
        var answer = new byte[Head + body.Length];
        Magic.CopyTo(answer);
        BinaryPrimitives.WriteInt32LittleEndian(answer.AsSpan(5), body.Length);
        var packed = zstd.Compress(body, answer.AsSpan(Head, body.Length - 1));
        answer[4] = packed > 0 ? (byte)1 : (byte)0;
        if (packed > 0)
            return answer[..(Head + packed)];
        body.CopyTo(answer.AsSpan(Head));
        return answer;
    }

    /// <summary>
    /// The chunks of an answer in the order in which they were asked for, each with its bytes or why it cannot be given; an answer that is
    /// none is an <see cref="InvalidDataException"/>.
    /// </summary>
    internal static List<(bool There, byte[] Content)> Read(ReadOnlySpan<byte> answer, int most, Zstd zstd)
    {
        if (answer.Length < Head || !answer[..4].SequenceEqual(Magic) || answer[4] > 1)
            throw Wrong();
        var length = BinaryPrimitives.ReadInt32LittleEndian(answer[5..]);
        if (length is < 1 or > MostBody)
            throw Wrong();
        var body = new byte[length];
        if (answer[4] == 0 ? answer.Length != Head + length : !zstd.Decompress(answer[Head..], body))
            throw Wrong();
        if (answer[4] == 0)
            answer[Head..].CopyTo(body);
        var found = new List<(bool, byte[])>();
        for (var rest = body.AsSpan(); rest.Length > 0; )
        {
            var size = rest.Length < ChunkHead ? -1 : BinaryPrimitives.ReadInt32LittleEndian(rest[1..]);
            if (size < 0 || size > rest.Length - ChunkHead || found.Count == most)
                throw Wrong();
            found.Add((rest[0] == 1, rest.Slice(ChunkHead, size).ToArray()));
            rest = rest[(ChunkHead + size)..];
        }
        return found;
    }

    private static InvalidDataException Wrong() => new("what was answered is no list of chunks");
}
