using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>
/// A folder of dated files on a machine whose agent answers for it. A listing that has not changed does not travel again. What the machine
/// says is believed of itself alone.
/// </summary>
public sealed class CalledDatedFolder(CalledPlace place) : IDatedFolder
{
    // More than any folder has, and than are remembered, or gone through at once.
    private const int MostEntries = 200_000,
        MostKnown = 1_000_000,
        MostAtOnce = 5_000_000;
    private readonly Lock door = new();
    private readonly Dictionary<string, (byte[] Mark, IReadOnlyList<FolderEntry> Entries)> known = [];
    private long remembered;

    public string Name => place.Name;

    public string? WhyNotWritable
    {
        get
        {
            try
            {
                var said = Given(place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedWritable))).Rest();
                return said.IsEmpty ? null : CalledPlace.Words(said);
            }
            catch (PlaceException e)
            {
                return e.Message;
            }
        }
    }

    public IDatedRoot Open() => new Root(this);

    private static PlaceWire.Reader Given(byte[] answer) => new(answer.AsSpan(1));

    private IReadOnlyList<FolderEntry>? List(string folder, Action<long, long> lies)
    {
        (byte[] Mark, IReadOnlyList<FolderEntry> Entries) before;
        lock (door)
            before = known.GetValueOrDefault(folder, ([], []));
        var entries = new List<FolderEntry>();
        while (true)
        {
            var call = new PlaceWire.Writer((byte)PlaceVerb.DatedList).Name(folder).Number(entries.Count);
            var read = Given(place.Ask(call.Rest(entries.Count == 0 ? before.Mark : [])));
            lies(read.Number(), read.Number());
            var all = read.Number();
            if (all < 0)
                return null;
            var part = read.Number();
            if (part < 0)
                return entries.Count == 0 ? before.Entries : throw place.Odd("lists a folder in no order");
            if (all > MostEntries || part > all - entries.Count)
                throw place.Odd("lists more files than any folder has");
            for (var i = 0; i < part; i++)
            {
                var name = read.Name();
                entries.Add(new FolderEntry(Named(name), read.Facts()));
            }
            // A listing that is short would make copies vanish.
            if (entries.Count < all)
            {
                if (part == 0)
                    throw place.Odd("lists a folder in part");
                continue;
            }
            lock (door)
            {
                if (remembered > MostKnown)
                    known.Clear();
                known[folder] = (read.Rest().ToArray(), entries);
                remembered = known.Values.Sum(k => 1L + k.Entries.Count);
            }
            return entries;
        }
    }

    /// <summary>A name, or null for one that is no text; one that leads elsewhere is none that a folder has.</summary>
    private string? Named(string name) =>
        name == DatedWire.NoText ? null
        : name.Length == 0 || name is "." or ".." || name.Contains('/') || name.Contains('\0')
            ? throw place.Odd("lists a name that no file has")
        : name;

    private sealed class Root(CalledDatedFolder folder) : IDatedRoot
    {
        private readonly CalledPlace place = folder.Place;
        private long listed;
        private (long Device, long Inode)? lies;

        public IReadOnlyList<FolderEntry>? List(string path)
        {
            var entries = folder.List(path, Lies);
            if ((listed += 1 + (entries?.Count ?? 0)) > MostAtOnce)
                throw place.Odd("lists more files than any store has");
            return entries;
        }

        /// <summary>What is listed must be one and the same folder: a disk that goes meanwhile leaves another in its place.</summary>
        private void Lies(long device, long inode)
        {
            lies ??= (device, inode);
            if (lies != (device, inode))
                throw new PlaceException(
                    PlaceFault.Unreachable,
                    $"{place.Name} became another folder while it was looked over; was its disk unmounted? It is looked over again"
                );
        }

        public FileFacts? Facts(string path)
        {
            var read = Given(place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedFacts).Name(path)));
            return read.IsOver ? null : read.Facts();
        }

        public ISourceFile OpenFile(string path) => new CalledFile(this, path);

        public int ReadAt(string path, Span<byte> buffer, long offset)
        {
            for (var done = 0; ; )
            {
                var want = Math.Min(buffer.Length - done, PlaceWire.MostContent);
                if (want == 0)
                    return done;
                var call = new PlaceWire.Writer((byte)PlaceVerb.DatedReadAt).Name(path).Number(offset + done).Number(want);
                var content = Given(place.Ask(call)).Rest();
                if (content.Length > want)
                    throw place.Odd($"gives more of {path} than was asked for");
                content.CopyTo(buffer[done..]);
                done += content.Length;
                if (content.Length < want)
                    return done;
            }
        }

        public HashedFile Hash(string path, Action<long>? progress, CancellationToken cancel)
        {
            cancel.ThrowIfCancellationRequested();
            var read = Given(place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedHash).Name(path)));
            var (before, after) = (read.Facts(), read.Facts());
            var sum = read.Name();
            if (sum.Length != 64 || !sum.All(char.IsAsciiHexDigitLower))
                throw place.Odd($"gives a sum of {path} that is none");
            progress?.Invoke(after.Size);
            return new HashedFile(sum, before, after);
        }

        public void Move(string from, string to) => place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedMove).Name(from).Name(to));

        public void Remove(string path) => place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedRemove).Name(path));

        public bool RemoveFolder(string path) =>
            Given(place.Ask(new PlaceWire.Writer((byte)PlaceVerb.DatedRemoveFolder).Name(path))).Number() == 1;

        public void Dispose() { }
    }

    private CalledPlace Place => place;

    private sealed class CalledFile(Root root, string path) : ISourceFile
    {
        public FileFacts Facts() => root.Facts(path) ?? throw new PlaceException(PlaceFault.NotFound, $"{path} is gone");

        public int Read(Span<byte> buffer, long offset) => root.ReadAt(path, buffer, offset);

        public List<Extent>? Extents(long size, int most) => null;

        public List<NamedAttribute> Attributes() => [];

        public void Dispose() { }
    }
}
