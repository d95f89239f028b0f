using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>
/// A folder in work. Its names are taken window by window; a window's records wait until all windows before it are done, then they go
/// into the listing. Whoever ends the last of them hands the result up, so nothing waits and only open folders are in memory.
/// </summary>
internal sealed class FolderNode(
    FolderNode? parent,
    Gap? gap,
    byte[] name,
    string? relative,
    TakeTree? passing,
    ulong device,
    ContentRef? before
)
{
    private readonly Queue<Window> windows = new();
    private readonly ListingWriter listing = new();
    private ISourceFolder? handle;
    private NameList names = new();
    private PreviousListing? previous;
    private int next,
        users,
        unfinished;

    public FolderNode? Parent => parent;
    public Gap? Gap => gap;
    public byte[] Name => name;
    public TakeTree? Passing => passing;

    /// <summary>The path from what is taken, as text for the patterns; null above it.</summary>
    public string? Relative => relative;

    /// <summary>The number of the file system.</summary>
    public ulong Device => passing?.StillAt is null ? device : Facts.Device;

    public bool IsOpen => handle is not null;
    public ISourceFolder Handle => handle!;
    public FileFacts Facts { get; private set; }
    public ImmutableArray<NamedAttribute> Attributes { get; private set; } = [];
    public long Size { get; private set; }
    public long Items { get; private set; }

    /// <summary>An entry that is added to those that the folder has, in its place; null: none.</summary>
    public TreeEntry? Extra { get; init; }
    private bool extraDone;

    /// <summary>How many files the previous copy had here that are gone; whole when all names have been taken.</summary>
    public long Gone => previous?.Gone ?? 0;

    /// <summary>The path from "/" as shown, "" for the root.</summary>
    public string Path => parent is null ? "" : $"{parent.Path}/{NameText.Show(name)}";

    public string PathOf(ReadOnlySpan<byte> child) => $"{Path}/{NameText.Show(child)}";

    /// <summary>The path of something in it as bytes, without the slash in front.</summary>
    public byte[] BytesOf(ReadOnlySpan<byte> child)
    {
        var length = child.Length;
        for (var at = this; at.Parent is not null; at = at.Parent)
            length += at.Name.Length + 1;
        var bytes = new byte[length];
        child.CopyTo(bytes.AsSpan(length -= child.Length));
        for (var at = this; at.Parent is not null; at = at.Parent)
        {
            bytes[--length] = (byte)'/';
            at.Name.CopyTo(bytes.AsSpan(length -= at.Name.Length));
        }
        return bytes;
    }

    /// <summary>
    /// Opens the folder, the topmost by <paramref name="top"/>, and reads its names. Failures are <see cref="PosixException"/>.
    /// </summary>
    public void Open(
        Func<ISourceFolder> top,
        Func<ISourceFolder, NameList, NameList> choose,
        IChunkSource reader,
        Action<string> unreadable
    )
    {
        users = unfinished = 1;
        var opened = parent is null ? top() : parent.Handle.EnterSource(name);
        if (passing?.StillAt is { } still)
            using (var real = opened)
                opened = StillFolders.Open(Path, real, still);
        try
        {
            Facts = opened.Facts();
            Attributes = [.. opened.Attributes()];
            names = relative is null ? NameList.Of(passing!.Names) : choose(opened, opened.List());
            handle = opened;
        }
        catch
        {
            opened.Dispose();
            throw;
        }
        previous = before is { } content ? PreviousListing.Of(content, reader, unreadable) : null;
    }

    /// <summary>
    /// The next names with what the previous copy has of them; null when there are no more. <paramref name="more"/> tells whether others
    /// follow.
    /// </summary>
    public Window? NextWindow(IChunkSource reader, out bool more)
    {
        lock (windows)
        {
            more = false;
            if (next >= names.Count)
            {
                previous?.Finish(reader);
                return null;
            }
            var window = new Window(this, names, next, Math.Min(names.Count, next + Window.Most));
            next = window.To;
            previous?.Match(window, reader);
            windows.Enqueue(window);
            Interlocked.Increment(ref unfinished);
            Use();
            more = next < names.Count;
            if (!more)
                previous?.Finish(reader);
            return window;
        }
    }

    /// <summary>Keeps the folder's handle open until <see cref="Leave"/>.</summary>
    public void Use() => Interlocked.Increment(ref users);

    public void Leave()
    {
        if (Interlocked.Decrement(ref users) == 0)
            handle?.Dispose();
    }

    /// <summary>
    /// Ends a window, or the taking of names; true for the caller who ended the last. Then <see cref="Finish"/> gives the listing.
    /// </summary>
    public bool Release(ICopySession session)
    {
        lock (windows)
        {
            while (windows.TryPeek(out var first) && first.IsDone)
            {
                windows.Dequeue();
                Append(first, session);
            }
        }
        return Interlocked.Decrement(ref unfinished) == 0;
    }

    /// <summary>The finished listing's content.</summary>
    public ContentRef Finish(ICopySession session)
    {
        AddExtra(null, session);
        return listing.Finish(session);
    }

    /// <summary>Adds the extra entry once a name follows that stands behind it, or none does.</summary>
    private void AddExtra(byte[]? following, ICopySession session)
    {
        if (Extra is null || extraDone || (following is not null && ByteOrder.Instance.Compare(following, Extra.Name) < 0))
            return;
        if (following is not null && ByteOrder.Instance.Equals(following, Extra.Name))
            throw new RunFailedException(
                Core.Watching.FailureClass.UnsafePlace,
                $"{PathOf(following)} is there on this machine, and the copy has what steps give under that name; move it elsewhere"
            );
        extraDone = true;
        Size += Extra.Size;
        Items += Extra.Items;
        listing.Add(Extra, session);
    }

    private void Append(Window window, ICopySession session)
    {
        Size += window.Size;
        Items += window.Items;
        var at = 0;
        foreach (var waiting in window.Gaps)
        {
            Records(window.Records.Written[at..waiting.Position], session);
            at = waiting.Position;
            if (waiting.Entry is not { } entry)
                continue;
            Size += entry.Size;
            Items += entry.Kind == EntryKind.Folder ? entry.Items : 1;
            AddExtra(entry.Name, session);
            listing.Add(entry, session);
        }
        Records(window.Records.Written[at..], session);
        window.Records.Return();
        window.ForgetBefore();
    }

    private void Records(ReadOnlySpan<byte> records, ICopySession session)
    {
        while (records.Length > 0)
        {
            var before = records;
            var record = EntryRecord.Take(ref records);
            if (Extra is not null && !extraDone)
                AddExtra(EntryRecord.NameOf(record).ToArray(), session);
            listing.Add(before[..(before.Length - records.Length)], EntryRecord.NameOf(record), session);
        }
    }
}

/// <summary>The place of an entry that comes later; it stays empty when the entry is skipped.</summary>
internal sealed class Gap(Window window, int position)
{
    public Window Window => window;
    public int Position => position;
    public TreeEntry? Entry { get; set; }
}

/// <summary>Some consecutive names of a folder and the records made of them.</summary>
internal sealed class Window(FolderNode folder, NameList names, int from, int to)
{
    /// <summary>Names in a window.</summary>
    public const int Most = 512;

    private readonly (Segment? Segment, int Start, int Length)[] before = new (Segment?, int, int)[to - from];
    private readonly List<Segment> segments = [];
    private int left = 1;

    public FolderNode Folder => folder;
    public int From => from;
    public int To => to;
    public RecordBuffer Records { get; } = RecordBuffer.Rent();
    public List<Gap> Gaps { get; } = [];
    public long Size { get; set; }
    public long Items { get; set; }

    /// <summary>Files that the previous copy had too, those of them that are another, and files that it did not have.</summary>
    public long Known { get; set; }
    public long Altered { get; set; }
    public long Added { get; set; }

    /// <summary>Bytes read of files in it, until it is counted.</summary>
    public long Moved { get; set; }
    public bool IsDone => Volatile.Read(ref left) == 0;

    public ReadOnlySpan<byte> NameAt(int index) => names[index];

    public ReadOnlySpan<byte> TerminatedAt(int index) => names.Terminated(index);

    public void SetBefore(int index, Segment segment, int start, int length)
    {
        before[index - from] = (segment, start, length);
        if (segments.Count > 0 && segments[^1] == segment)
            return;
        segment.Use();
        segments.Add(segment);
    }

    /// <summary>Gives back what the previous copy lent; nothing before this may be asked for any more.</summary>
    public void ForgetBefore()
    {
        foreach (var segment in segments)
            segment.Release();
        segments.Clear();
    }

    /// <summary>The record that the previous copy has of a name, with its length in front; empty when it has none.</summary>
    public ReadOnlySpan<byte> Before(int index) =>
        before[index - from] is { Segment: { } segment } at ? segment.Bytes.Slice(at.Start, at.Length) : default;

    /// <summary>Keeps a place for an entry that comes later.</summary>
    public Gap Reserve()
    {
        Interlocked.Increment(ref left);
        var gap = new Gap(this, Records.Length);
        Gaps.Add(gap);
        return gap;
    }

    /// <summary>One thing less to wait for; true for the caller who ended the last.</summary>
    public bool Release() => Interlocked.Decrement(ref left) == 0;
}
