using IronKeep.Stores.Places;

namespace IronKeep.Runs.Tests;

/// <summary>A place that lets something happen between a listing and its answer.</summary>
internal sealed class HookedPlace(IPlace inner) : IPlace
{
    /// <summary>Called after every listing with its folder, before who asked has the answer.</summary>
    public Action<string>? Listed { get; set; }

    /// <summary>Called before every move with the name that a file is to have.</summary>
    public Action<string>? Moves { get; set; }

    /// <summary>Called once, after the next listing of the packs.</summary>
    public Action? AfterListing { get; set; }

    public string Name => inner.Name;
    public PlaceAbilities Can => inner.Can;

    public IReadOnlyList<PlaceFile> List(string folder)
    {
        var files = inner.List(folder);
        Listed?.Invoke(folder);
        if (folder == "packs" && AfterListing is { } hook)
        {
            AfterListing = null;
            hook();
        }
        return files;
    }

    public bool Exists(string name) => inner.Exists(name);

    public byte[] Read(string name) => inner.Read(name);

    public int ReadAt(string name, long offset, Span<byte> buffer) => inner.ReadAt(name, offset, buffer);

    public IPlaceWriter Create(long expected) => inner.Create(expected);

    public void Move(string from, string to)
    {
        Moves?.Invoke(to);
        inner.Move(from, to);
    }

    public void Delete(string name, bool durable = true) => inner.Delete(name, durable);

    public void RemoveRemnants(TimeSpan idle) => inner.RemoveRemnants(idle);

    public long? FreeBytes() => inner.FreeBytes();
}
