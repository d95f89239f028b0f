using System.Collections.Immutable;
using System.Text;
using System.Threading.Channels;
using IronKeep.Core.Watching;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>What one backup is to do. Paths are absolute with links resolved; <paramref name="Previous"/> is the copy to compare with, or null.</summary>
public sealed record BackupOrder(
    string CopyId, string Job, string Machine, ImmutableArray<string> Takes, ImmutableArray<string> LeavesOut, CopyRecord? Previous);

/// <summary>
/// Makes one copy: walks the sources, reads what changed, stores what the store lacks, and writes the copy record last. One thread
/// walks, one worker a core takes whole files from reading to packing. Throws <see cref="RunFailedException"/>.
/// </summary>
public sealed class BackupRun(PooledStore store, BackupOrder order, TimeProvider clock, RunLog log)
{
    private const int Ahead = 512;
    private readonly Owners owners = new();
    private readonly LeaveOuts leaveOuts = new(order.LeavesOut);
    private TreeEntry? root;
    private WritingSession session = null!;

    public RunFigures Figures { get; } = new();

    /// <summary>Does the work; the record is durable when this returns.</summary>
    public async Task<CopyRecord> RunAsync(CancellationToken cancel)
    {
        var taken = clock.GetUtcNow();
        try
        {
            session = store.BeginWriting();
            using (session)
            {
                await TakeAsync(cancel);
                var record = new CopyRecord(
                    order.CopyId, order.Job, order.Machine, taken, clock.GetUtcNow(), order.Takes,
                    root!.Items, root.Size, Figures.Skipped, [.. root.Content.Select(c => c.ToString())]);
                cancel.ThrowIfCancellationRequested();
                session.Commit(record);
                CountStored();
                return record;
            }
        }
        catch (PlaceException e)
        {
            throw new RunFailedException(ClassOf(e), e.Message, e);
        }
        catch (StoreDamageException e)
        {
            throw new RunFailedException(FailureClass.DataDamaged, e.Message, e);
        }
    }

    /// <summary>The class of failure that a place's fault means.</summary>
    public static FailureClass ClassOf(PlaceException e) => e.Fault switch
    {
        PlaceFault.Full => FailureClass.StoreFull,
        PlaceFault.AccessRefused => FailureClass.AccessRefused,
        PlaceFault.Unreachable or PlaceFault.InUse or PlaceFault.NotFound => FailureClass.StoreUnreachable,
        _ => FailureClass.Unknown,
    };

    private async Task TakeAsync(CancellationToken cancel)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var files = Channel.CreateBounded<FileTask>(new BoundedChannelOptions(Ahead) { SingleWriter = true });
        var walkLane = session.OpenLane();
        var tasks = new List<Task> { Worker(() => WalkAsync(files.Writer, walkLane, stop.Token)) };
        for (var i = 0; i < Environment.ProcessorCount; i++)
        {
            var lane = session.OpenLane();
            tasks.Add(Worker(() => StoreFilesAsync(files.Reader, lane, stop.Token)));
        }
        try
        {
            await Task.WhenAll(tasks);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            // Another worker's failure stopped this one; the failure is what counts.
            throw tasks.Select(t => t.Exception?.InnerException).First(e => e is not null)!;
        }

        Task Worker(Func<Task> work) => Task.Run(async () =>
        {
            try
            {
                await work();
            }
            catch
            {
                await stop.CancelAsync();
                throw;
            }
        }, CancellationToken.None);
    }

    private readonly record struct FileTask(FolderNode Folder, int Place, byte[] Name, string Path);

    private readonly record struct FolderTask(FolderNode? Parent, int Place, byte[] Name, string Path, string? Relative, TakeTree? Passing, ulong Device, TreeEntry? Before);

    private async Task WalkAsync(ChannelWriter<FileTask> files, WritingSession.Lane lane, CancellationToken cancel)
    {
        try
        {
            var open = new Stack<FolderTask>();
            var takes = TakeTree.Of(order.Takes);
            open.Push(new FolderTask(null, 0, [], "", takes.Taken ? "" : null, takes, 0, order.Previous is null ? null : TreeWalk.RootOf(order.Previous)));
            while (open.TryPop(out var task))
            {
                cancel.ThrowIfCancellationRequested();
                await VisitAsync(task, open, files, lane, cancel);
            }
        }
        finally
        {
            files.Complete();
        }
    }

    /// <summary>Lists one folder: small entries at once, files to the workers, folders onto the stack.</summary>
    private async Task VisitAsync(FolderTask task, Stack<FolderTask> open, ChannelWriter<FileTask> files, WritingSession.Lane lane, CancellationToken cancel)
    {
        OpenFolder? handle = null;
        FolderNode node;
        List<byte[]> names;
        try
        {
            handle = task.Parent is null ? OpenFolder.AtPath("/") : task.Parent.Handle.Enter(task.Name);
            names = task.Relative is null ? [.. task.Passing!.Names] : handle.List();
            node = new FolderNode(task.Parent, task.Place, task.Name, task.Path, handle.Facts(), handle, ReadBefore(task.Before));
        }
        catch (PosixException e)
        {
            handle?.Dispose();
            if (task.Passing is not null) throw new RunFailedException(e.AccessDenied ? FailureClass.AccessRefused : FailureClass.SourceUnreadable, $"{task.Path}/: {e.Message}", e);
            Skip(task.Path + "/", e);
            if (task.Parent!.Release()) Finish(task.Parent, lane);
            return;
        }
        var folders = new List<FolderTask>();
        foreach (var name in names)
        {
            var path = $"{task.Path}/{NameText.Show(name)}";
            var passing = task.Passing?.Below(name);
            // Below a taken folder the relative path grows; at the taken entry itself it starts empty.
            var relative = task.Relative is not null ? (task.Relative.Length == 0 ? "" : task.Relative + "/") + Encoding.UTF8.GetString(name) : passing!.Taken ? "" : null;
            try
            {
                if (handle.Facts(name) is not { } facts)
                {
                    if (passing is not null) throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist");
                    continue;
                }
                if (relative is { Length: > 0 } && leaveOuts.Matches(relative, facts.Kind == EntryKind.Folder)) continue;
                if (facts.Kind == EntryKind.Folder) Enter(facts, name, path, relative, passing);
                else await OtherAsync(facts, name, path);
            }
            catch (PosixException e)
            {
                if (passing is not null) throw new RunFailedException(FailureClass.SourceUnreadable, $"{path}: {e.Message}", e);
                Skip(path, e);
            }
        }
        for (var i = folders.Count - 1; i >= 0; i--) open.Push(folders[i]);
        if (node.Release()) Finish(node, lane);

        void Enter(FileFacts facts, byte[] name, string path, string? relative, TakeTree? passing)
        {
            var device = task.Relative is null ? facts.Device : task.Device;
            if (facts.Device != device)
            {
                log(LogSeverity.Info, $"{path} is another file system and is not entered; name it under 'takes' to back it up");
                node.Add(Entry(facts, name));
                return;
            }
            folders.Add(new FolderTask(node, node.Reserve(), name, path, relative, passing, device, node.Before(name)));
        }

        async ValueTask OtherAsync(FileFacts facts, byte[] name, string path)
        {
            switch (facts.Kind)
            {
                case EntryKind.File when node.Before(name) is { } before && before.SameContentAs(facts) && store.HasAll(before.Content):
                    node.Add(Entry(facts, name) with { Size = before.Size, Content = before.Content });
                    Figures.Item(before.Size);
                    break;
                case EntryKind.File:
                    await files.WriteAsync(new FileTask(node, node.Reserve(), name, path), cancel);
                    break;
                case EntryKind.Symlink:
                    node.Add(Entry(facts, name) with { LinkTarget = handle.ReadLink(name) });
                    Figures.Item(0);
                    break;
                case EntryKind.Fifo:
                    node.Add(Entry(facts, name));
                    Figures.Item(0);
                    break;
                default:
                    log(LogSeverity.Info, $"{path} is a socket or a device and is left out");
                    break;
            }
        }
    }

    private async Task StoreFilesAsync(ChannelReader<FileTask> files, WritingSession.Lane lane, CancellationToken cancel)
    {
        var intake = new FileIntake(lane, Figures);
        await foreach (var task in files.ReadAllAsync(cancel))
        {
            try
            {
                var taken = intake.Take(task.Folder.Handle, task.Name, cancel);
                if (taken.Torn) Warn($"{task.Path} changed while it was read, three times; its copy may mix old and new content");
                task.Folder.Fill(task.Place, Entry(taken.Facts, task.Name) with { Size = taken.Size, Content = taken.Content });
                Figures.FileRead();
                Figures.Item(taken.Size);
            }
            catch (PosixException e) when (e.NotFound)
            {
                log(LogSeverity.Info, $"{task.Path} vanished before it was read");
            }
            catch (IOException e) when (e is not PlaceException and not StoreDamageException)
            {
                Skip(task.Path, e);
            }
            catch (UnauthorizedAccessException e)
            {
                Skip(task.Path, e);
            }
            CountStored();
            if (task.Folder.Release()) Finish(task.Folder, lane);
        }
    }

    /// <summary>Writes the listing of a folder whose entries are all there, and goes up as long as that ends the folder above too.</summary>
    private void Finish(FolderNode node, WritingSession.Lane lane)
    {
        for (var at = node; ;)
        {
            at.Handle.Dispose();
            var entries = at.Entries();
            var listing = lane.PutAll(FolderListing.Write(entries).Span);
            var entry = Entry(at.Facts, at.Name) with
            {
                Size = entries.Sum(e => e.Size),
                Items = entries.Sum(e => e.Kind == EntryKind.Folder ? e.Items : 1),
                Content = listing,
            };
            if (at.Parent is null)
            {
                root = entry;
                return;
            }
            at.Parent.Fill(at.Place, entry);
            if (!at.Parent.Release()) return;
            at = at.Parent;
        }
    }

    private Dictionary<byte[], TreeEntry>? ReadBefore(TreeEntry? before)
    {
        if (before is not { Kind: EntryKind.Folder }) return null;
        try
        {
            return store.ReadFolder(before.Content).ToDictionary(e => e.Name, ByteOrder.Instance);
        }
        catch (StoreDamageException e)
        {
            log(LogSeverity.Info, $"a folder of the previous copy cannot be read ({e.Message}); its files are read anew");
            return null;
        }
    }

    private TreeEntry Entry(FileFacts facts, byte[] name) => new(
        facts.Kind, name, facts.Mode, facts.User, facts.Group, owners.User(facts.User), owners.Group(facts.Group),
        facts.Modified, facts.Changed, facts.Inode, 0, 0, [], []);

    private void CountStored()
    {
        Figures.NewBytes = session.NewBytes;
        Figures.StoredBytes = session.StoredBytes;
    }

    private void Skip(string path, Exception e) => Warn($"{path} was skipped: {e.Message}");

    private void Warn(string text)
    {
        Figures.Skip();
        log(LogSeverity.Warning, text);
    }
}
