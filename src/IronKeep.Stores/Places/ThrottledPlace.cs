namespace IronKeep.Stores.Places;

/// <summary>
/// A place under ceilings of bytes a second, up and down (null: none). Every caller waits as long as what has gone through is ahead of
/// its time; half a second of unused room is saved up.
/// </summary>
public sealed class ThrottledPlace(IPlace place, long? upload, long? download, TimeProvider? clock = null) : IPlace, IDisposable
{
    private readonly Pace up = new(upload, clock ?? TimeProvider.System);
    private readonly Pace down = new(download, clock ?? TimeProvider.System);

    public string Name => place.Name;
    public PlaceAbilities Can => place.Can;

    public IReadOnlyList<PlaceFile> List(string folder) => place.List(folder);

    public bool Exists(string name) => place.Exists(name);

    public byte[] Read(string name)
    {
        var bytes = place.Read(name);
        down.Passed(bytes.Length);
        return bytes;
    }

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        var read = place.ReadAt(name, offset, buffer);
        down.Passed(read);
        return read;
    }

    public IPlaceWriter Create(long expected) => new Writer(place.Create(expected), up);

    public void Move(string from, string to) => place.Move(from, to);

    public void Delete(string name, bool durable = true) => place.Delete(name, durable);

    public void RemoveRemnants(TimeSpan idle) => place.RemoveRemnants(idle);

    public long? FreeBytes() => place.FreeBytes();

    public long? TotalBytes() => place.TotalBytes();

    public void Dispose() => (place as IDisposable)?.Dispose();

    private sealed class Writer(IPlaceWriter file, Pace up) : IPlaceWriter
    {
        private const int Piece = 64 * 1024;

        public void Append(ReadOnlySpan<byte> content)
        {
            for (; content.Length > 0; content = content[Math.Min(Piece, content.Length)..])
            {
                var piece = content[..Math.Min(Piece, content.Length)];
                file.Append(up.IsFree ? content : piece);
                if (up.IsFree)
                    return;
                up.Passed(piece.Length);
            }
        }

        public bool Finish(string name, bool onlyNew) => file.Finish(name, onlyNew);

        public void Dispose() => file.Dispose();
    }

    /// <summary>When the next byte may pass, if so many a second may.</summary>
    private sealed class Pace(long? ceiling, TimeProvider clock)
    {
        private const double Saved = 0.5;
        private readonly Lock gate = new();
        private readonly long began = clock.GetTimestamp();
        private double owed;

        public bool IsFree => ceiling is null;

        public void Passed(long bytes)
        {
            if (ceiling is not { } most || bytes == 0)
                return;
            double wait;
            lock (gate)
            {
                var now = clock.GetElapsedTime(began).TotalSeconds;
                owed = Math.Max(owed, now - Saved) + (double)bytes / most;
                wait = owed - now;
            }
            if (wait <= 0)
                return;
            // Whoever is stopped only puts away what is in hand, and waits for nothing.
            Task.Delay(TimeSpan.FromSeconds(wait), clock, PlaceWaits.Token)
                .ContinueWith(_ => { }, TaskScheduler.Default)
                .Wait(CancellationToken.None);
        }
    }
}
