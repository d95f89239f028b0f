using System.Buffers.Binary;
using System.Numerics;
using System.Runtime.InteropServices;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Runs.Sending;

/// <summary>
/// What a machine sent to a store: for each chunk its plain hash, the identity that it was told, and its length, in a file that only grows;
/// in memory a few bytes a chunk. Each carries the number of the last copy that had it, 0 while that is none. Safe for several threads. A
/// file that ends in the middle of a record, or in one that is damaged, ends before it.
/// </summary>
internal sealed class SentChunks : IDisposable
{
    private const int CheckAt = 2 * ChunkId.Size + 4,
        RecordSize = CheckAt + 4;
    private readonly SafeFileHandle file;
    private readonly Lock gate = new();
    private int[] slots = new int[1024];
    private uint[] tags = new uint[1024];
    private List<int> copies = [];

    public SentChunks(string path)
    {
        file = File.OpenHandle(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.Read);
        var buffer = new byte[RecordSize * 4096];
        for (long at = 0; ; )
        {
            var read = RandomAccess.Read(file, buffer, at);
            var whole = read / RecordSize;
            for (var i = 0; i < whole; i++)
            {
                var record = buffer.AsSpan(i * RecordSize, RecordSize);
                if (!IsWhole(record))
                {
                    whole = i;
                    read = 0;
                    break;
                }
                Place(ChunkId.Read(record), copies.Count);
                copies.Add(0);
            }
            at += (long)whole * RecordSize;
            if (read < buffer.Length)
            {
                RandomAccess.SetLength(file, at);
                return;
            }
        }
    }

    /// <summary>How many there are.</summary>
    public int Count
    {
        get
        {
            lock (gate)
                return copies.Count;
        }
    }

    /// <summary>Adds a chunk as one of a copy; one that is there already is told anew.</summary>
    public void Add(ChunkId print, ChunkId told, int length, int copy)
    {
        Span<byte> record = stackalloc byte[RecordSize];
        print.Write(record);
        told.Write(record[ChunkId.Size..]);
        BinaryPrimitives.WriteInt32LittleEndian(record[(2 * ChunkId.Size)..], length);
        Check(record[..CheckAt]).CopyTo(record[CheckAt..]);
        lock (gate)
        {
            var number = Find(print);
            if (number < 0)
            {
                number = copies.Count;
                copies.Add(copy);
                RandomAccess.Write(file, record, (long)number * RecordSize);
                Place(print, number);
                return;
            }
            copies[number] = copy;
            // Written over only where it says something else: a record that is half written ends the file.
            if (At(number) != (print, told, length))
                RandomAccess.Write(file, record, (long)number * RecordSize);
        }
    }

    /// <summary>The number of a chunk, or -1.</summary>
    public int NumberOf(ChunkId print)
    {
        lock (gate)
            return Find(print);
    }

    public int CopyOf(int number)
    {
        lock (gate)
            return copies[number];
    }

    public void SetCopy(int number, int copy)
    {
        lock (gate)
            copies[number] = copy;
    }

    public (ChunkId Print, ChunkId Told, int Length) At(int number)
    {
        Span<byte> record = stackalloc byte[RecordSize];
        RandomAccess.Read(file, record, (long)number * RecordSize);
        return (
            ChunkId.Read(record),
            ChunkId.Read(record[ChunkId.Size..]),
            BinaryPrimitives.ReadInt32LittleEndian(record[(2 * ChunkId.Size)..])
        );
    }

    /// <summary>The numbers of the copies, to be kept beside the file; what was added since is of none.</summary>
    public byte[] CopiesToBytes()
    {
        lock (gate)
            return MemoryMarshal.AsBytes<int>(CollectionsMarshal.AsSpan(copies)).ToArray();
    }

    public void CopiesFromBytes(ReadOnlySpan<byte> bytes)
    {
        lock (gate)
        {
            var kept = MemoryMarshal.Cast<byte, int>(bytes);
            for (var i = 0; i < Math.Min(kept.Length, copies.Count); i++)
                copies[i] = kept[i];
        }
    }

    public void Flush() => RandomAccess.FlushToDisk(file);

    public void Dispose() => file.Dispose();

    private int Find(ChunkId print)
    {
        var mask = (uint)slots.Length - 1;
        var tag = TagOf(print);
        for (var at = (uint)print.A & mask; slots[at] != 0; at = (at + 1) & mask)
            if (tags[at] == tag && At(slots[at] - 1).Print == print)
                return slots[at] - 1;
        return -1;
    }

    private void Place(ChunkId print, int number)
    {
        if (2 * (number + 1) > slots.Length)
            Grow();
        var mask = (uint)slots.Length - 1;
        var at = (uint)print.A & mask;
        while (slots[at] != 0)
            at = (at + 1) & mask;
        (slots[at], tags[at]) = (number + 1, TagOf(print));
    }

    private void Grow()
    {
        var size = (int)BitOperations.RoundUpToPowerOf2((uint)slots.Length * 2);
        (slots, tags) = (new int[size], new uint[size]);
        for (var i = 0; i < copies.Count; i++)
        {
            var print = At(i).Print;
            var at = (uint)print.A & (uint)(size - 1);
            while (slots[at] != 0)
                at = (at + 1) & (uint)(size - 1);
            (slots[at], tags[at]) = (i + 1, TagOf(print));
        }
    }

    private static uint TagOf(ChunkId print) => (uint)print.B;

    private static bool IsWhole(ReadOnlySpan<byte> record) => Check(record[..CheckAt]).SequenceEqual(record[CheckAt..]);

    private static ReadOnlySpan<byte> Check(ReadOnlySpan<byte> of)
    {
        var hash = new byte[Hashes.Size];
        Hashes.Plain(HashKind.Blake3, of, hash);
        return hash.AsSpan(0, 4);
    }
}
