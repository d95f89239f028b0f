using System.Globalization;
using IronKeep.Core.Dated;
using IronKeep.Stores.Healing;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;
using NodaTime;
using NodaTime.Extensions;

namespace IronKeep.Stores.Dated;

/// <summary>
/// A folder of dated files that something else writes, as a store. Nothing is touched that the name pattern does not match exactly, no link
/// is followed, and a file that changed since the last look stays where it is. Source: docs/semantics.md, section 10 (Dated files).
/// </summary>
public sealed partial class DatedStore(
    IDatedFolder folder,
    IPlace place,
    DatedFiles terms,
    DateTimeZone zone,
    IFileMemory memory,
    TimeProvider clock
) : IStoreLayout
{
    /// <summary>What begins so is the service's own, and the bin's folder.</summary>
    public const string Own = ".ironkeep",
        Bin = ".ironkeep-bin/";
    private const string BinName = ".ironkeep-bin",
        StampForm = "yyyyMMdd'-'HHmmss";
    private readonly Lock gate = new();
    private readonly DateTimeZone zone = terms.Zone ?? zone;
    private Dictionary<string, FileMark> marks = [];
    private Dictionary<string, DatedName> names = [];
    private long version = -1;

    /// <summary>Whether the last look could not be had; then whoever asks looks himself.</summary>
    private volatile bool away;
    private DatedLook last = new(new Dictionary<string, DatedCopy>(), [], 0);

    private static readonly LayoutAbilities WithBin = new() { HasBin = true, PartWord = "file" },
        ToLookAt = new() { PartWord = "file" };

    /// <summary>One in a folder of this machine.</summary>
    public DatedStore(string folder, DatedFiles terms, DateTimeZone zone, IFileMemory memory, TimeProvider clock)
        : this(new LocalDatedFolder(folder), new FolderPlace(folder), terms, zone, memory, clock) { }

    public LayoutAbilities Can => WhyNotWritable is null ? WithBin : ToLookAt;

    /// <summary>Why nothing can be moved in the folder; null when it can.</summary>
    public string? WhyNotWritable => folder.WhyNotWritable;

    public string Id => $"dated-files {folder.Name}";
    public string Encryption => "none";
    public IPlace Place => place;

    /// <summary>What the last look found.</summary>
    public DatedLook Last
    {
        get
        {
            lock (gate)
                return last;
        }
    }

    public void CheckStillThere()
    {
        using var root = folder.Open();
        // One that is answered for elsewhere is there when it answers.
        _ = root.Facts(BinName);
        if (away)
            Look();
    }

    /// <summary>Looks over the folder: what came, changed, settled and went is remembered.</summary>
    public DatedLook Look()
    {
        lock (gate)
        {
            // Another service may look at the same time: what it kept is read, and looked at once more.
            away = true;
            for (var tries = 0; tries < 5; tries++)
            {
                if (TryLook() is not { } look)
                    continue;
                away = false;
                return last = look;
            }
            throw new PlaceException(
                PlaceFault.InUse,
                $"the folder {folder.Name} is looked over by several services at once, over and over; are they of one catalogue?"
            );
        }
    }

    private DatedLook? TryLook()
    {
        Recall();
        var now = clock.GetUtcNow();
        var walk = new DatedWalk(terms.Name, path => names.GetValueOrDefault(path));
        List<NamedFile> inForce,
            inBin;
        bool hasBin;
        try
        {
            using var root = folder.Open();
            inForce = [.. walk.In(root)];
            inBin = [.. WalkBin(root)];
            hasBin = root.Facts(BinName) is not null;
        }
        catch (PlaceException e) when (e.Fault is not PlaceFault.Unreachable)
        {
            throw new PlaceException(e.Fault, $"the folder {folder.Name} of dated files cannot be looked over: {e.Message}", e);
        }
        var known = marks.Values.Count(m => m.IsCopy && !m.Path.StartsWith(Bin, StringComparison.Ordinal));
        // A bin of ours says that the disk is there.
        if (known > 0 && !walk.AnyEntry && !hasBin)
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"the folder {folder.Name} is empty, and {known} {(known == 1 ? "copy was" : "copies were")} in it: its disk is not "
                    + $"mounted, or somebody removed them all; mount it, or put any file there if they are really gone"
            );
        var (seen, kept, read) = (new Dictionary<string, FileMark>(), new List<FileMark>(), new Dictionary<string, DatedName>());
        foreach (var file in inForce)
            Keep(file, Seen(file, now));
        foreach (var file in inBin)
            Keep(file, SeenInBin(file, now, seen));
        var forgotten = marks.Keys.Where(p => !seen.ContainsKey(p)).ToList();
        if (kept.Count + forgotten.Count > 0)
        {
            if (memory.Save(version, kept, forgotten) is not { } next)
                return null;
            version = next;
        }
        (marks, names) = (seen, read);
        return Compose(inForce, inBin, now, walk.Others);

        void Keep(NamedFile file, FileMark mark)
        {
            (seen[file.Path], read[file.Path]) = (mark, file.Name);
            if (!marks.TryGetValue(file.Path, out var before) || before != mark)
                kept.Add(mark);
        }
    }

    private void Recall()
    {
        var (newest, loaded) = memory.Load(version);
        if (loaded is null)
            return;
        (version, marks) = (newest, loaded.ToDictionary(m => m.Path));
    }

    private FileMark Seen(NamedFile file, DateTimeOffset now)
    {
        var fresh = new FileMark(file.Path, file.Facts.Size, FileMark.Nanoseconds(file.Facts.Modified), now);
        if (!marks.TryGetValue(file.Path, out var mark))
            return fresh;
        // A clock that was set back begins the waiting anew.
        if (mark.Since > now)
            mark = mark with { Since = now };
        if (!mark.Is(file.Facts))
            return fresh with { IsCopy = mark.IsCopy, Changed = mark.IsCopy };
        return mark.IsCopy || IsSteady(mark, file.Facts, now) ? mark with { IsCopy = true } : mark;
    }

    /// <summary>Unchanged between two looks, and for as long as files of the store take to settle.</summary>
    private bool IsSteady(FileMark mark, FileFacts facts, DateTimeOffset now)
    {
        var settles = terms.SettledAfter.ToDuration().ToTimeSpan();
        if (now - mark.Since >= settles && now > mark.Since)
            return true;
        var touched =
            facts.Modified.ToDateTimeOffset() is var modified && facts.Changed.ToDateTimeOffset() is var changed && modified > changed
                ? modified
                : changed;
        return now > mark.Since && now - touched >= settles;
    }

    /// <summary>
    /// What lies in the bin without having been sent there, and was a copy in force, is somebody else's doing; what nobody knows went there
    /// just now.
    /// </summary>
    private FileMark SeenInBin(NamedFile file, DateTimeOffset now, Dictionary<string, FileMark> seen)
    {
        var (size, modified) = (file.Facts.Size, FileMark.Nanoseconds(file.Facts.Modified));
        if (marks.TryGetValue(file.Path, out var mark))
            return mark.Is(file.Facts) ? mark : mark with { Size = size, Modified = modified, Sum = null, SumAt = null, Since = now };
        var before = RestOf(file.Path);
        var displaced = marks.TryGetValue(before, out var known) && known.IsCopy && !seen.ContainsKey(before);
        return new FileMark(file.Path, size, modified, now)
        {
            IsCopy = true,
            Binned = displaced ? null : now,
            Sum = displaced ? known!.Sum : null,
            SumAt = displaced ? known!.SumAt : null,
        };
    }

    private DatedLook Compose(List<NamedFile> inForce, List<NamedFile> inBin, DateTimeOffset now, long others)
    {
        var copies = new Dictionary<string, DatedCopy>();
        var unsettled = new List<DatedCopy>();
        foreach (var file in inForce)
        {
            var mark = marks[file.Path];
            var copy = new DatedCopy(file.Path, mark, file.Name, Taken(file), IsSteady(mark, file.Facts, now));
            if (mark.IsCopy)
                copies[file.Path] = copy;
            else
                unsettled.Add(copy);
        }
        var inUse = inForce.Select(f => f.Path).ToHashSet();
        foreach (var file in inBin.OrderByDescending(f => f.Path, StringComparer.Ordinal))
        {
            var (mark, rest) = (marks[file.Path], RestOf(file.Path));
            var id = copies.ContainsKey(rest) || inUse.Contains(rest) ? $"{rest}@{StampOf(file.Path)}" : rest;
            copies.TryAdd(id, new DatedCopy(id, mark, file.Name, Taken(file), true));
        }
        return new DatedLook(copies, unsettled, others);

        DateTimeOffset Taken(NamedFile file) =>
            file.Name.TakenIn(zone, file.Facts.Modified.ToDateTimeOffset().ToInstant()).ToDateTimeOffset();
    }

    private IEnumerable<NamedFile> WalkBin(IDatedRoot root)
    {
        if (root.Facts(BinName) is not { Kind: EntryKind.Folder })
            yield break;
        foreach (var stamp in root.List(BinName) ?? [])
        {
            if (
                stamp is not { Name: { } name, Facts.Kind: EntryKind.Folder }
                || !DateTime.TryParseExact(name, StampForm, CultureInfo.InvariantCulture, DateTimeStyles.None, out _)
            )
                continue;
            foreach (var file in new DatedWalk(terms.Name).In(root, $"{Bin}{name}/"))
                yield return file with
                {
                    Path = $"{Bin}{name}/{file.Path}",
                };
        }
    }

    private static string StampOf(string binned) => binned[Bin.Length..binned.IndexOf('/', Bin.Length)];

    private static string RestOf(string binned) => binned[(binned.IndexOf('/', Bin.Length) + 1)..];

    public long UsedBytes()
    {
        lock (gate)
        {
            if (version < 0)
                Look();
            return marks.Values.Sum(m => m.Size);
        }
    }

    public (IReadOnlySet<string> InForce, IReadOnlySet<string> InBin) CopyNames()
    {
        var look = Look();
        return (
            look.Copies.Values.Where(c => !c.IsInBin).Select(c => c.Id).ToHashSet(),
            look.Copies.Values.Where(c => c.IsInBin).Select(c => c.Id).ToHashSet()
        );
    }

    public StoreContents ReadContents() => new([.. Look().Copies.Values.OrderBy(c => c.Taken).Select(Stored)], []);

    public StoredCopy? ReadCopy(string id) => Find(id) is { } copy ? Stored(copy) : null;

    public CopyRecord? ReadRecord(string id) => ReadCopy(id)?.Record;

    private DatedCopy? Find(string id)
    {
        lock (gate)
        {
            if (version < 0)
                Look();
            return last.Copies.GetValueOrDefault(id);
        }
    }

    private static StoredCopy Stored(DatedCopy copy) =>
        new(
            new CopyRecord(
                copy.Id,
                copy.Name.Job ?? "",
                copy.Name.Machine ?? "",
                copy.Taken,
                ModifiedOf(copy.Mark),
                [],
                1,
                copy.Mark.Size,
                0,
                0,
                []
            )
            {
                StoredBytes = copy.Mark.Size,
                NewBytes = copy.Mark.Size,
                Kind = copy.Name.Kind,
            },
            copy.Binned
        )
        {
            File = copy.Mark.Path,
            Displaced = copy.IsInBin && copy.Binned is null,
        };

    private static DateTimeOffset ModifiedOf(FileMark mark) => DateTimeOffset.UnixEpoch.AddTicks(mark.Modified / 100);

    /// <summary>Nothing is written beside what others write: what was settled about a copy is in the catalogue alone.</summary>
    public CopyNote Note(string id, DateTimeOffset now, Func<CopyNote, CopyNote> change) => change(new CopyNote(id, now));

    /// <summary>Somebody was told that these changed.</summary>
    public void ToldOfChanges(IEnumerable<string> ids)
    {
        lock (gate)
        {
            var told = ids.Select(i => last.Copies.GetValueOrDefault(i))
                .OfType<DatedCopy>()
                .Select(c => marks.GetValueOrDefault(c.Mark.Path))
                .OfType<FileMark>()
                .Select(m => m with { Changed = false })
                .ToList();
            Remember(told);
        }
    }

    /// <summary>Keeps what is new of marks; when somebody else has saved meanwhile, the next look finds the same again.</summary>
    private bool Remember(List<FileMark> changed)
    {
        if (changed.Count == 0)
            return true;
        if (memory.Save(version, changed, []) is not { } next)
            return false;
        version = next;
        foreach (var mark in changed)
            marks[mark.Path] = mark;
        return true;
    }

    public HealReport Heal(IReadOnlyList<IStoreLayout> others, CancellationToken cancel) => throw Not();

    public TreeEntry? Find(CopyRecord record, IReadOnlyList<byte[]> path) => throw Not();

    public List<TreeEntry> ReadFolder(TreeEntry folder) => throw Not();

    public FolderDifferences Compare(TreeEntry? before, TreeEntry? after, int most, TimeSpan patience, CancellationToken cancel) =>
        throw Not();

    public byte[] ReadFile(TreeEntry file, CancellationToken cancel) => throw Not();

    public TreeSearch Search(string pattern, int most, TimeSpan patience) => throw Not();

    public (long Written, long LeftOut) WriteArchive(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string file,
        RestoreManner manner,
        CancellationToken cancel
    ) => throw Not();

    public void WriteArchive(CopyRecord record, IReadOnlyList<string> paths, Stream output, bool compress, CancellationToken cancel) =>
        throw Not();

    public (long Files, RestoreReport Report) WriteBag(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        RestoreManner manner,
        CancellationToken cancel
    ) => throw Not();

    private static NotSupportedException Not() => new("a dated file is one whole file that something else wrote; nobody looks into it");

    public void Dispose() { }
}
