using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// Writes entries of a copy below a folder: contents, holes, modes, owners, times, links, extended attributes. One worker a core. Entries,
/// and whole folders that are new, are made in a folder that nobody else can enter and get their place when they are finished, so that
/// nothing half-restored stands under a real name and nobody can put anything in the way. Never follows a link. What could not be done is
/// in the report; the rest is done.
/// </summary>
public sealed class TreeRestorer(
    ITreeSource source,
    Action<long, long>? progress = null,
    ExistingRule existing = ExistingRule.Keep,
    ForbiddenFolders? forbidden = null
) : IDisposable
{
    private readonly RestoreNotes notes = new(progress);
    private readonly LinkedFiles linked = new();
    private readonly Stack<Step> open = new();
    private readonly Lock gate = new();
    private readonly SemaphoreSlim ready = new(0);
    private readonly HashSet<RestoreFolder> unplaced = [];
    private Staging staging = null!;
    private OpenHandles handles = null!;
    private CancellationToken cancel;
    private Exception? failure;
    private long most = long.MaxValue;
    private int unfinished;

    /// <summary>A piece of work: a part of a folder's listing, or one entry in it with what is wanted of it.</summary>
    private readonly record struct Step(RestoreFolder Folder, ChunkId Listing, Wanted? One);

    /// <summary>
    /// Restores the entries at the given paths (all when there are none) below <paramref name="target"/>, which is made when
    /// missing, keeping their paths from "/". A path that the copy does not hold is reported as a problem. A target in a forbidden folder
    /// is an <see cref="IOException"/>.
    /// </summary>
    public RestoreReport Restore(CopyRecord record, IReadOnlyList<string> paths, string target, CancellationToken cancellation = default)
    {
        cancel = cancellation;
        using var opened = TargetFolder.Open(target, forbidden);
        var wanted = Wanted.Of(source, record, paths, notes);
        if (!wanted.All && !wanted.Below.Any())
            return notes.ToReport();
        // A copy cannot hold more than it says: one that does was made to fill the disk.
        if (wanted.All)
            most = record.Items;
        var top = new RestoreFolder(null, null, false, false, null) { Handle = opened, Uses = 1 };
        using (staging = Staging.In(opened, notes))
        using (handles = new OpenHandles(top, staging))
        {
            try
            {
                Into(top, wanted);
                Work();
            }
            finally
            {
                // What was begun and not finished, because something failed, gets its place as it is: for its owner alone.
                foreach (var folder in unplaced.ToList())
                    Try(folder, () => Place(folder));
            }
        }
        return notes.ToReport();
    }

    public void Dispose() => ready.Dispose();

    private void Work()
    {
        var workers = Enumerable
            .Range(0, source.Readers)
            .Select(_ => Task.Factory.StartNew(Worker, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default))
            .ToArray();
        if (Volatile.Read(ref unfinished) == 0)
            ready.Release(workers.Length);
        Task.WaitAll(workers);
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
        cancel.ThrowIfCancellationRequested();
    }

    private void Worker()
    {
        using var reader = source.OpenTree();
        var writer = new EntryWriter(reader, staging, handles, notes, linked, existing, cancel);
        while (true)
        {
            ready.Wait();
            Step step;
            lock (gate)
                if (!open.TryPop(out step))
                    return;
            try
            {
                if (failure is null && !cancel.IsCancellationRequested)
                    Do(step, reader, writer);
            }
            catch (Exception e)
            {
                failure ??= e;
            }
            Release(step.Folder);
            if (Interlocked.Decrement(ref unfinished) == 0)
                ready.Release(source.Readers);
        }
    }

    private void Do(Step step, IChunkSource reader, EntryWriter writer)
    {
        if (step.One is { } one)
        {
            Entry(step.Folder, one.Entry, one, writer);
            return;
        }
        List<TreeEntry> entries;
        try
        {
            entries = FolderListing.Read(reader.ReadListing(step.Listing));
        }
        catch (StoreDamageException e)
        {
            notes.Report(step.Folder.Path + "/", $"the folder's listing is damaged: {e.Message}");
            return;
        }
        reader.Expect(entries.Where(e => e.Kind == EntryKind.File && e.Content.Depth == 0).SelectMany(e => e.Content.Ids));
        foreach (var entry in entries)
        {
            if (failure is not null || cancel.IsCancellationRequested)
                return;
            Entry(step.Folder, entry, null, writer);
        }
    }

    private void Entry(RestoreFolder folder, TreeEntry entry, Wanted? wanted, EntryWriter writer)
    {
        if (notes.Made > most)
            throw new StoreDamageException(
                $"the copy holds more entries than the {most} that its record names; it is not what was written"
            );
        try
        {
            if (entry.Kind == EntryKind.Folder && wanted is null)
                Push([new Step(folder, default, Wanted.Everything(entry))]);
            else if (entry.Kind == EntryKind.Folder)
                Folder(folder, entry, wanted!);
            else if (entry.Kind == EntryKind.Socket)
                notes.Report(folder.PathOf(entry), "sockets are not restored; the program that listens makes it anew");
            else if (existing == ExistingRule.Keep && !folder.Staged && IsThere(folder, entry))
                ReportExisting(folder, entry);
            else
                writer.Make(folder, entry);
        }
        catch (PosixException e) when (e.Exists)
        {
            ReportExisting(folder, entry);
        }
        catch (StoreDamageException e)
        {
            notes.Report(folder.PathOf(entry), $"not restored, damaged in the store: {e.Message}; take it from another copy");
        }
        catch (IOException e) when (e is not PlaceException)
        {
            if (e is PosixException { NoSpace: true })
                throw;
            notes.Report(folder.PathOf(entry), e.Message);
        }
    }

    private bool IsThere(RestoreFolder folder, TreeEntry entry)
    {
        var into = handles.Take(folder);
        try
        {
            return into.Facts(entry.Name) is not null;
        }
        finally
        {
            handles.Give(folder);
        }
    }

    /// <summary>Makes or shares a folder; then everything in it is to be done, or only what is wanted.</summary>
    private void Folder(RestoreFolder above, TreeEntry entry, Wanted wanted)
    {
        above.Expect();
        RestoreFolder folder;
        try
        {
            var into = handles.Take(above);
            try
            {
                folder = Opened(above, into, entry);
            }
            finally
            {
                handles.Give(above);
            }
        }
        catch
        {
            Release(above);
            throw;
        }
        Into(folder, wanted);
        Release(folder);
    }

    private RestoreFolder Opened(RestoreFolder above, OpenFolder into, TreeEntry entry)
    {
        RestoreFolder folder;
        OpenFolder opened;
        if (above.Staged)
        {
            into.MakeFolder(entry.Name);
            opened = into.Enter(entry.Name);
            folder = new RestoreFolder(above, entry, true, true, null);
            notes.Folder();
        }
        else if (into.Facts(entry.Name) is { } there)
        {
            // One that somebody else made is shared, and keeps its attributes unless everything is to be overwritten.
            if (there.Kind != EntryKind.Folder)
                throw new IOException("something that is no folder stands in its place; restore to an empty folder");
            opened = into.Enter(entry.Name);
            if (forbidden?.Reason(opened.RealPath()) is { } why)
            {
                opened.Dispose();
                throw new IOException($"nothing is restored there: {why}");
            }
            folder = new RestoreFolder(above, entry, existing == ExistingRule.Overwrite, false, null);
        }
        else
        {
            var name = staging.NewName();
            staging.Folder.MakeFolder(name);
            opened = staging.Folder.Enter(name);
            folder = new RestoreFolder(above, entry, true, true, name);
            lock (gate)
                unplaced.Add(folder);
            notes.Folder();
        }
        handles.Adopt(folder, opened);
        handles.Give(folder);
        return folder;
    }

    private void Into(RestoreFolder folder, Wanted wanted)
    {
        if (!wanted.All)
        {
            Push([
                .. wanted.Below.Select(w => new Step(
                    folder,
                    default,
                    w.All && w.Entry.Kind == EntryKind.Folder ? Wanted.Everything(w.Entry) : w
                )),
            ]);
            return;
        }
        try
        {
            Push([.. ListingIds(wanted.Entry.Content).Select(id => new Step(folder, id, null)).Reverse()]);
        }
        catch (StoreDamageException e)
        {
            notes.Report(folder.Path + "/", $"the folder's listing is damaged: {e.Message}");
        }
    }

    private IEnumerable<ChunkId> ListingIds(ContentRef content)
    {
        if (content.Depth == 0)
            return content.Ids;
        using var reader = source.OpenTree();
        return reader.ListingIds(content);
    }

    private void Push(Step[] steps)
    {
        if (steps.Length == 0)
            return;
        Interlocked.Add(ref unfinished, steps.Length);
        lock (gate)
        {
            foreach (var step in steps)
            {
                step.Folder.Expect();
                open.Push(step);
            }
        }
        ready.Release(steps.Length);
    }

    /// <summary>Ends one thing of a folder, and goes up as long as that ends the folder above too.</summary>
    private void Release(RestoreFolder? folder)
    {
        for (var at = folder; at?.Above is not null && at.Release(); at = at.Above)
        {
            if (failure is not null)
                continue;
            var done = at;
            Try(done, () => Finish(done));
        }
    }

    private void Finish(RestoreFolder folder)
    {
        var entry = folder.Entry!;
        var handle = handles.Take(folder);
        try
        {
            if (folder.TakesAttributes)
            {
                notes.Owner(() => handle.SetOwner(entry.User, entry.Group), () => folder.Path);
                foreach (var attribute in entry.Attributes)
                    notes.Attribute(() => handle.SetAttribute(attribute), attribute, () => folder.Path);
            }
            // Its place before its mode: without the right to write, its owner could not move it. Both go by the open folder.
            if (folder.StagedAs is not null)
                Place(folder);
            if (folder.TakesAttributes)
                handle.SetModeAndModified(entry.Mode, entry.Modified);
        }
        finally
        {
            handles.Close(folder);
        }
    }

    /// <summary>
    /// Moves a folder that is new out of the staging folder; where something of its name came into being meanwhile, beside it.
    /// </summary>
    private void Place(RestoreFolder folder)
    {
        lock (gate)
            if (!unplaced.Remove(folder))
                return;
        var into = handles.Take(folder.Above!);
        try
        {
            for (var i = 0; ; i++)
            {
                try
                {
                    staging.Folder.RenameTo(into, folder.StagedAs!, EntryWriter.Beside(folder.Entry!.Name, i), replace: false);
                    if (i > 0)
                        notes.Report(
                            folder.Path,
                            $"something of this name came into being meanwhile; what was restored lies beside it, with .restored at the "
                                + $"end of its name"
                        );
                    return;
                }
                catch (PosixException e) when (e.Exists && i < 1000)
                {
                    // The next name.
                }
            }
        }
        finally
        {
            handles.Give(folder.Above!);
        }
    }

    private void Try(RestoreFolder folder, Action action)
    {
        try
        {
            action();
        }
        catch (IOException e)
        {
            notes.Report(folder.Path, e.Message);
        }
    }

    private void ReportExisting(RestoreFolder folder, TreeEntry entry) =>
        notes.Report(folder.PathOf(entry), "exists already and was left as it is; restore to an empty folder, beside it, or over it");
}
