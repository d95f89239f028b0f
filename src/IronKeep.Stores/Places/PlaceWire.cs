using System.Buffers;
using System.Buffers.Binary;
using System.Text;

namespace IronKeep.Stores.Places;

/// <summary>What is asked of a place over a line.</summary>
public enum PlaceVerb : byte
{
    List = 1,
    Exists = 2,
    Read = 3,
    ReadAt = 4,
    Create = 5,
    Append = 6,
    Finish = 7,
    GiveUp = 8,
    Move = 9,
    Delete = 10,
    RemoveRemnants = 11,
    FreeBytes = 12,
    TotalBytes = 13,

    // Of folders of dated files.
    DatedWritable = 20,
    DatedList = 21,
    DatedFacts = 22,
    DatedReadAt = 23,
    DatedHash = 24,
    DatedMove = 25,
    DatedRemove = 26,
    DatedRemoveFolder = 27,
}

/// <summary>
/// How calls to a place travel, little endian. A call: its verb (1 byte), then what the verb takes: names as length (2) and UTF-8, numbers
/// as 8 bytes, bytes as the rest. An answer: 0 and what the verb gives, or 1 more than the fault (<see cref="PlaceFault"/>) and why, as
/// UTF-8. Source: docs/sending.md (A store on a machine).
/// </summary>
public static class PlaceWire
{
    /// <summary>The most bytes of a file in one call or answer, and the most of either with what stands around them.</summary>
    public const int MostContent = 4 * 1024 * 1024,
        Most = MostContent + 64 * 1024;

    /// <summary>The longest name.</summary>
    internal const int MostName = 4096;

    internal sealed class Writer
    {
        private readonly ArrayBufferWriter<byte> to = new();

        public Writer(byte first) => to.Write([first]);

        public Writer Number(long number)
        {
            BinaryPrimitives.WriteInt64LittleEndian(to.GetSpan(8), number);
            to.Advance(8);
            return this;
        }

        public Writer Name(string name)
        {
            var bytes = Encoding.UTF8.GetBytes(name);
            BinaryPrimitives.WriteUInt16LittleEndian(to.GetSpan(2), checked((ushort)bytes.Length));
            to.Advance(2);
            to.Write(bytes);
            return this;
        }

        public Writer Rest(ReadOnlySpan<byte> rest)
        {
            to.Write(rest);
            return this;
        }

        public byte[] Written => to.WrittenSpan.ToArray();
    }

    /// <summary>Reads what came; anything that is not as it should be is a <see cref="PlaceException"/>.</summary>
    internal ref struct Reader(ReadOnlySpan<byte> from)
    {
        private ReadOnlySpan<byte> left = from;

        public byte Byte() => Take(1)[0];

        public long Number() => BinaryPrimitives.ReadInt64LittleEndian(Take(8));

        public string Name() => Encoding.UTF8.GetString(Take(BinaryPrimitives.ReadUInt16LittleEndian(Take(2))));

        public ReadOnlySpan<byte> Rest() => Take(left.Length);

        public readonly bool IsOver => left.IsEmpty;

        private ReadOnlySpan<byte> Take(int length)
        {
            if (length > left.Length)
                throw new PlaceException(PlaceFault.Other, "what came over the line is cut off");
            var taken = left[..length];
            left = left[length..];
            return taken;
        }
    }

    internal static byte[] Failed(PlaceFault fault, string why) =>
        new Writer((byte)(1 + (int)fault)).Rest(Encoding.UTF8.GetBytes(why.Length > 2000 ? why[..2000] : why)).Written;
}
