using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using Microsoft.Win32.SafeHandles;

namespace IronKeep.Stores.Trees;

/// <summary>Something that could not be restored, or not wholly: the path as shown and why.</summary>
public sealed record RestoreProblem(string Path, string Problem);

/// <summary>What a restore did. Bytes are those of the files' contents; overwritten and beside count entries that met an existing one.</summary>
public sealed record RestoreReport(long Files, long Folders, long Links, long Bytes, long Overwritten, long Beside, IReadOnlyList<RestoreProblem> Problems);

/// <summary>
/// What happens where an entry exists already: it stays and is reported; it is replaced as a whole; or the restored one is put
/// beside it under a name of its own. Folders that exist are always shared.
/// </summary>
public enum ExistingRule { Keep, Overwrite, Beside }

/// <summary>
/// Writes entries of a copy below a folder: contents, modes, owners, times and links. An entry is made under a passing name and
/// gets its own when it is whole, so that nothing half-restored stands under a real name. Never follows a link that lies in the way.
/// What could not be done is in the report; the rest is done.
/// </summary>
public sealed class TreeRestorer(PooledStore store, Action<long, long>? progress = null, ExistingRule existing = ExistingRule.Keep)
{
    private const int MostNamesBeside = 1000;
    private readonly byte[] passing = System.Text.Encoding.ASCII.GetBytes($".ironkeep-restoring-{Guid.NewGuid():N}");
    private readonly List<RestoreProblem> problems = [];
    private long files, folders, links, bytes, overwritten, beside;
    private bool mayChown = true;

    /// <summary>
    /// Restores the entries at the given paths (all when there are none) below <paramref name="target"/>, which is made when
    /// missing, keeping their paths from "/". A path that the copy does not hold is reported as a problem.
    /// </summary>
    public RestoreReport Restore(CopyRecord record, IReadOnlyList<string> paths, string target, CancellationToken cancel = default)
    {
        Directory.CreateDirectory(target);
        using var root = OpenFolder.AtPath(target);
        var whole = TreeWalk.RootOf(record);
        if (paths.Count == 0) Children(root, "", whole, cancel);
        foreach (var path in paths)
        {
            var names = NameText.ReadPath(path);
            if (names is null) problems.Add(new RestoreProblem(path, "the path cannot be read: a backslash must be doubled or begin \\xNN"));
            else if (names.Count == 0) Children(root, "", whole, cancel);
            else OnePath(root, record, names, path, cancel);
        }
        return new RestoreReport(files, folders, links, bytes, overwritten, beside, problems);
    }

    private void OnePath(OpenFolder root, CopyRecord record, List<byte[]> names, string path, CancellationToken cancel)
    {
        // The folders above come along with their attributes; their other entries stay behind.
        var chain = new List<TreeEntry>();
        for (var depth = 1; depth <= names.Count; depth++)
        {
            if (TreeWalk.Find(store, record, names[..depth]) is not { } entry)
            {
                problems.Add(new RestoreProblem(path, "the copy holds no such file or folder"));
                return;
            }
            chain.Add(entry);
        }
        Step(root, "", 0);

        void Step(OpenFolder folder, string above, int depth)
        {
            var entry = chain[depth];
            if (depth == chain.Count - 1) Entry(folder, above, entry, cancel);
            else Folder(folder, above, entry, inner => Step(inner, $"{above}/{NameText.Show(entry.Name)}", depth + 1));
        }
    }

    private void Children(OpenFolder folder, string path, TreeEntry entry, CancellationToken cancel)
    {
        List<TreeEntry> entries;
        try
        {
            entries = store.ReadFolder(entry.Content);
        }
        catch (StoreDamageException e)
        {
            problems.Add(new RestoreProblem(path + "/", $"the folder's listing is damaged: {e.Message}"));
            return;
        }
        foreach (var child in entries) Entry(folder, path, child, cancel);
    }

    private void Entry(OpenFolder folder, string above, TreeEntry entry, CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        var path = $"{above}/{NameText.Show(entry.Name)}";
        try
        {
            if (entry.Kind == EntryKind.Folder) Folder(folder, above, entry, inner => Children(inner, path, entry, cancel));
            else if (entry.Kind is not (EntryKind.File or EntryKind.Symlink or EntryKind.Fifo)) problems.Add(new RestoreProblem(path, "sockets and device nodes are not restored"));
            else if (existing == ExistingRule.Keep && folder.Facts(entry.Name) is not null) ReportExisting(path);
            else Leaf(folder, entry, path);
        }
        catch (PosixException e) when (e.Exists)
        {
            ReportExisting(path);
        }
        catch (StoreDamageException e)
        {
            problems.Add(new RestoreProblem(path, $"not restored, damaged in the store: {e.Message}; take it from another copy"));
        }
        catch (IOException e)
        {
            if (e is PosixException { NoSpace: true } || e.HResult == 28) throw;
            problems.Add(new RestoreProblem(path, e.Message));
        }
    }

    private void ReportExisting(string path) => problems.Add(new RestoreProblem(path, "exists already and was left as it is; restore to an empty folder, beside it, or over it"));

    /// <summary>Makes a file, link or FIFO whole under a passing name, then gives it its own.</summary>
    private void Leaf(OpenFolder folder, TreeEntry entry, string path)
    {
        try
        {
            if (entry.Kind == EntryKind.File) File(folder, entry);
            else if (entry.Kind == EntryKind.Symlink) folder.MakeLink(passing, entry.LinkTarget);
            else folder.MakeFifo(passing);
            Attributes(folder, passing, entry, path);
            Place(folder, entry, path);
        }
        catch
        {
            folder.Remove(passing);
            throw;
        }
        if (entry.Kind == EntryKind.Symlink) links++;
        if (entry.Kind != EntryKind.File) return;
        files++;
        bytes += entry.Size;
        progress?.Invoke(files, bytes);
    }

    private void Place(OpenFolder folder, TreeEntry entry, string path)
    {
        var there = existing != ExistingRule.Keep && folder.Facts(entry.Name) is not null;
        if (existing == ExistingRule.Overwrite && there)
        {
            folder.Rename(passing, entry.Name, replace: true);
            overwritten++;
            return;
        }
        byte[] name = entry.Name;
        for (var i = 1; i <= MostNamesBeside; i++)
        {
            try
            {
                folder.Rename(passing, name, replace: false);
                if (i > 1) beside++;
                return;
            }
            catch (PosixException e) when (e.Exists && existing == ExistingRule.Beside)
            {
                name = [.. entry.Name, .. System.Text.Encoding.ASCII.GetBytes(i == 1 ? ".restored" : $".restored-{i}")];
            }
        }
        problems.Add(new RestoreProblem(path, $"{MostNamesBeside} restored ones lie beside it already; move some away"));
        folder.Remove(passing);
    }

    private void Folder(OpenFolder folder, string above, TreeEntry entry, Action<OpenFolder> fill)
    {
        var path = $"{above}/{NameText.Show(entry.Name)}";
        var made = true;
        try
        {
            folder.MakeFolder(entry.Name);
            folders++;
        }
        catch (PosixException e) when (e.Exists)
        {
            // Two wanted paths can share folders; one that somebody else made keeps its attributes.
            made = false;
        }
        using (var inner = folder.Enter(entry.Name)) fill(inner);
        if (made || existing == ExistingRule.Overwrite) Attributes(folder, entry.Name, entry, path);
    }

    private void File(OpenFolder folder, TreeEntry entry)
    {
        using SafeFileHandle file = folder.CreateFile(passing);
        long at = 0;
        foreach (var id in entry.Content)
        {
            var content = store.ReadChunk(id);
            RandomAccess.Write(file, content, at);
            at += content.Length;
        }
    }

    private void Attributes(OpenFolder folder, byte[] name, TreeEntry entry, string path)
    {
        if (mayChown)
        {
            try
            {
                folder.SetOwner(name, entry.User, entry.Group);
            }
            catch (PosixException e) when (e.AccessDenied)
            {
                mayChown = false;
                problems.Add(new RestoreProblem(path, "owners are not restored, here and below: only root may give files to others"));
            }
        }
        // Giving a file away clears setuid and setgid, so the mode follows the owner.
        if (entry.Kind != EntryKind.Symlink) folder.SetMode(name, entry.Mode);
        folder.SetModified(name, entry.Modified);
    }
}
