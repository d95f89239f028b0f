using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>
/// The names in a folder, sorted by their bytes, each ended by a zero so that system calls take it as it lies. One buffer for all,
/// because a folder may hold a million.
/// </summary>
public sealed class NameList
{
    private byte[] bytes = new byte[512];
    private int[] starts = new int[16];
    private int used;

    public int Count { get; private set; }

    /// <summary>The name without its zero.</summary>
    public ReadOnlySpan<byte> this[int index]
    {
        get
        {
            var from = bytes.AsSpan(starts[index]);
            return from[..from.IndexOf((byte)0)];
        }
    }

    /// <summary>The name with its zero.</summary>
    public ReadOnlySpan<byte> Terminated(int index)
    {
        var from = bytes.AsSpan(starts[index]);
        return from[..(from.IndexOf((byte)0) + 1)];
    }

    public static NameList Of(IEnumerable<byte[]> names)
    {
        var list = new NameList();
        foreach (var name in names)
            list.Add(name);
        list.Sort();
        return list;
    }

    internal void Add(ReadOnlySpan<byte> name)
    {
        if (used + name.Length + 1 > bytes.Length)
            Array.Resize(ref bytes, Math.Max(bytes.Length * 2, used + name.Length + 1));
        if (Count == starts.Length)
            Array.Resize(ref starts, starts.Length * 2);
        starts[Count++] = used;
        name.CopyTo(bytes.AsSpan(used));
        bytes[used + name.Length] = 0;
        used += name.Length + 1;
    }

    internal void Sort()
    {
        var held = bytes;
        starts.AsSpan(0, Count).Sort(new ByBytes(held, used));
    }

    // The zero at the end sorts a name before those that go on from it.
    private readonly struct ByBytes(byte[] bytes, int used) : IComparer<int>
    {
        public int Compare(int x, int y)
        {
            if (x == y)
                return 0;
            ref var start = ref MemoryMarshal.GetArrayDataReference(bytes);
            for (int i = x, j = y; i < used && j < used; i++, j++)
            {
                int a = System.Runtime.CompilerServices.Unsafe.Add(ref start, i),
                    b = System.Runtime.CompilerServices.Unsafe.Add(ref start, j);
                if (a != b)
                    return a - b;
                if (a == 0)
                    return 0;
            }
            return 0;
        }
    }
}
