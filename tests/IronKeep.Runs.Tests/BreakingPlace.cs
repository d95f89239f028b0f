using IronKeep.Stores.Places;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A place that breaks down at its n-th change: before it (0), in the middle of it (1: half of the bytes written, not under their name),
/// after it, when the caller never learns that it happened (2), or because there is no room left (3). Then the process "dies": nothing
/// more goes through. Or the place vanishes before the change and is back a few calls later (4), while the process goes on.
/// </summary>
internal sealed class BreakingPlace(string folder, int breaksAt, int how) : IPlace
{
    public const int Ways = 5;
    private const int Vanishes = 4,
        CallsAway = 6;
    private readonly FolderPlace inner = new(folder);
    private readonly int how = how;
    private int changes,
        away;

    public bool Broken { get; private set; }

    private bool IsDead => Broken && how != Vanishes;

    public string Name => inner.Name;
    public PlaceAbilities Can => inner.Can;

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
        if (!breaks || how == 2)
            act();
        if (breaks)
            throw Gone();
    }

    private FolderPlace Alive() => IsDead || Interlocked.Decrement(ref away) >= 0 ? throw Gone() : inner;

    private bool Breaks()
    {
        _ = Alive();
        if (Interlocked.Increment(ref changes) < breaksAt || Broken)
            return false;
        away = how == Vanishes ? CallsAway : 0;
        return Broken = true;
    }

    private PlaceException Gone() =>
        new(
            how switch
            {
                3 => PlaceFault.Full,
                Vanishes => PlaceFault.Unreachable,
                _ => PlaceFault.Other,
            },
            "broken down on purpose"
        );

    private sealed class Writer(BreakingPlace place, IPlaceWriter file) : IPlaceWriter
    {
        public void Append(ReadOnlySpan<byte> content)
        {
            if (place.Breaks())
            {
                if (place.how is > 0 and < Vanishes)
                    file.Append(content[..(content.Length / 2)]);
                throw place.Gone();
            }
            file.Append(content);
        }

        public bool Finish(string name, bool onlyNew)
        {
            var done = false;
            place.Change(() => done = file.Finish(name, onlyNew));
            return done;
        }

        public void Dispose()
        {
            // A process that died removes nothing.
            if (!place.IsDead)
                file.Dispose();
        }
    }
}
