namespace IronKeep.Stores.Places;

/// <summary>
/// A place with a line: the store may take <paramref name="most"/> bytes (null: no line), and <paramref name="reserve"/> bytes of the file
/// system stay free. Packs that would cross it fail as <see cref="PlaceFault.Full"/>; small files pass, so that a full store can still be
/// tended. All who write through it count together.
/// </summary>
public sealed class CappedPlace(IPlace place, long? most, long reserve) : IPlace, IDisposable
{
    /// <summary>Files that are begun for less than this (bytes) are not held to the line.</summary>
    private const long Large = 2 * 1024 * 1024;
    private const long LooksEvery = 4 * 1024 * 1024;
    private readonly Lock gate = new();
    private long used = -1;

    public string Name => place.Name;
    public PlaceAbilities Can => place.Can;

    public IReadOnlyList<PlaceFile> List(string folder) => place.List(folder);

    public bool Exists(string name) => place.Exists(name);

    public byte[] Read(string name) => place.Read(name);

    public int ReadAt(string name, long offset, Span<byte> buffer) => place.ReadAt(name, offset, buffer);

    public void Move(string from, string to) => place.Move(from, to);

    public void RemoveRemnants(TimeSpan idle) => place.RemoveRemnants(idle);

    public long? FreeBytes() => place.FreeBytes();

    public long? TotalBytes() => place.TotalBytes();

    public void Delete(string name, bool durable = true)
    {
        place.Delete(name, durable);
        lock (gate)
            used = -1;
    }

    public IPlaceWriter Create(long expected)
    {
        if (expected < Large)
            return place.Create(expected);
        // Room that is taken beforehand would already lie beyond the line.
        var ahead = most is null && (reserve == 0 || place.FreeBytes() is not { } free || free - expected > reserve);
        return new Writer(this, place.Create(ahead ? expected : 0));
    }

    public void Dispose() => (place as IDisposable)?.Dispose();

    private void Claim(long bytes, ref long unseen)
    {
        if (most is { } line)
        {
            lock (gate)
            {
                if (used < 0)
                    used = place.List("").Where(f => f.Name != Pooled.Ballast.FileName).Sum(f => f.Size);
                if (used + bytes > line)
                    throw new PlaceException(
                        PlaceFault.Full,
                        $"the store at {Name} may take {line} bytes by its capacity and reserve, and {used} are used: what is to be stored "
                            + $"does not fit"
                    );
                used += bytes;
            }
        }
        if (reserve == 0 || (unseen -= bytes) > 0)
            return;
        unseen = LooksEvery;
        if (place.FreeBytes() is { } free && free - bytes < reserve)
            throw new PlaceException(
                PlaceFault.Full,
                $"the file system of the store at {Name} has {free} bytes free, and {reserve} are to stay free"
            );
    }

    private sealed class Writer(CappedPlace capped, IPlaceWriter file) : IPlaceWriter
    {
        private long claimed,
            unseen;
        private bool finished;

        public void Append(ReadOnlySpan<byte> content)
        {
            capped.Claim(content.Length, ref unseen);
            claimed += content.Length;
            file.Append(content);
        }

        public bool Finish(string name, bool onlyNew) => finished = file.Finish(name, onlyNew);

        public void Dispose()
        {
            file.Dispose();
            if (finished)
                return;
            lock (capped.gate)
                if (capped.used >= 0)
                    capped.used -= claimed;
        }
    }
}
