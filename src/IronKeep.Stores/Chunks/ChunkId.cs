using System.Buffers.Binary;

namespace IronKeep.Stores.Chunks;

/// <summary>The identity of a chunk: the keyed hash of its bytes as they were read (see <see cref="Keys.StoreKeys.IdOf"/>).</summary>
public readonly record struct ChunkId(ulong A, ulong B, ulong C, ulong D)
{
    public const int Size = 32;

    public static ChunkId Read(ReadOnlySpan<byte> bytes) =>
        new(
            BinaryPrimitives.ReadUInt64BigEndian(bytes),
            BinaryPrimitives.ReadUInt64BigEndian(bytes[8..]),
            BinaryPrimitives.ReadUInt64BigEndian(bytes[16..]),
            BinaryPrimitives.ReadUInt64BigEndian(bytes[24..])
        );

    public void Write(Span<byte> bytes)
    {
        BinaryPrimitives.WriteUInt64BigEndian(bytes, A);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[8..], B);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[16..], C);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[24..], D);
    }

    /// <summary>The first word is already uniformly distributed.</summary>
    public override int GetHashCode() => (int)A;

    /// <summary>Reads 64 hex digits; anything else is <see cref="FormatException"/>.</summary>
    public static ChunkId Parse(string hex) =>
        hex.Length == 2 * Size ? Read(Convert.FromHexString(hex)) : throw new FormatException("a chunk's identity has 64 hex digits");

    public override string ToString() => $"{A:x16}{B:x16}{C:x16}{D:x16}";
}
