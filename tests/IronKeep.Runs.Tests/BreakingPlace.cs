using IronKeep.Stores.Places;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A place that breaks down at its n-th change: before it, in the middle of it (half of the bytes written, not under their name), after
/// it, when the caller never learns that it happened, or because there is no room left. Then the process "dies": nothing more goes
/// through.
/// </summary>
internal sealed class BreakingPlace(string folder, int breaksAt, int how) : IPlace
{
    private readonly FolderPlace inner = new(folder);
    private readonly int how = how;
    private int changes;

    public bool Broken { get; private set; }

    public string Name => inner.Name;
    public IReadOnlyList<PlaceFile> List(string folder) => Alive().List(folder);
    public bool Exists(string name) => Alive().Exists(name);
    public byte[] Read(string name) => Alive().Read(name);
    public int ReadAt(string name, long offset, Span<byte> buffer) => Alive().ReadAt(name, offset, buffer);
    public void RemoveRemnants(TimeSpan idle) => Alive().RemoveRemnants(idle);
    public long? FreeBytes() => Alive().FreeBytes();
    public IPlaceWriter Create(long expected) => new Writer(this, Alive().Create(expected));

    public void Move(string from, string to) => Change(() => inner.Move(from, to));

    public void Delete(string name, bool durable = true) => Change(() => inner.Delete(name, durable));

    private void Change(Action act)
    {
        var breaks = Breaks();
        if (!breaks || how == 2) act();
        if (breaks) throw Gone();
    }

    private FolderPlace Alive() => Broken ? throw Gone() : inner;

    private bool Breaks()
    {
        if (Broken) throw Gone();
        return Broken = Interlocked.Increment(ref changes) >= breaksAt;
    }

    private PlaceException Gone() => new(how == 3 ? PlaceFault.Full : PlaceFault.Other, "broken down on purpose");

    private sealed class Writer(BreakingPlace place, IPlaceWriter file) : IPlaceWriter
    {
        public void Append(ReadOnlySpan<byte> content)
        {
            if (place.Breaks())
            {
                if (place.how > 0) file.Append(content[..(content.Length / 2)]);
                throw place.Gone();
            }
            file.Append(content);
        }

        public void Finish(string name) => place.Change(() => file.Finish(name));

        public void Dispose()
        {
            // A process that died removes nothing.
            if (!place.Broken) file.Dispose();
        }
    }
}
