using System.Text;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>
/// Makes files, links, FIFOs and devices, one worker's own: each is made and finished where nobody else can enter, then put in its place.
/// </summary>
internal sealed class EntryWriter(
    IChunkSource reader,
    Staging staging,
    OpenHandles handles,
    RestoreNotes notes,
    LinkedFiles linked,
    ExistingRule existing,
    CancellationToken cancel
)
{
    private const int MostNamesBeside = 1000;

    public void Make(RestoreFolder folder, TreeEntry entry)
    {
        var into = handles.Take(folder);
        try
        {
            if (entry.Links <= 1)
                New(folder, into, entry, null);
            else
                Linked(folder, into, entry);
        }
        finally
        {
            handles.Give(folder);
        }
    }

    private void Linked(RestoreFolder folder, OpenFolder into, TreeEntry entry)
    {
        // Whoever comes first makes the file; who comes for another of its names meanwhile waits.
        var kept = linked.Of(entry);
        lock (kept)
        {
            if (kept.Name is null || !Link(folder, into, entry, kept.Name))
                New(folder, into, entry, kept);
        }
    }

    private bool Link(RestoreFolder folder, OpenFolder into, TreeEntry entry, byte[] kept)
    {
        var passing = staging.NewName();
        try
        {
            staging.Folder.LinkTo(staging.Folder, kept, passing);
        }
        catch (PosixException e) when (e.NotFound || e.NotSupported || e.AccessDenied || e.Error == TooManyLinks)
        {
            // A file system without hard links gets a file of its own.
            return false;
        }
        Place(folder, into, passing, entry);
        notes.Link();
        return true;
    }

    private const int TooManyLinks = 31;

    private void New(RestoreFolder folder, OpenFolder into, TreeEntry entry, LinkedFiles.Kept? kept)
    {
        // In a folder that is new itself nobody else can be: it gets its name at once.
        var direct = folder.Staged && kept is null;
        var (at, name) = direct ? (into, entry.Name) : (staging.Folder, staging.NewName());
        try
        {
            if (entry.Kind == EntryKind.File)
                File(folder, at, name, entry);
            else
            {
                if (entry.Kind == EntryKind.Symlink)
                    at.MakeLink(name, entry.LinkTarget);
                else if (entry.Kind == EntryKind.Fifo)
                    at.MakeFifo(name);
                else
                    at.MakeDevice(name, entry.Kind == EntryKind.BlockDevice, entry.Node);
                notes.Owner(() => at.SetOwner(name, entry.User, entry.Group), () => folder.PathOf(entry));
                foreach (var attribute in entry.Attributes)
                    notes.Attribute(() => at.SetAttribute(name, attribute), attribute, () => folder.PathOf(entry));
                // Giving a file away clears setuid and setgid, so the mode follows the owner.
                if (entry.Kind != EntryKind.Symlink)
                    at.SetMode(name, entry.Mode);
                at.SetModified(name, entry.Modified);
            }
        }
        catch (PosixException e) when (e.Exists)
        {
            throw;
        }
        catch
        {
            at.Remove(name);
            throw;
        }
        if (kept is not null)
            Keep(kept, name);
        if (!direct)
            Place(folder, into, name, entry);
        if (entry.Kind == EntryKind.Symlink)
            notes.Link();
        if (entry.Kind == EntryKind.File)
            notes.File(entry.Size);
    }

    /// <summary>Keeps another name of a file in the staging folder, for the names of it that are to come.</summary>
    private void Keep(LinkedFiles.Kept kept, byte[] name)
    {
        var another = staging.NewName();
        try
        {
            staging.Folder.LinkTo(staging.Folder, name, another);
            kept.Name = another;
        }
        catch (PosixException e) when (e.NotSupported || e.AccessDenied || e.Error == TooManyLinks)
        {
            // A file system without hard links.
        }
    }

    private void File(RestoreFolder folder, OpenFolder at, byte[] name, TreeEntry entry)
    {
        using var file = at.CreateFile(name);
        FileBytes.Each(reader, entry, file.Write, cancel);
        if (entry.Extents is not null)
            file.SetSize(entry.Size);
        notes.Owner(() => file.SetOwner(entry.User, entry.Group), () => folder.PathOf(entry));
        foreach (var attribute in entry.Attributes)
            notes.Attribute(() => file.SetAttribute(attribute), attribute, () => folder.PathOf(entry));
        file.SetMode(entry.Mode);
        file.SetModified(entry.Modified);
    }

    /// <summary>Gives a finished entry of the staging folder its place.</summary>
    private void Place(RestoreFolder folder, OpenFolder into, byte[] staged, TreeEntry entry)
    {
        try
        {
            var there = existing != ExistingRule.Keep && into.Facts(entry.Name) is not null;
            if (existing == ExistingRule.Overwrite && there)
            {
                staging.Folder.RenameTo(into, staged, entry.Name, replace: true);
                notes.Overwritten();
                // Two names of one file: renaming one over the other does nothing, by POSIX.
                staging.Folder.Remove(staged);
                return;
            }
            for (var i = 0; i < MostNamesBeside; i++)
            {
                try
                {
                    staging.Folder.RenameTo(into, staged, Beside(entry.Name, i), replace: false);
                    if (i > 0)
                        notes.Beside();
                    return;
                }
                catch (PosixException e) when (e.Exists && existing == ExistingRule.Beside)
                {
                    // The next name.
                }
            }
            notes.Report(folder.PathOf(entry), $"{MostNamesBeside} restored ones lie beside it already; move some away");
            staging.Folder.Remove(staged);
        }
        catch
        {
            staging.Folder.Remove(staged);
            throw;
        }
    }

    /// <summary>The name of an entry that is put beside another: the i-th that is tried, the first being its own.</summary>
    public static byte[] Beside(byte[] name, int i) =>
        i == 0 ? name : [.. name, .. Encoding.ASCII.GetBytes(i == 1 ? ".restored" : $".restored-{i}")];
}
