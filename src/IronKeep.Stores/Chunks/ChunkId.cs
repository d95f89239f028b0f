using System.Buffers.Binary;
using System.Security.Cryptography;

namespace IronKeep.Stores.Chunks;

/// <summary>The identity of a chunk: the SHA-256 of its bytes as they were read.</summary>
public readonly record struct ChunkId(ulong A, ulong B, ulong C, ulong D)
{
    public const int Size = 32;

    public static ChunkId Of(ReadOnlySpan<byte> content)
    {
        Span<byte> hash = stackalloc byte[Size];
        SHA256.HashData(content, hash);
        return Read(hash);
    }

    public static ChunkId Read(ReadOnlySpan<byte> bytes) => new(
        BinaryPrimitives.ReadUInt64BigEndian(bytes), BinaryPrimitives.ReadUInt64BigEndian(bytes[8..]),
        BinaryPrimitives.ReadUInt64BigEndian(bytes[16..]), BinaryPrimitives.ReadUInt64BigEndian(bytes[24..]));

    public void Write(Span<byte> bytes)
    {
        BinaryPrimitives.WriteUInt64BigEndian(bytes, A);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[8..], B);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[16..], C);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[24..], D);
    }

    /// <summary>The first word is already uniformly distributed.</summary>
    public override int GetHashCode() => (int)A;

    public static ChunkId Parse(string hex) => Read(Convert.FromHexString(hex));

    public override string ToString() => $"{A:x16}{B:x16}{C:x16}{D:x16}";
}
