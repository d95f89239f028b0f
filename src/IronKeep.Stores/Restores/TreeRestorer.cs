using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// Writes entries of a copy below a folder: contents, holes, modes, owners, times, links, extended attributes. One worker a core; an
/// entry is made under a passing name and gets its own when it is whole, so that nothing half-restored stands under a real name. Never
/// follows a link that lies in the way. What could not be done is in the report; the rest is done.
/// </summary>
public sealed class TreeRestorer(PooledStore store, Action<long, long>? progress = null, ExistingRule existing = ExistingRule.Keep) : IDisposable
{
    private readonly RestoreNotes notes = new(progress);
    private readonly LinkedFiles linked = new();
    private readonly Stack<Step> open = new();
    private readonly Lock gate = new();
    private readonly SemaphoreSlim ready = new(0);
    private OpenFolder root = null!;
    private CancellationToken cancel;
    private Exception? failure;
    private int unfinished;

    /// <summary>A piece of work: a part of a folder's listing, or one entry in it, on the way to what <paramref name="Below"/> names.</summary>
    private readonly record struct Step(RestoreFolder Folder, ChunkId Listing, TreeEntry? Entry, TreeEntry[]? Below);

    /// <summary>
    /// Restores the entries at the given paths (all when there are none) below <paramref name="target"/>, which is made when
    /// missing, keeping their paths from "/". A path that the copy does not hold is reported as a problem.
    /// </summary>
    public RestoreReport Restore(CopyRecord record, IReadOnlyList<string> paths, string target, CancellationToken cancellation = default)
    {
        cancel = cancellation;
        Directory.CreateDirectory(target);
        using (root = OpenFolder.AtPath(target))
        {
            var top = new RestoreFolder(null, null, root, false);
            if (paths.Count == 0) Listing(top, TreeWalk.RootOf(record));
            foreach (var path in paths) OnePath(top, record, path);
            Work();
        }
        return notes.ToReport();
    }

    public void Dispose() => ready.Dispose();

    private void OnePath(RestoreFolder top, CopyRecord record, string path)
    {
        var names = NameText.ReadPath(path);
        if (names is null)
        {
            notes.Report(path, "the path cannot be read: a backslash must be doubled or begin \\xNN");
            return;
        }
        // The folders above come along with their attributes; their other entries stay behind.
        var chain = new List<TreeEntry>();
        for (var depth = 1; depth <= names.Count; depth++)
        {
            if (TreeWalk.Find(store, record, names[..depth]) is not { } entry)
            {
                notes.Report(path, "the copy holds no such file or folder");
                return;
            }
            chain.Add(entry);
        }
        if (chain.Count == 0) Listing(top, TreeWalk.RootOf(record));
        else Push([new Step(top, default, chain[0], [.. chain[1..]])]);
    }

    private void Work()
    {
        var workers = Enumerable.Range(0, Environment.ProcessorCount).Select(_ => Task.Factory.StartNew(Worker, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default)).ToArray();
        if (Volatile.Read(ref unfinished) == 0) ready.Release(workers.Length);
        Task.WaitAll(workers);
        if (failure is { } e) System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
        cancel.ThrowIfCancellationRequested();
    }

    private void Worker()
    {
        using var reader = store.NewTreeReader();
        var writer = new EntryWriter(reader, root, notes, linked, existing, cancel);
        while (true)
        {
            ready.Wait();
            Step step;
            lock (gate)
                if (!open.TryPop(out step)) return;
            try
            {
                if (failure is null && !cancel.IsCancellationRequested) Do(step, reader, writer);
            }
            catch (Exception e)
            {
                failure ??= e;
            }
            Release(step.Folder);
            if (Interlocked.Decrement(ref unfinished) == 0) ready.Release(Environment.ProcessorCount);
        }
    }

    private void Do(Step step, ChunkReader reader, EntryWriter writer)
    {
        if (step.Entry is { } one)
        {
            Entry(step.Folder, one, step.Below, writer);
            return;
        }
        List<TreeEntry> entries;
        try
        {
            entries = FolderListing.Read(reader.Read(step.Listing));
        }
        catch (StoreDamageException e)
        {
            notes.Report(step.Folder.Path + "/", $"the folder's listing is damaged: {e.Message}");
            return;
        }
        foreach (var entry in entries)
        {
            if (failure is not null || cancel.IsCancellationRequested) return;
            Entry(step.Folder, entry, null, writer);
        }
    }

    private void Entry(RestoreFolder folder, TreeEntry entry, TreeEntry[]? below, EntryWriter writer)
    {
        try
        {
            if (entry.Kind == EntryKind.Folder && below is null) Push([new Step(folder, default, entry, [])]);
            else if (entry.Kind == EntryKind.Folder) Folder(folder, entry, below!);
            else if (entry.Kind == EntryKind.Socket) notes.Report(folder.PathOf(entry), "sockets are not restored; the program that listens makes it anew");
            else if (existing == ExistingRule.Keep && folder.Handle.Facts(entry.Name) is not null) ReportExisting(folder, entry);
            else writer.Make(folder, entry);
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
            if (e is PosixException { NoSpace: true }) throw;
            notes.Report(folder.PathOf(entry), e.Message);
        }
    }

    /// <summary>Makes or shares a folder; then everything in it is to be done, or only what leads to a wanted entry.</summary>
    private void Folder(RestoreFolder above, TreeEntry entry, TreeEntry[] below)
    {
        var made = true;
        try
        {
            above.Handle.MakeFolder(entry.Name);
            notes.Folder();
        }
        catch (PosixException e) when (e.Exists)
        {
            // Two wanted paths can share folders; one that somebody else made keeps its attributes.
            made = false;
        }
        above.Expect();
        RestoreFolder folder;
        try
        {
            folder = new RestoreFolder(above, entry, above.Handle.Enter(entry.Name), made || existing == ExistingRule.Overwrite);
        }
        catch
        {
            Release(above);
            throw;
        }
        if (below.Length == 0) Listing(folder, entry);
        else Push([new Step(folder, default, below[0], below[1..])]);
        Release(folder);
    }

    private void Listing(RestoreFolder folder, TreeEntry entry)
    {
        try
        {
            using var reader = store.NewReader();
            Push([.. reader.Ids(entry.Content).Select(id => new Step(folder, id, null, null)).Reverse()]);
        }
        catch (StoreDamageException e)
        {
            notes.Report(folder.Path + "/", $"the folder's listing is damaged: {e.Message}");
        }
    }

    private void Push(Step[] steps)
    {
        if (steps.Length == 0) return;
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
            try
            {
                if (at.TakesAttributes && failure is null) Attributes(at);
            }
            catch (IOException e)
            {
                notes.Report(at.Path, e.Message);
            }
            at.Handle.Dispose();
        }
    }

    private void Attributes(RestoreFolder folder)
    {
        var entry = folder.Entry!;
        notes.Owner(() => folder.Handle.SetOwner(entry.User, entry.Group), () => folder.Path);
        foreach (var attribute in entry.Attributes) notes.Attribute(() => folder.Handle.SetAttribute(attribute), attribute, () => folder.Path);
        folder.Handle.SetModeAndModified(entry.Mode, entry.Modified);
    }

    private void ReportExisting(RestoreFolder folder, TreeEntry entry) =>
        notes.Report(folder.PathOf(entry), "exists already and was left as it is; restore to an empty folder, beside it, or over it");
}
