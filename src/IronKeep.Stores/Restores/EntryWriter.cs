using IronKeep.Stores.Packs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>Makes files, links, FIFOs and devices: one worker's own, with a passing name of its own.</summary>
internal sealed class EntryWriter(ChunkReader reader, OpenFolder root, RestoreNotes notes, LinkedFiles linked, ExistingRule existing, CancellationToken cancel)
{
    private const int MostNamesBeside = 1000;
    private readonly byte[] passing = System.Text.Encoding.ASCII.GetBytes($".ironkeep-restoring-{Guid.NewGuid():N}");

    public void Make(RestoreFolder folder, TreeEntry entry)
    {
        if (entry.Links <= 1)
        {
            New(folder, entry);
            return;
        }
        // Whoever comes first makes the file; who comes for another of its names meanwhile waits.
        var first = linked.Of(entry);
        lock (first)
        {
            if (first.Folder is null || !Link(first, folder, entry))
            {
                if (New(folder, entry)) (first.Folder, first.Name) = (folder, entry.Name);
            }
        }
    }

    private bool Link(LinkedFiles.FirstName first, RestoreFolder folder, TreeEntry entry)
    {
        var opened = new List<OpenFolder>();
        try
        {
            var at = root;
            foreach (var name in first.Folder!.Names())
            {
                at = at.Enter(name);
                opened.Add(at);
            }
            folder.Handle.LinkTo(at, first.Name, passing);
            Place(folder, entry);
            notes.Link();
            return true;
        }
        catch (PosixException e) when (e.NotFound || e.NotSupported || e.AccessDenied)
        {
            // A file system without hard links gets a file of its own.
            return false;
        }
        finally
        {
            foreach (var each in opened) each.Dispose();
        }
    }

    /// <summary>True when it stands under its own name.</summary>
    private bool New(RestoreFolder folder, TreeEntry entry)
    {
        var handle = folder.Handle;
        bool own;
        try
        {
            if (entry.Kind == EntryKind.File) File(folder, entry);
            else
            {
                if (entry.Kind == EntryKind.Symlink) handle.MakeLink(passing, entry.LinkTarget);
                else if (entry.Kind == EntryKind.Fifo) handle.MakeFifo(passing);
                else handle.MakeDevice(passing, entry.Kind == EntryKind.BlockDevice, entry.Node);
                notes.Owner(() => handle.SetOwner(passing, entry.User, entry.Group), () => folder.PathOf(entry));
                foreach (var attribute in entry.Attributes) notes.Attribute(() => handle.SetAttribute(passing, attribute), attribute, () => folder.PathOf(entry));
                // Giving a file away clears setuid and setgid, so the mode follows the owner.
                if (entry.Kind != EntryKind.Symlink) handle.SetMode(passing, entry.Mode);
                handle.SetModified(passing, entry.Modified);
            }
            own = Place(folder, entry);
        }
        catch
        {
            handle.Remove(passing);
            throw;
        }
        if (entry.Kind == EntryKind.Symlink) notes.Link();
        if (entry.Kind != EntryKind.File) return own;
        notes.File(entry.Size);
        return own;
    }

    private void File(RestoreFolder folder, TreeEntry entry)
    {
        using var file = folder.Handle.CreateFile(passing);
        FileBytes.Each(reader, entry, file.Write, cancel);
        if (entry.Extents is not null) file.SetSize(entry.Size);
        notes.Owner(() => file.SetOwner(entry.User, entry.Group), () => folder.PathOf(entry));
        foreach (var attribute in entry.Attributes) notes.Attribute(() => file.SetAttribute(attribute), attribute, () => folder.PathOf(entry));
        file.SetMode(entry.Mode);
        file.SetModified(entry.Modified);
    }

    private bool Place(RestoreFolder folder, TreeEntry entry)
    {
        var handle = folder.Handle;
        var there = existing != ExistingRule.Keep && handle.Facts(entry.Name) is not null;
        if (existing == ExistingRule.Overwrite && there)
        {
            handle.Rename(passing, entry.Name, replace: true);
            notes.Overwritten();
            return true;
        }
        var name = entry.Name;
        for (var i = 1; i <= MostNamesBeside; i++)
        {
            try
            {
                handle.Rename(passing, name, replace: false);
                if (i > 1) notes.Beside();
                return i == 1;
            }
            catch (PosixException e) when (e.Exists && existing == ExistingRule.Beside)
            {
                name = [.. entry.Name, .. System.Text.Encoding.ASCII.GetBytes(i == 1 ? ".restored" : $".restored-{i}")];
            }
        }
        notes.Report(folder.PathOf(entry), $"{MostNamesBeside} restored ones lie beside it already; move some away");
        handle.Remove(passing);
        return false;
    }
}
