using System.Collections.Immutable;
using IronKeep.Core.Watching.Logs;
using IronKeep.Stores.Posix;
using NodaTime;

namespace IronKeep.Following;

/// <summary>
/// The lines that are written under one name, through all the files that bear it one after the other. A run can begin in one file and end in the next.
/// </summary>
internal sealed class LogStream
{
    private const int Piece = 256 * 1024;
    private const long MostAtOnce = 64L * 1024 * 1024;
    private readonly FollowedFolder folder;
    private readonly LogRules rules;
    private readonly ImmutableArray<FollowedFile> known;
    private readonly long lookedBefore;
    private readonly LogReader reader;
    private readonly LogText kept = new();
    private readonly List<FoundRun> found = [];

    // Which file the reader's lines are of, from which line on; and how many lines of that file were before.
    private readonly List<(long From, FollowedFile File, long Lines)> origins = [];
    private readonly List<FollowedFile> open = [];
    private readonly byte[] bytes = new byte[Piece];
    private readonly char[] text = new char[LogDecoder.MostOf(Piece)];
    private LogDecoder decoder = new();
    private FollowedFile? current;
    private long offset;
    private long grownAt;
    private string? toldOpen;
    private bool begun;

    public LogStream(string name, FollowedFolder folder, LogRules rules, DateTimeZone zone, ImmutableArray<FollowedFile> known, long lookedBefore)
    {
        (Name, this.folder, this.rules, this.known, this.lookedBefore) = (name, folder, rules, known, lookedBefore);
        reader = new LogReader(rules, zone, Instant.MinValue, Over) { Text = kept };
    }

    public string Name { get; }

    /// <summary>From where to read again: files that are not over.</summary>
    public ImmutableArray<FollowedFile> Files => begun ? [.. open] : known;

    public IEnumerable<FoundRun> Read(Instant now, List<string> problems)
    {
        found.Clear();
        reader.Now = now;
        var facts = folder.Facts(Name);
        if (facts is { Kind: EntryKind.Symlink }) problems.Add($"{Name} is a symbolic link, which is never followed; name the file that it leads to");
        else if (!begun) Begin(now, facts);
        else if (facts is { } is_ && current is { } at && (is_.Device, is_.Inode) == (at.Device, at.Inode) && is_.Size == offset) Quiet(now);
        else GoOn(now, facts, problems);
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
        return $"{origin.File?.Mark ?? "?"}:{run.FirstLine - origin.From + origin.Lines}";
    }

    /// <summary>Nothing was written for so long that the run is over.</summary>
    private void Quiet(Instant now)
    {
        if (reader.Open is null || rules.HasEnds || now.ToUnixTimeSeconds() - grownAt < rules.QuietAfter.ToDuration().TotalSeconds) return;
        reader.Finish();
        Settle();
    }

    /// <summary>Takes up where another has left off; or, where nobody was, with what is there.</summary>
    private void Begin(Instant now, FileFacts? facts)
    {
        var entries = folder.List(Name);
        foreach (var file in known)
        {
            if (Find(file, entries) is not { } entry) continue;
            Take(file, entry, now, file.Offset, file.Lines);
        }
        begun = true;
        if (known.Length > 0)
        {
            if (facts is { } there) GoOn(now, there, []);
            return;
        }
        // What is new to us: the last of it, within limits.
        foreach (var entry in Predecessors(entries).Where(e => e.Facts.Modified.Seconds >= (now - LogFollower.OldestBacklog).ToUnixTimeSeconds())) Take(Known(entry, 0), entry, now, 0, 0);
        if (facts is { Kind: EntryKind.File } first) Take(Known(new Entry(Name, first), 0), new Entry(Name, first), now, Math.Max(0, first.Size - LogFollower.MostBacklog), 0);
    }

    private void GoOn(Instant now, FileFacts? facts, List<string> problems)
    {
        var entries = new Lazy<List<Entry>>(() => folder.List(Name));
        if (current is { } at)
        {
            var same = facts is { } f && (f.Device, f.Inode) == (at.Device, at.Inode);
            var entry = same ? new Entry(Name, facts!.Value) : null;
            if (same && facts!.Value.Size >= offset && folder.Begins(entry!, at))
            {
                Feed(entry!, now);
                return;
            }
            // Cut short or replaced: what it had before is in a copy of it, or in the file under another name.
            var old = same ? entries.Value.Find(e => e.Facts.Inode != at.Inode && folder.Begins(e, at)) : Find(at, entries.Value);
            if (old is not null) Feed(old, now);
            else if (offset > 0 && !same) problems.Add($"{Name} was replaced, and the file that it was is gone: what was written to it last may not have been read");
            if (facts is null) return;
            var newer = same ? at with { Generation = at.Generation + 1 } : null;
            foreach (var unseen in Predecessors(entries.Value).Where(e => e != old && !IsKnown(e) && e.Facts.Modified.Seconds >= Math.Max(lookedBefore, grownAt) - 1 && e.Facts.Inode != at.Inode)) Take(Known(unseen, 0), unseen, now, 0, 0);
            var next = new Entry(Name, facts.Value);
            Take(Known(next, newer?.Generation ?? 0), next, now, 0, 0);
        }
        else if (facts is { Kind: EntryKind.File } there) Take(Known(new Entry(Name, there), 0), new Entry(Name, there), now, 0, 0);
    }

    private bool IsKnown(Entry entry) => origins.Exists(o => (o.File.Device, o.File.Inode) == (entry.Facts.Device, entry.Facts.Inode) || (entry.IsCompressed && folder.Begins(entry, o.File)));

    /// <summary>The file itself under whatever name, or what it was compressed to.</summary>
    private Entry? Find(FollowedFile file, List<Entry> entries) =>
        entries.Find(e => (e.Facts.Device, e.Facts.Inode) == (file.Device, file.Inode) && e.Facts.Kind == EntryKind.File && (file.HeadLength == 0 || folder.Begins(e, file))) ?? entries.Find(e => e.Name != Name && folder.Begins(e, file));

    /// <summary>Files that bore the name before, the oldest first.</summary>
    private IEnumerable<Entry> Predecessors(List<Entry> entries) => entries.Where(e => e.Name != Name && e.Facts.Kind == EntryKind.File && e.Name.Length > Name.Length && e.Name.StartsWith(Name, StringComparison.Ordinal)).OrderBy(e => e.Facts.Modified.Seconds).ThenBy(e => e.Facts.Modified.Nanoseconds);

    private FollowedFile Known(Entry entry, int generation)
    {
        var (head, length) = folder.HeadOf(entry);
        return new FollowedFile(entry.Facts.Device, entry.Facts.Inode, generation, entry.Name, 0, 0, head, length);
    }

    /// <summary>Goes over to another file, and reads it.</summary>
    private void Take(FollowedFile file, Entry entry, Instant now, long from, long lines)
    {
        // A last line without an end ends with its file.
        reader.Flush();
        (current, offset, decoder) = (file, from, new LogDecoder());
        origins.Add((reader.Lines, file, lines));
        open.Add(file with { Offset = from, Lines = lines });
        Feed(entry, now);
    }

    private void Feed(Entry entry, Instant now)
    {
        using var stream = folder.Open(entry, offset);
        if (stream is null) return;
        // A short head says little; it grows with the file.
        if (current!.HeadLength < 256 && !entry.IsCompressed && folder.HeadOf(entry) is var (head, length) && length > current.HeadLength) Rename(current with { Head = head, HeadLength = length });
        for (long read = 0; read < MostAtOnce && stream.Read(bytes) is > 0 and var count; read += count)
        {
            reader.Feed(text.AsSpan(0, decoder.Decode(bytes.AsSpan(0, count), text)));
            offset += count;
            grownAt = now.ToUnixTimeSeconds();
            if (reader.IsBetween) Settle();
        }
        if (reader.Open is null || rules.HasEnds) return;
        Quiet(now);
    }

    private void Rename(FollowedFile file)
    {
        for (var i = 0; i < origins.Count; i++)
            if (origins[i].File == current) origins[i] = origins[i] with { File = file };
        if (open.Count > 0) open[^1] = file with { Offset = open[^1].Offset, Lines = open[^1].Lines };
        current = file;
    }

    /// <summary>Everything up to here is over: what was before need not be read again.</summary>
    private void Settle()
    {
        var last = origins[^1];
        open.Clear();
        open.Add(current! with { Offset = offset, Lines = reader.Lines - last.From + last.Lines });
        origins.RemoveRange(0, origins.Count - 1);
    }
}
