using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Healing;

/// <summary>
/// What a healing brought back: files and folders by path with the copy that they were missing in, and bytes (raw) that were stored.
/// </summary>
public sealed record HealReport(ImmutableArray<HealedPath> Healed, long Bytes);

/// <summary>A path of a hurt copy that can be given back again, and the copy in the helping store that had it.</summary>
public sealed record HealedPath(string CopyId, string Path, string From);

/// <summary>
/// Brings back what copies of a store lack from other stores that hold copies of the same job and machine. Chunks have other
/// identities there, so the same path is looked up, cut anew, and what then has the identity that is missing is stored: nothing wrong
/// can come in, since an identity is a keyed hash of the content. A store must have been checked before: a pack whose damage is not
/// known yet counts as whole.
/// </summary>
public sealed class Healer : IDisposable
{
    /// <summary>How many copies of a helping store are tried for one path, nearest in time first.</summary>
    private const int Tries = 6;

    private readonly PooledStore hurt;
    private readonly CancellationToken cancel;
    private readonly ChunkReader reader;
    private readonly HashSet<ContentRef> walked = [];
    private readonly Dictionary<(string Copy, string Path), HealedPath> healed = [];
    private readonly List<Helper> helpers;
    private WritingSession session = null!;
    private bool again;

    private Healer(PooledStore hurt, IReadOnlyList<PooledStore> others, CancellationToken cancel)
    {
        (this.hurt, this.cancel, reader) = (hurt, cancel, hurt.NewReader());
        helpers = [.. others.SelectMany(o => o.ReadContents().Copies.Select(c => new Helper(o, c.Record)))];
    }

    /// <summary>
    /// Heals what can be healed. Errors of the hurt store are thrown; a helping store that cannot be read helps no further.
    /// </summary>
    public static HealReport Run(PooledStore hurt, IReadOnlyList<PooledStore> others, CancellationToken cancel)
    {
        using var healer = new Healer(hurt, others, cancel);
        return healer.Run();
    }

    public void Dispose() => reader.Dispose();

    private HealReport Run()
    {
        long bytes = 0,
            stored;
        // A folder whose listing came back is looked into in the next round. A round that stored nothing is the last: what is still
        // unreadable then lies in a pack that no check has set aside yet.
        do
        {
            again = false;
            walked.Clear();
            using (session = hurt.BeginWriting())
            {
                foreach (var copy in hurt.ReadContents().Copies.Reverse())
                    Tree(copy.Record);
                session.Seal();
                bytes += stored = session.NewBytes;
            }
            hurt.Refresh();
        } while (again && stored > 0);
        return new HealReport([.. healed.Values], bytes);
    }

    /// <summary>Goes through a copy's tree without calling itself: it may be tens of thousands of folders deep.</summary>
    private void Tree(CopyRecord copy)
    {
        var path = new List<byte[]>();
        var open = new Stack<Queue<TreeEntry>>([Folder(copy, path, copy.RootContent())]);
        while (true)
        {
            if (open.Peek().TryDequeue(out var next))
            {
                path.Add(next.Name);
                open.Push(Folder(copy, path, next.Content));
                continue;
            }
            open.Pop();
            if (open.Count == 0)
                return;
            path.RemoveAt(path.Count - 1);
        }
    }

    /// <summary>Heals the files of a folder and gives the folders in it.</summary>
    private Queue<TreeEntry> Folder(CopyRecord copy, List<byte[]> path, ContentRef content)
    {
        cancel.ThrowIfCancellationRequested();
        var below = new Queue<TreeEntry>();
        if (!walked.Add(content))
            return below;
        try
        {
            foreach (var id in reader.ListingIds(content))
            {
                foreach (var entry in FolderListing.Read(reader.Read(id)))
                {
                    if (entry.Kind == EntryKind.Folder)
                        below.Enqueue(entry);
                    else if (entry.Content.Ids.Length > 0)
                    {
                        path.Add(entry.Name);
                        File(copy, path, entry);
                        path.RemoveAt(path.Count - 1);
                    }
                }
            }
        }
        catch (StoreDamageException)
        {
            if (BringFolder(copy, path, content))
                again = true;
        }
        return below;
    }

    private bool BringFolder(CopyRecord copy, List<byte[]> path, ContentRef content)
    {
        var before = session.NewBytes;
        foreach (var (helper, entry) in Candidates(copy, path, EntryKind.Folder))
        {
            if (Tried(helper, transplant => transplant.Folder(entry.Content).Equals(content)) && session.NewBytes > before)
                return Note(copy, path, helper, folder: true);
        }
        return false;
    }

    private void File(CopyRecord copy, List<byte[]> path, TreeEntry entry)
    {
        var wanted = Missing(entry.Content, out var whole);
        if (whole && wanted.Count == 0)
            return;
        // Copies whose file looks the same first: of another version some chunks may be the same.
        foreach (
            var (helper, found) in Candidates(copy, path, EntryKind.File)
                .OrderBy(c => c.Entry.Modified == entry.Modified && c.Entry.Size == entry.Size ? 0 : 1)
        )
        {
            if (Tried(helper, transplant =>
                {
                    if (!whole)
                        return transplant.File(found).Equals(entry.Content);
                    transplant.Only(found, wanted, hurt.Keys.IdOf);
                    return wanted.Count == 0;
                }))
            {
                Note(copy, path, helper, folder: false);
                return;
            }
        }
    }

    /// <summary>The chunks that the store lacks; not <paramref name="whole"/> when a list of them cannot be read.</summary>
    private HashSet<ChunkId> Missing(ContentRef content, out bool whole)
    {
        whole = true;
        var missing = new HashSet<ChunkId>();
        try
        {
            foreach (var id in reader.Ids(content))
                if (hurt.Index.SeemsToStayIn(id) < 0)
                    missing.Add(id);
        }
        catch (StoreDamageException)
        {
            whole = false;
        }
        return missing;
    }

    private bool Note(CopyRecord copy, List<byte[]> path, Helper helper, bool folder)
    {
        var text = "/" + string.Join('/', path.Select(n => NameText.Show(n))) + (folder && path.Count > 0 ? "/" : "");
        healed.TryAdd((copy.Id, text), new HealedPath(copy.Id, text, helper.Record.Id));
        return true;
    }

    private bool Tried(Helper helper, Func<Transplant, bool> action)
    {
        try
        {
            using var transplant = new Transplant(helper.Store, session, cancel);
            return action(transplant);
        }
        catch (StoreDamageException)
        {
            // The helper is hurt at this very place.
            return false;
        }
        catch (PlaceException e) when (e.Fault != PlaceFault.Full && helper.IsGone())
        {
            return false;
        }
    }

    private List<(Helper Helper, TreeEntry Entry)> Candidates(CopyRecord copy, List<byte[]> path, EntryKind kind) =>
        [
            .. helpers
                .Where(h => h.Record.Job == copy.Job && h.Record.Machine == copy.Machine)
                .OrderBy(h => (h.Record.Taken - copy.Taken).Duration())
                .Select(h => (Helper: h, Entry: h.Find(path)))
                .Where(c => c.Entry?.Kind == kind)
                .Take(Tries)
                .Select(c => (c.Helper, c.Entry!)),
        ];

    /// <summary>
    /// A copy in a helping store; remembers the folder it was last asked about, since files are asked for in their order.
    /// </summary>
    private sealed class Helper(PooledStore store, CopyRecord record)
    {
        private string? folder;
        private Dictionary<byte[], TreeEntry> entries = [];

        public PooledStore Store => store;
        public CopyRecord Record => record;

        public TreeEntry? Find(List<byte[]> path)
        {
            try
            {
                if (path.Count == 0)
                    return TreeWalk.RootOf(record);
                var above = path[..^1];
                var key = string.Join('/', above.Select(Convert.ToHexString));
                if (folder != key)
                {
                    folder = key;
                    entries = TreeWalk.Find(store, record, above) is { Kind: EntryKind.Folder } found
                        ? store.EnumerateFolder(found.Content).ToDictionary(e => e.Name, ByteOrder.Instance)
                        : [];
                }
                return entries.GetValueOrDefault(path[^1]);
            }
            catch (Exception e) when (e is StoreDamageException or PlaceException)
            {
                return null;
            }
        }

        /// <summary>Whether the helping store cannot be reached: then the error was its own.</summary>
        public bool IsGone()
        {
            try
            {
                store.CheckStillThere();
                return false;
            }
            catch (Exception e) when (e is PlaceException or StoreDamageException)
            {
                return true;
            }
        }
    }
}
