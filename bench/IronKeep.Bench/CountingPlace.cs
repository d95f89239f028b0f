using IronKeep.Stores.Places;

namespace IronKeep.Bench;

/// <summary>A place that counts the bytes read from it.</summary>
internal sealed class CountingPlace(IPlace place) : IPlace
{
    private long read;

    public string Name => place.Name;
    public PlaceAbilities Can => place.Can;

    /// <summary>Bytes read so far.</summary>
    public long Read() => Interlocked.Read(ref read);

    public IReadOnlyList<PlaceFile> List(string folder) => place.List(folder);

    public bool Exists(string name) => place.Exists(name);

    public byte[] Read(string name)
    {
        var bytes = place.Read(name);
        Interlocked.Add(ref read, bytes.Length);
        return bytes;
    }

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        var count = place.ReadAt(name, offset, buffer);
        Interlocked.Add(ref read, count);
        return count;
    }

    public IPlaceWriter Create(long expected) => place.Create(expected);

    public void Move(string from, string to) => place.Move(from, to);

    public void Delete(string name, bool durable = true) => place.Delete(name, durable);

    public void RemoveRemnants(TimeSpan idle) => place.RemoveRemnants(idle);

    public long? FreeBytes() => place.FreeBytes();
}
