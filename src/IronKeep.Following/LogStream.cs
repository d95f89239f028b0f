using System.Collections.Immutable;
using IronKeep.Core.Watching.Logs;
using IronKeep.Stores.Posix;
using NodaTime;

namespace IronKeep.Following;

/// <summary>
/// The lines that are written under one name, through all the files that bear it one after the other. A run can begin in one file and end
/// in the next.
/// </summary>
internal sealed class LogStream
{
    private const int Piece = 256 * 1024;
    private const int MostSeen = 64;
    private const long MostAtOnce = 64L * 1024 * 1024;
    private readonly FollowedFolder folder;
    private readonly byte[] nameBytes;
    private readonly LogRules rules;
    private readonly StreamState before;
    private readonly LogReader reader;
    private readonly LogText kept = new();
    private readonly List<FoundRun> found = [];

    // Which file the reader's lines are of, from which line on; and how many lines of that file were before.
    private readonly List<(long From, FollowedFile File, long Lines)> origins = [];
    private readonly List<FollowedFile> open = [];

    // Files that were read to their end, so that none is read again under another name.
    private readonly List<FollowedFile> seen = [];
    private readonly byte[] bytes = new byte[Piece];
    private readonly char[] text = new char[LogDecoder.MostOf(Piece)];
    private LogDecoder decoder = new();
    private FollowedFile? current;
    private byte[] last = [];
    private long offset;
    private long grownAt;
    private long next;
    private string? toldOpen;
    private bool begun,
        settled;
    private FileTime changedAt;

    public LogStream(string name, FollowedFolder folder, LogRules rules, DateTimeZone zone, StreamState before)
    {
        (Name, nameBytes, this.folder, this.rules, this.before, next) = (
            name,
            System.Text.Encoding.UTF8.GetBytes(name),
            folder,
            rules,
            before,
            before.Next
        );
        seen.AddRange(before.Seen);
        reader = new LogReader(rules, zone, Instant.MinValue, Over) { Text = kept };
    }

    public string Name { get; }

    /// <summary>Whether the last reading came upon anything new.</summary>
    public bool IsTouched { get; private set; } = true;

    /// <summary>
    /// What to keep. A file in which nothing was written yet cannot be told from another: it is found anew, under the same serial.
    /// </summary>
    public StreamState State =>
        !begun
            ? before
            : new StreamState([.. open.Where(f => f.HeadLength > 0)], [.. seen], open.Find(f => f.HeadLength == 0)?.Serial ?? next);

    public IEnumerable<FoundRun> Read(Instant now, List<string> problems)
    {
        found.Clear();
        IsTouched = true;
        reader.Now = now;
        var facts = folder.Facts(nameBytes);
        if (facts is { Kind: EntryKind.Symlink })
            problems.Add($"{Name} is a symbolic link, which is never followed; name the file that it leads to");
        else if (!begun)
            Begin(now, facts, problems);
        else if (IsAtEnd(facts))
        {
            IsTouched = Quiet(now);
            if (!IsTouched)
                return found;
        }
        else
            GoOn(now, facts, problems);
        if (reader.Open is { } run && rules.HasBegins && IdOf(run) is var id && id != toldOpen)
        {
            toldOpen = id;
            found.Add(new FoundRun(id, run, false, "", false));
        }
        return found;
    }

    private void Over(LogRun run) => found.Add(new FoundRun(IdOf(run), run, true, kept.ToString(), kept.IsCut));

    /// <summary>The file in which a run's first line stands, and that line: the same however often it is read.</summary>
    private string IdOf(LogRun run)
    {
        var origin = origins.FindLast(o => o.From < run.FirstLine);
        return $"{Name} {origin.File?.Mark ?? "?"}:{run.FirstLine - origin.From + origin.Lines}";
    }

    /// <summary>Whether a reading would come upon nothing: nothing was written, and no run is over for that.</summary>
    public bool IsStill(Instant now) => begun && IsAtEnd(folder.Facts(nameBytes)) && !IsQuietOver(now);

    private bool IsAtEnd(FileFacts? facts) =>
        facts is { } now && current is { } at && now.Size == offset && (now.Device, now.Inode) == (at.Device, at.Inode);

    private bool IsQuietOver(Instant now) =>
        reader.Open is not null && !rules.HasEnds && now.ToUnixTimeSeconds() - grownAt >= rules.QuietAfter.ToDuration().TotalSeconds;

    /// <summary>Whether nothing was written for so long that the run is over.</summary>
    private bool Quiet(Instant now)
    {
        if (!IsQuietOver(now))
            return false;
        reader.Finish();
        Settle();
        return true;
    }

    /// <summary>Takes up where another has left off; or, where nobody was, with what is there.</summary>
    private void Begin(Instant now, FileFacts? facts, List<string> problems)
    {
        var entries = folder.List(Name);
        foreach (var file in before.Open)
        {
            if (Find(file, entries) is { } entry)
                Take(file, entry, now);
            else if (file.Offset > 0)
                problems.Add($"{file.Name} is gone: what was written to it last may not have been read");
        }
        begun = true;
        if (current is not null || seen.Count > 0)
        {
            GoOn(now, facts, problems);
            return;
        }
        // What is new to us: the last of it, within limits.
        var oldest = (now - LogFollower.OldestBacklog).ToUnixTimeSeconds();
        foreach (var entry in Predecessors(entries))
            TryTake(entry, now, problems, reads: entry.Facts.Modified.Seconds >= oldest);
        if (facts is not { Kind: EntryKind.File } first)
            return;
        var main = new Entry(Name, first);
        Take(New(main) with { Offset = Math.Max(0, first.Size - LogFollower.MostBacklog) }, main, now);
    }

    private void GoOn(Instant now, FileFacts? facts, List<string> problems)
    {
        // Where nothing was made, renamed or removed in the folder, nothing was rotated.
        var changed = folder.Changed;
        var quiet = settled && changed == changedAt;
        (changedAt, settled) = (changed, DateTimeOffset.UtcNow - changed.ToDateTimeOffset() > TimeSpan.FromSeconds(2));
        if (
            quiet
            && current is { } at
            && facts is { } f
            && (f.Device, f.Inode) == (at.Device, at.Inode)
            && new Entry(Name, f) is var main
            && folder.Holds(main, Here(at))
        )
        {
            Feed(main, now);
            return;
        }
        var entries = folder.List(Name);
        if (current is { HeadLength: 0 } empty)
        {
            origins.RemoveAll(o => o.File.Serial == empty.Serial);
            open.RemoveAll(o => o.Serial == empty.Serial);
            (next, current, offset) = (empty.Serial, null, 0);
        }
        if (current is { } was)
        {
            // Renamed, or cut short or replaced: what it had before is in the file under another name, or in a copy of it.
            var old = Find(was, entries);
            if (old is not null)
                Feed(old, now);
            if (old?.Name == Name)
                return;
            if (old is null && offset > 0)
                problems.Add($"{Name} was replaced, and the file that it was is gone: what was written to it last may not have been read");
        }
        // What came and went since the last look, the oldest first.
        foreach (var unseen in Predecessors(entries).Where(e => !IsSeen(e)).ToList())
            TryTake(unseen, now, problems);
        if (facts is not { Kind: EntryKind.File } there)
            return;
        var newest = new Entry(Name, there);
        Take(New(newest), newest, now);
    }

    /// <summary>The file that is read, with the place up to which it was.</summary>
    private FollowedFile Here(FollowedFile file) => file with { Offset = offset, Tail = FollowedFolder.HashOf(last) };

    private bool IsSeen(Entry entry) => seen.Concat(open).Any(s => s.HeadLength > 0 ? folder.Holds(entry, s) : IsSame(entry, s));

    /// <summary>By its inode, which a file that was made later can have got as well: what was compressed is always another.</summary>
    private static bool IsSame(Entry entry, FollowedFile file) =>
        !entry.IsCompressed && (entry.Facts.Device, entry.Facts.Inode) == (file.Device, file.Inode);

    /// <summary>The file itself under whatever name, or a copy of it, compressed or not, that holds all that was read of it.</summary>
    private Entry? Find(FollowedFile file, List<Entry> entries)
    {
        if (file == current)
            file = Here(file);
        // Under another name it is itself. What is under its old name may be a new file with its inode, or the same one cut short, that
        // begins alike: then there is one before that nobody has read to its end, and of several the oldest is meant.
        var before = Predecessors(entries).ToList();
        return before.Find(e => IsSame(e, file) && folder.Holds(e, file))
            ?? (
                file.HeadLength == 0
                    ? null
                    : before.Find(e =>
                        folder.Holds(e, file)
                        && !seen.Exists(s => s.Serial != file.Serial && s.Offset >= file.Offset && s.HeadLength > 0 && folder.Holds(e, s))
                    )
            )
            ?? entries.Find(e => e.Name == Name && IsSame(e, file) && folder.Holds(e, file));
    }

    /// <summary>Files that bore the name before, the oldest first.</summary>
    private IEnumerable<Entry> Predecessors(List<Entry> entries) =>
        entries
            .Where(e =>
                e.Name != Name
                && e.Facts.Kind == EntryKind.File
                && e.Name.Length > Name.Length
                && e.Name.StartsWith(Name, StringComparison.Ordinal)
            )
            .OrderBy(e => e.Facts.Modified.Seconds)
            .ThenByDescending(e => NumberOf(e.Name))
            .ThenBy(e => e.Facts.Modified.Nanoseconds);

    /// <summary>
    /// "log.3", "log.3.gz": the number of a rotation, the oldest the highest; times of compressed files may have lost their fractions.
    /// </summary>
    private int NumberOf(string name) =>
        int.TryParse(
            name[(Name.Length + 1)..].Split('.')[0],
            System.Globalization.NumberStyles.None,
            System.Globalization.CultureInfo.InvariantCulture,
            out var number
        )
        && number < 100_000
            ? number
            : 0;

    private FollowedFile New(Entry entry)
    {
        var (head, length) = folder.HeadOf(entry);
        return new FollowedFile(next++, entry.Facts.Device, entry.Facts.Inode, entry.Name, 0, 0, head, length, FollowedFolder.HashOf([]));
    }

    /// <summary>Goes over to another file, and reads it from where it says.</summary>
    private void Take(FollowedFile file, Entry entry, Instant now)
    {
        // A last line without an end ends with its file.
        reader.Flush();
        if (current is { HeadLength: > 0 })
            See(Here(current));
        (current, offset, decoder, last) = (file, file.Offset, new LogDecoder(), folder.LastBefore(entry, file.Offset));
        origins.Add((reader.Lines, file, file.Lines));
        open.Add(file);
        Feed(entry, now);
    }

    /// <summary>A file of before; one that is broken keeps the log from nobody, and is named for as long as it is there.</summary>
    private void TryTake(Entry entry, Instant now, List<string> problems, bool reads = true)
    {
        var serial = next;
        try
        {
            var file = New(entry);
            if (reads)
                Take(file, entry, now);
            else
                See(file);
        }
        catch (Exception e) when (e is InvalidDataException or EndOfStreamException or ZstdSharp.ZstdException)
        {
            next = serial;
            problems.Add($"{entry.Name} is broken and cannot be read to its end: {e.Message}; mend it, or take it out of the folder");
        }
    }

    private void See(FollowedFile file)
    {
        seen.RemoveAll(s => s.Serial == file.Serial);
        seen.Add(file);
        if (seen.Count > MostSeen)
            seen.RemoveAt(0);
    }

    private void Feed(Entry entry, Instant now)
    {
        using var stream = folder.Open(entry, offset);
        if (stream is null)
            return;
        // A short head says little; it grows with the file.
        if (current!.HeadLength < 256 && !entry.IsCompressed && folder.HeadOf(entry) is var (head, length) && length > current.HeadLength)
            Rename(current with { Head = head, HeadLength = length });
        // What is written to still is read on with the next look; of a file that is over nobody comes back for the rest.
        var most = entry.Name == Name ? MostAtOnce : long.MaxValue;
        for (long read = 0; read < most && stream.Read(bytes) is > 0 and var count; read += count)
        {
            reader.Feed(text.AsSpan(0, decoder.Decode(bytes.AsSpan(0, count), text)));
            offset += count;
            last =
                count >= FollowedFolder.MostTail
                    ? bytes[(count - FollowedFolder.MostTail)..count]
                    : [.. last.Concat(bytes.Take(count)).TakeLast(FollowedFolder.MostTail)];
            grownAt = now.ToUnixTimeSeconds();
            if (reader.IsBetween)
                Settle();
        }
        _ = Quiet(now);
    }

    private void Rename(FollowedFile file)
    {
        for (var i = 0; i < origins.Count; i++)
            if (origins[i].File.Serial == file.Serial)
                origins[i] = origins[i] with { File = file };
        if (open.Count > 0)
            open[^1] = file with { Offset = open[^1].Offset, Lines = open[^1].Lines, Tail = open[^1].Tail };
        current = file;
    }

    /// <summary>Everything up to here is over: what was before need not be read again.</summary>
    private void Settle()
    {
        var origin = origins[^1];
        open.Clear();
        open.Add(Here(current!) with { Lines = reader.Lines - origin.From + origin.Lines });
        origins.RemoveRange(0, origins.Count - 1);
    }
}
