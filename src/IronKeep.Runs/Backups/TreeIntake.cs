using System.Text;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Stores;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>
/// Takes the sources of an order into a writing session: one worker a core, each taking windows of folders, and whole files from
/// reading to packing. Memory does not grow with the tree: only folders on the way from the root to where the workers are, and
/// their windows.
/// </summary>
internal sealed class TreeIntake(
    ICopySession session,
    BackupOrder order,
    TreeEntry? streams,
    RunFigures figures,
    RunLog log,
    CancellationToken cancel
)
{
    private const int Attempts = 3;
    private const long MostTriedAgain = 16 * 1024 * 1024;
    private readonly Owners owners = new();
    private readonly LeaveOuts leaveOuts = new(order.LeavesOut);
    private readonly WorkStack<Work> stack = new();
    private readonly Func<ChunkId, int, bool> holds = session.CountsOn;
    private TreeEntry? root;
    private Exception? failure;

    /// <summary>A folder of which the next window is to be taken, or a stretch of a big file.</summary>
    private readonly record struct Work(FolderNode? Folder, BigFile? File, int Stretch);

    /// <summary>Does the work and gives the entry of "/", which has what came of streams too.</summary>
    public TreeEntry Take()
    {
        var takes = TakeTree.Of(order.Takes, order.StillAt);
        var top = new FolderNode(null, null, [], takes.Taken ? "" : null, takes, 0, order.Previous?.RootContent()) { Extra = streams };
        stack.Push(new Work(top, null, 0));
        var workers = Enumerable
            .Range(0, session.TakesWholeFiles ? 1 : Environment.ProcessorCount)
            .Select(_ => Task.Factory.StartNew(Worker, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default))
            .ToArray();
        Task.WaitAll(workers, CancellationToken.None);
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
        cancel.ThrowIfCancellationRequested();
        figures.Settle();
        return root!;
    }

    private void Worker()
    {
        try
        {
            using var reader = session.OpenSource();
            using var intake = new FileIntake(session.OpenLane(), figures);
            while (stack.TryTake(out var work))
            {
                cancel.ThrowIfCancellationRequested();
                if (work.File is { } file)
                    Stretch(file, work.Stretch, intake);
                else
                    Folder(work.Folder!, reader, intake);
                stack.Done();
            }
        }
        catch (Exception e)
        {
            failure ??= e;
            stack.Stop();
        }
    }

    private void Folder(FolderNode node, IChunkSource reader, FileIntake intake)
    {
        if (!node.IsOpen && !Open(node, reader))
            return;
        var window = node.NextWindow(reader, out var more);
        // Others may take the next window while this one is worked on; folders found in it come first.
        if (more)
            stack.Push(new Work(node, null, 0));
        if (window is not null)
            Window(window, reader, intake);
        if (more)
            return;
        figures.Gone(node.Gone);
        node.Leave();
        Released(node);
    }

    private bool Open(FolderNode node, IChunkSource reader)
    {
        try
        {
            node.Open(order.Top ?? (() => OpenFolder.AtPath("/")), LeaveCacheFolderOut, reader, why =>
                log(LogSeverity.Info, $"{node.Path}/: the listing in the previous copy cannot be read ({why}); its files are read anew")
            );
            node.Parent?.Leave();
            return true;
        }
        catch (PosixException e)
        {
            if (node.Passing is not null)
                throw new RunFailedException(
                    e.AccessDenied ? FailureClass.AccessRefused : FailureClass.SourceUnreadable,
                    $"{node.Path}/: {e.Message}",
                    e
                );
            Skip(node.Path + "/", e);
            node.Parent!.Leave();
            WindowReleased(node.Gap!.Window);
            return false;
        }
    }

    /// <summary>
    /// Of a folder that says it is a cache (see the specification of cache directory tagging) only the tag is taken, when the order says
    /// so.
    /// </summary>
    private NameList LeaveCacheFolderOut(ISourceFolder folder, NameList names)
    {
        if (!order.LeavesOutCaches || !folder.FactsOfTerminated("CACHEDIR.TAG\0"u8, out var facts) || facts.Kind != EntryKind.File)
            return names;
        var signature = "Signature: 8a477f597d28d172789f06886806bc55"u8;
        Span<byte> begin = stackalloc byte[signature.Length];
        using var tag = folder.OpenSource("CACHEDIR.TAG"u8);
        return tag.Read(begin, 0) == begin.Length && begin.SequenceEqual(signature) ? NameList.Of(["CACHEDIR.TAG"u8.ToArray()]) : names;
    }

    private void Window(Window window, IChunkSource reader, FileIntake intake)
    {
        Span<byte> header = stackalloc byte[EntryRecord.HeaderSize];
        header.Clear();
        var node = window.Folder;
        var folders = new List<FolderNode>();
        for (var i = window.From; i < window.To; i++)
        {
            var passing = node.Passing?.Below(window.NameAt(i).ToArray());
            try
            {
                if (!node.Handle.FactsOfTerminated(window.TerminatedAt(i), out var facts))
                {
                    if (passing is not null)
                        throw new RunFailedException(FailureClass.SourceUnreadable, $"{node.PathOf(window.NameAt(i))} does not exist");
                    continue;
                }
                // What is to be taken is a folder or a file, and what leads there a folder: anything else would be a copy without it.
                if (passing is not null && facts.Kind != EntryKind.Folder && !(passing.Taken && facts.Kind == EntryKind.File))
                    throw new RunFailedException(
                        FailureClass.SourceUnreadable,
                        $"{node.PathOf(window.NameAt(i))} is a {Kebab.Of(facts.Kind)} now, "
                            + $"{(passing.Taken ? "neither a folder nor a file" : "and no folder that leads to what is taken")}; look what "
                            + $"became of it"
                    );
                var relative = RelativeOf(node, window.NameAt(i), passing);
                if (relative is { Length: > 0 } && leaveOuts.Any && leaveOuts.Matches(relative, facts.Kind == EntryKind.Folder))
                    continue;
                var before = window.Before(i);
                if (facts.Kind == EntryKind.Folder)
                {
                    if (Below(window, i, facts, relative, passing, before) is { } below)
                        folders.Add(below);
                    continue;
                }
                if (facts.Kind == EntryKind.File && before.Length > 0)
                    window.Known++;
                else if (facts.Kind == EntryKind.File)
                    window.Added++;
                EntryRecord.WriteHeader(header, facts);
                if (before.Length > 0 && Unchanged(before, header))
                    Keep(window, before, facts);
                else
                    Changed(window, window.NameAt(i).ToArray(), facts, before, reader, intake);
            }
            catch (PosixException e)
            {
                var path = node.PathOf(window.NameAt(i));
                if (passing is not null)
                    throw new RunFailedException(FailureClass.SourceUnreadable, $"{path}: {e.Message}", e);
                if (e.NotFound)
                    log(LogSeverity.Info, $"{path} vanished before it was read");
                else
                    Skip(path, e);
            }
        }
        figures.Add(window.Items, window.Size);
        figures.Move(-window.Moved);
        figures.Known(window.Known);
        figures.Altered(window.Altered);
        figures.Added(window.Added);
        for (var i = folders.Count - 1; i >= 0; i--)
            stack.Push(new Work(folders[i], null, 0));
        node.Leave();
        WindowReleased(window);
    }

    private string? RelativeOf(FolderNode node, ReadOnlySpan<byte> name, TakeTree? passing)
    {
        // Below a taken folder the relative path grows; at the taken entry itself it starts empty.
        if (node.Relative is null)
            return passing!.Taken ? "" : null;
        if (!leaveOuts.Any)
            return "";
        return node.Relative.Length == 0 ? Encoding.UTF8.GetString(name) : $"{node.Relative}/{Encoding.UTF8.GetString(name)}";
    }

    private bool Unchanged(ReadOnlySpan<byte> before, ReadOnlySpan<byte> header)
    {
        if (session.TakesEverything)
            return false;
        var record = before[4..];
        return EntryRecord.HeaderOf(record).SequenceEqual(header) && EntryRecord.ContentHeld(record, holds);
    }

    private static void Keep(Window window, ReadOnlySpan<byte> before, in FileFacts facts)
    {
        window.Records.Append(before);
        window.Items++;
        if (facts.Kind == EntryKind.File)
            window.Size += facts.Size;
    }

    private FolderNode? Below(Window window, int index, in FileFacts facts, string? relative, TakeTree? passing, ReadOnlySpan<byte> before)
    {
        var node = window.Folder;
        var name = window.NameAt(index).ToArray();
        var device = node.Relative is null ? facts.Device : node.Device;
        if (facts.Device != device && !order.AllFileSystems)
        {
            log(LogSeverity.Info, $"{node.PathOf(name)} is another file system and is not entered; name it under 'takes' to back it up");
            Add(window, Entry(facts, name));
            return null;
        }
        ContentRef? content =
            before.Length > 0 && EntryRecord.KindOf(before[4..]) == EntryKind.Folder ? EntryRecord.ContentOf(before[4..]) : null;
        node.Use();
        return new FolderNode(node, window.Reserve(), name, relative, passing, facts.Device, content);
    }

    private void Changed(Window window, byte[] name, in FileFacts facts, ReadOnlySpan<byte> before, IChunkSource reader, FileIntake intake)
    {
        var handle = window.Folder.Handle;
        switch (facts.Kind)
        {
            case EntryKind.File:
                ContentRef? was =
                    before.Length > 0 && EntryRecord.KindOf(before[4..]) == EntryKind.File ? EntryRecord.ContentOf(before[4..]) : null;
                var known = was is { } content ? CutsBefore.Of(content, facts.Size, session, reader) : null;
                File(window, name, was, known, intake);
                break;
            case EntryKind.Symlink:
                Add(window, Entry(facts, name) with { LinkTarget = handle.ReadLink(name), Attributes = [.. handle.Attributes(name)] });
                break;
            case EntryKind.Socket:
                log(LogSeverity.Info, $"{window.Folder.PathOf(name)} is a socket and is left out; the program that listens makes it anew");
                break;
            default:
                Add(window, Entry(facts, name) with { Node = facts.Node, Attributes = [.. handle.Attributes(name)] });
                break;
        }
    }

    /// <summary>
    /// Reads a file until two looks at its attributes, before and after, agree; at most three times. A big one is shared out.
    /// </summary>
    private void File(Window window, byte[] name, ContentRef? was, CutsBefore? before, FileIntake intake)
    {
        for (var attempt = 1; ; attempt++)
        {
            var file = window.Folder.Handle.OpenSource(name);
            var shared = false;
            try
            {
                var facts = file.Facts();
                if (facts.Kind != EntryKind.File)
                    throw new PosixException(2, "is no longer a file");
                var content = new FileContent(file, facts);
                if (content.Length > ContentCutter.Stretch && !session.TakesWholeFiles)
                {
                    shared = true;
                    Share(new BigFile(window.Reserve(), name, file, facts, content, was, before));
                    return;
                }
                if (session.TakesWholeFiles)
                {
                    var announced = Entry(facts, name) with { Attributes = [.. Fitting(file.Attributes())] };
                    if (session.BeginFile(window.Folder.BytesOf(name), announced, content.Extents) is { } twin)
                    {
                        if (was is { } then && then != twin.Content)
                            window.Altered++;
                        Add(window, twin with { Name = name });
                        return;
                    }
                }
                var chunks = intake.Take(content, 0, content.Length, before, out var read, cancel);
                window.Moved += read;
                var torn = read != content.Length || Differs(facts, file.Facts());
                // An archive has every try in it: of a large file one is enough.
                if (torn && attempt < Attempts && !(session.TakesWholeFiles && content.Length > MostTriedAgain))
                {
                    session.EndFile(null);
                    continue;
                }
                if (torn)
                    Warn(
                        $"{window.Folder.PathOf(name)} changed while it was read{(attempt > 1 ? ", three times" : "")}; its copy "
                            + $"may mix old and new content"
                    );
                var entry = EntryOf(facts, name, file, content, read, chunks, intake.Lane, window.Folder);
                session.EndFile(entry);
                figures.FileRead();
                if (was is { } one && one != entry.Content)
                    window.Altered++;
                Add(window, entry);
                return;
            }
            finally
            {
                if (!shared)
                    file.Dispose();
            }
        }
    }

    private void Share(BigFile file)
    {
        for (var i = file.Stretches - 1; i >= 0; i--)
            stack.Push(new Work(null, file, i));
    }

    private void Stretch(BigFile file, int stretch, FileIntake intake)
    {
        if (!file.Take(stretch, intake, cancel))
            return;
        var window = file.Gap.Window;
        var path = window.Folder.PathOf(file.Name);
        using (file.File)
        {
            if (file.Failure is { } e)
                Skip(path, e);
            else
            {
                if (file.Read != file.Content.Length || Differs(file.Facts, file.File.Facts()))
                    Warn($"{path} changed while it was read; its copy may mix old and new content");
                figures.FileRead();
                figures.Add(1, file.Facts.Size);
                figures.Move(-file.Read);
                file.Gap.Entry = EntryOf(
                    file.Facts,
                    file.Name,
                    file.File,
                    file.Content,
                    file.Read,
                    file.Chunks,
                    intake.Lane,
                    window.Folder
                );
                if (file.Was is { } was && was != file.Gap.Entry.Content)
                    figures.Altered(1);
            }
        }
        WindowReleased(window);
    }

    private static bool Differs(in FileFacts before, in FileFacts after) =>
        after.Size != before.Size || after.Modified != before.Modified || after.Changed != before.Changed;

    private TreeEntry EntryOf(
        in FileFacts facts,
        byte[] name,
        ISourceFile file,
        FileContent content,
        long read,
        List<ChunkId> chunks,
        IChunkLane lane,
        FolderNode folder
    )
    {
        var found = file.Attributes();
        var attributes = Fitting(found);
        if (attributes.Count < found.Count)
            Warn(
                $"{folder.PathOf(name)} has extended attributes of more than {EntryRecord.MostAttributeBytes / 1024} KiB, which are left "
                    + $"out"
            );
        // A file that shrank ends where its reading ended.
        var whole = read == content.Length;
        return Entry(facts, name) with
        {
            Size = whole ? facts.Size : read,
            Content = lane.Refer(chunks),
            Extents = whole ? content.Extents : null,
            Attributes = [.. attributes],
        };
    }

    private static IReadOnlyList<NamedAttribute> Fitting(IReadOnlyList<NamedAttribute> attributes) =>
        attributes.Sum(a => (long)a.Name.Length + a.Value.Length) > EntryRecord.MostAttributeBytes ? [] : attributes;

    private static void Add(Window window, TreeEntry entry)
    {
        EntryRecord.Write(window.Records, entry);
        window.Items++;
        if (entry.Kind == EntryKind.File)
            window.Size += entry.Size;
    }

    private void WindowReleased(Window window)
    {
        if (window.Release())
            Released(window.Folder);
    }

    /// <summary>Ends a part of a folder, and goes up as long as that ends the folder above too.</summary>
    private void Released(FolderNode node)
    {
        for (var at = node; at.Release(session); )
        {
            var entry = Entry(at.Facts, at.Name) with
            {
                Size = at.Size,
                Items = at.Items,
                Content = at.Finish(session),
                Attributes = at.Attributes,
            };
            if (at.Parent is null)
            {
                root = entry;
                return;
            }
            at.Gap!.Entry = entry;
            var window = at.Gap.Window;
            if (!window.Release())
                return;
            at = window.Folder;
        }
    }

    private TreeEntry Entry(in FileFacts facts, byte[] name) =>
        new(
            facts.Kind,
            name,
            facts.Mode,
            facts.User,
            facts.Group,
            facts.Links,
            facts.Modified,
            facts.Changed,
            facts.Inode,
            facts.Device,
            facts.Kind == EntryKind.File ? facts.Size
                : facts.Kind == EntryKind.Symlink ? facts.Size
                : 0,
            ContentRef.Empty,
            0,
            owners.User(facts.User),
            owners.Group(facts.Group),
            0,
            [],
            [],
            null
        );

    private void Skip(string path, Exception e) => Warn($"{path} was skipped: {e.Message}");

    private void Warn(string text)
    {
        figures.Skip();
        log(LogSeverity.Warning, text);
    }
}
