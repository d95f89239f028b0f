using System.Collections.Concurrent;
using System.Globalization;
using IronKeep.Stores.Dated;

namespace IronKeep.Stores.Places;

/// <summary>
/// Answers calls to a place of this machine (<see cref="PlaceWire"/>). Whoever calls is believed in nothing: names are those of a store,
/// and so much is written and read at once. Safe for several threads.
/// </summary>
public sealed class ServedPlace(IPlace place, LocalDatedFolder? folder = null) : IDisposable
{
    private const int MostWriters = 64;
    private readonly ConcurrentDictionary<long, IPlaceWriter> writers = new();
    private readonly ServedDated? dated = folder is null ? null : new ServedDated(folder);
    private long lastWriter;

    /// <summary>Does what a call asks for; whatever goes wrong is an answer too.</summary>
    public byte[] Answer(ReadOnlySpan<byte> call)
    {
        try
        {
            var read = new PlaceWire.Reader(call);
            var to = new PlaceWire.Writer(0);
            Do((PlaceVerb)read.Byte(), ref read, to);
            return to.Written;
        }
        catch (PlaceException e)
        {
            return PlaceWire.Failed(e.Fault, e.Message);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or ObjectDisposedException)
        {
            return PlaceWire.Failed(PlaceFault.Other, e.Message);
        }
    }

    private void Do(PlaceVerb verb, ref PlaceWire.Reader read, PlaceWire.Writer to)
    {
        switch (verb)
        {
            case PlaceVerb.List:
                List(Named(read.Name(), orEmpty: true), read.Number(), to);
                break;
            case PlaceVerb.Exists:
                to.Number(place.Exists(Named(read.Name())) ? 1 : 0);
                break;
            case PlaceVerb.Read:
                to.Rest(place.Read(Named(read.Name())));
                break;
            case PlaceVerb.ReadAt:
                ReadAt(Named(read.Name()), read.Number(), read.Number(), to);
                break;
            case PlaceVerb.Create:
                to.Number(Begin(read.Number()));
                break;
            case PlaceVerb.Append:
                Writer(read.Number()).Append(read.Rest());
                break;
            case PlaceVerb.Finish:
                Finish(read.Number(), Named(read.Name()), read.Number() == 1, to);
                break;
            case PlaceVerb.GiveUp:
                if (writers.TryRemove(read.Number(), out var given))
                    given.Dispose();
                break;
            case PlaceVerb.Move:
                place.Move(Named(read.Name()), Named(read.Name()));
                break;
            case PlaceVerb.Delete:
                place.Delete(Named(read.Name()), read.Number() == 1);
                break;
            case PlaceVerb.RemoveRemnants:
                place.RemoveRemnants(TimeSpan.FromSeconds(Math.Clamp(read.Number(), 0, int.MaxValue)));
                break;
            case PlaceVerb.FreeBytes:
                to.Number(place.FreeBytes() ?? -1);
                break;
            case PlaceVerb.TotalBytes:
                to.Number(place.TotalBytes() ?? -1);
                break;
            default:
                if (dated?.Do(verb, ref read, to) == true)
                    break;
                throw new PlaceException(PlaceFault.Other, "this agent does not know what it is asked for; bring it up to date");
        }
    }

    /// <summary>A part of the list from the given file on: names and sizes, and at the end how many there are in all.</summary>
    private void List(string folder, long from, PlaceWire.Writer to)
    {
        var files = place.List(folder);
        var room = PlaceWire.MostContent;
        var part = new List<PlaceFile>();
        for (var i = (int)Math.Clamp(from, 0, files.Count); i < files.Count; i++)
        {
            // Two bytes of length and eight of size beside the name, which is of ASCII in a store.
            room -= 10 + System.Text.Encoding.UTF8.GetByteCount(files[i].Name);
            if (room < 0)
                break;
            part.Add(files[i]);
        }
        to.Number(files.Count).Number(part.Count);
        foreach (var file in part)
            to.Name(file.Name).Number(file.Size);
    }

    private void ReadAt(string name, long offset, long length, PlaceWire.Writer to)
    {
        if (offset < 0 || length is < 0 or > PlaceWire.MostContent)
            throw new PlaceException(PlaceFault.Other, $"{length} bytes from {offset} on are asked for, which nobody reads");
        var content = new byte[length];
        to.Rest(content.AsSpan(0, place.ReadAt(name, offset, content)));
    }

    private long Begin(long expected)
    {
        if (writers.Count >= MostWriters)
            throw new PlaceException(PlaceFault.Other, $"{MostWriters} files are being written at once, and that is enough");
        var number = Interlocked.Increment(ref lastWriter);
        writers[number] = place.Create(Math.Clamp(expected, 0, 1L << 40));
        return number;
    }

    private IPlaceWriter Writer(long number) =>
        writers.TryGetValue(number, out var writer)
            ? writer
            : throw new PlaceException(PlaceFault.Unreachable, "the file that is written is not known here; the agent was started anew");

    private void Finish(long number, string name, bool onlyNew, PlaceWire.Writer to)
    {
        using var writer = Writer(number);
        to.Number(writer.Finish(name, onlyNew) ? 1 : 0);
        writers.TryRemove(number, out _);
    }

    /// <summary>A name as a store has them; nothing else of the machine can be named.</summary>
    private static string Named(string name, bool orEmpty = false)
    {
        var fits =
            name.Length <= PlaceWire.MostName
            && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '/')
            && (name.Length == 0 ? orEmpty : name.Split('/').All(p => p.Length > 0 && p is not ("." or "..")));
        return fits
            ? name
            : throw new PlaceException(
                PlaceFault.Other,
                string.Create(CultureInfo.InvariantCulture, $"a name of {name.Length} letters is asked for that no store has")
            );
    }

    public void Dispose()
    {
        foreach (var number in writers.Keys)
            if (writers.TryRemove(number, out var writer))
                writer.Dispose();
    }
}
