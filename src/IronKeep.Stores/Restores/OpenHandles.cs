using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Restores;

/// <summary>
/// The folders of a restore that are held open: those in use, and some that were used last. A tree may be deeper than a process may have
/// files open, so the others are opened again when they are needed, from the nearest one above that is open. Safe for several threads.
/// </summary>
internal sealed class OpenHandles(RestoreFolder top, Staging staging) : IDisposable
{
    private const int MostIdle = 256;
    private readonly Lock gate = new();
    private readonly LinkedList<RestoreFolder> idle = new();

    /// <summary>The open folder, until it is given back.</summary>
    public OpenFolder Take(RestoreFolder folder)
    {
        lock (gate)
            if (Held(folder) is { } there)
                return there;
        // The nearest that is open, held meanwhile; the top always is.
        var way = new Stack<RestoreFolder>();
        OpenFolder? from = null;
        var at = folder;
        lock (gate)
            for (; from is null; at = from is null ? at.Above! : at)
                if ((from = Held(at)) is null)
                    way.Push(at);
        try
        {
            var last = from;
            foreach (var step in way)
            {
                var next = step.StagedAs is { } name ? staging.Folder.Enter(name) : last.Enter(step.Entry!.Name);
                if (last != from)
                    last.Dispose();
                last = next;
            }
            return Adopt(folder, last);
        }
        finally
        {
            Give(at);
        }
    }

    /// <summary>Takes over an open folder that was just made, as in use.</summary>
    public OpenFolder Adopt(RestoreFolder folder, OpenFolder opened)
    {
        lock (gate)
        {
            if (Held(folder) is { } there)
            {
                opened.Dispose();
                return there;
            }
            folder.Handle = opened;
            folder.Uses = 1;
            return opened;
        }
    }

    public void Give(RestoreFolder folder)
    {
        OpenFolder? closes = null;
        lock (gate)
        {
            if (--folder.Uses > 0 || folder == top)
                return;
            folder.Idle = idle.AddFirst(folder);
            if (idle.Count <= MostIdle)
                return;
            var last = idle.Last!.Value;
            idle.RemoveLast();
            (closes, last.Handle, last.Idle) = (last.Handle, null, null);
        }
        closes?.Dispose();
    }

    /// <summary>Closes a folder that is done; its caller has it in use.</summary>
    public void Close(RestoreFolder folder)
    {
        // The folder above is needed next; where nobody else can move folders, it is found from here at no cost.
        if (folder is { Staged: true, StagedAs: null, Above: { } above })
        {
            bool known;
            lock (gate)
                known = above.Handle is not null;
            if (!known)
            {
                Adopt(above, folder.Handle!.Above());
                Give(above);
            }
        }
        OpenFolder? closes;
        lock (gate)
            (closes, folder.Handle) = (folder.Handle, null);
        closes?.Dispose();
    }

    public void Dispose()
    {
        foreach (var folder in idle)
            folder.Handle?.Dispose();
        idle.Clear();
    }

    private OpenFolder? Held(RestoreFolder folder)
    {
        if (folder.Handle is null)
            return null;
        if (folder.Idle is { } node)
        {
            idle.Remove(node);
            folder.Idle = null;
        }
        folder.Uses++;
        return folder.Handle;
    }
}
