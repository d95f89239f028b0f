using System.Text;

namespace IronKeep.Stores.Places;

/// <summary>
/// A place on another machine, which answers calls (<see cref="PlaceWire"/>). What it answers is believed as little as what a disk holds:
/// the store proves it.
/// </summary>
/// <param name="name">The place as people know it.</param>
/// <param name="ask">Sends a call and waits for its answer; throws <see cref="PlaceException"/>.</param>
public sealed class CalledPlace(string name, Func<byte[], byte[]> ask) : IPlace
{
    // A store of terabytes has some ten thousand files.
    private const int MostFiles = 5_000_000;

    public string Name => name;

    public PlaceAbilities Can { get; } =
        new()
        {
            Renames = true,
            PutsIfAbsent = true,
            TellsRoom = true,
        };

    public IReadOnlyList<PlaceFile> List(string folder)
    {
        var files = new List<PlaceFile>();
        while (true)
        {
            var answer = Ask(new PlaceWire.Writer((byte)PlaceVerb.List).Name(folder).Number(files.Count));
            var read = Given(answer);
            var (all, part) = (read.Number(), read.Number());
            if (all is < 0 or > MostFiles || part < 0 || part > all)
                throw Odd("lists more files than any store has");
            for (var i = 0; i < part; i++)
                files.Add(new PlaceFile(read.Name(), read.Number()));
            // One that grows while it is listed is listed as far as it went.
            if (files.Count >= all || part == 0)
                return files;
        }
    }

    public bool Exists(string name) => Given(Ask(new PlaceWire.Writer((byte)PlaceVerb.Exists).Name(name))).Number() == 1;

    public byte[] Read(string name)
    {
        var content = Given(Ask(new PlaceWire.Writer((byte)PlaceVerb.Read).Name(name))).Rest().ToArray();
        return content.Length <= Place.MostSmall ? content : throw Odd($"gives more of {name} than was asked for");
    }

    public int ReadAt(string name, long offset, Span<byte> buffer)
    {
        for (var done = 0; ; )
        {
            var want = Math.Min(buffer.Length - done, PlaceWire.MostContent);
            if (want == 0)
                return done;
            var call = new PlaceWire.Writer((byte)PlaceVerb.ReadAt).Name(name).Number(offset + done).Number(want);
            var content = Given(Ask(call)).Rest();
            if (content.Length > want)
                throw Odd($"gives more of {name} than was asked for");
            content.CopyTo(buffer[done..]);
            done += content.Length;
            if (content.Length < want)
                return done;
        }
    }

    public IPlaceWriter Create(long expected) =>
        new Writer(this, Given(Ask(new PlaceWire.Writer((byte)PlaceVerb.Create).Number(expected))).Number());

    public void Move(string from, string to) => Ask(new PlaceWire.Writer((byte)PlaceVerb.Move).Name(from).Name(to));

    public void Delete(string name, bool durable = true) =>
        Ask(new PlaceWire.Writer((byte)PlaceVerb.Delete).Name(name).Number(durable ? 1 : 0));

    public void RemoveRemnants(TimeSpan idle) => Ask(new PlaceWire.Writer((byte)PlaceVerb.RemoveRemnants).Number((long)idle.TotalSeconds));

    public long? FreeBytes() => Room(PlaceVerb.FreeBytes);

    public long? TotalBytes() => Room(PlaceVerb.TotalBytes);

    private long? Room(PlaceVerb verb) => Given(Ask(new PlaceWire.Writer((byte)verb))).Number() is >= 0 and var bytes ? bytes : null;

    internal byte[] Ask(PlaceWire.Writer call)
    {
        byte[] answer;
        try
        {
            answer = PlaceWaits.Wait(() => ask(call.Written), () => { });
        }
        catch (TimeoutException e)
        {
            throw new PlaceException(PlaceFault.Unreachable, $"{name} does not answer: {e.Message}", e);
        }
        if (answer.Length == 0 || answer[0] > 1 + (int)PlaceFault.Other)
            throw Odd("gives an answer that is none");
        return answer[0] == 0 ? answer : throw new PlaceException((PlaceFault)(answer[0] - 1), $"{name}: {Words(answer.AsSpan(1))}");
    }

    /// <summary>What a machine says is one line.</summary>
    internal static string Words(ReadOnlySpan<byte> said)
    {
        var text = Encoding.UTF8.GetString(said[..Math.Min(said.Length, 4000)]);
        return string.Concat(text.Select(c => char.IsControl(c) ? ' ' : c));
    }

    private static PlaceWire.Reader Given(byte[] answer) => new(answer.AsSpan(1));

    internal PlaceException Odd(string what) => new(PlaceFault.Other, $"{name} {what}; look whether its agent is up to date");

    private sealed class Writer(CalledPlace place, long number) : IPlaceWriter
    {
        private bool ended;

        public void Append(ReadOnlySpan<byte> content)
        {
            while (content.Length > 0)
            {
                var part = content[..Math.Min(content.Length, PlaceWire.MostContent)];
                place.Ask(new PlaceWire.Writer((byte)PlaceVerb.Append).Number(number).Rest(part));
                content = content[part.Length..];
            }
        }

        public bool Finish(string name, bool onlyNew = false)
        {
            var call = new PlaceWire.Writer((byte)PlaceVerb.Finish).Number(number).Name(name).Number(onlyNew ? 1 : 0);
            var made = Given(place.Ask(call)).Number() == 1;
            ended = true;
            return made;
        }

        public void Dispose()
        {
            if (ended)
                return;
            ended = true;
            try
            {
                place.Ask(new PlaceWire.Writer((byte)PlaceVerb.GiveUp).Number(number));
            }
            catch (PlaceException)
            {
                // Its agent tidies up when it stops, and the next store that is opened there after it.
            }
        }
    }
}
