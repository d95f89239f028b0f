using System.Diagnostics;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Hearing;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Service.Copies;

/// <summary>Finds files across copies, and the versions of one path.</summary>
public sealed class CopySearch(OpenStores stores)
{
    private static readonly TimeSpan LongEnough = TimeSpan.FromSeconds(10);
    private const int MostFromOneCopy = 1_000;

    private sealed class Seen(Copy newest, TreeEntry entry)
    {
        public Copy Newest { get; } = newest;
        public TreeEntry Entry { get; } = entry;
        public Copy Oldest { get; set; } = newest;
        public int Copies { get; set; }
        public HashSet<string> Contents { get; } = [];
    }

    /// <summary>
    /// Paths that fit a pattern, newest first; stops at so many hits or after ten seconds and says so. Copies: newest first.
    /// </summary>
    public async Task<FindAnswer> FindAsync(IReadOnlyList<Copy> copies, string pattern, int most, CancellationToken cancel)
    {
        // A store that hangs, or is none of the charter's any more, says that not everything was searched; the others are searched all the
        // same.
        var opened = new Dictionary<string, IStoreLayout>();
        var away = false;
        foreach (var name in copies.Select(c => c.Store).Distinct())
        {
            try
            {
                var store = await stores.AskAsync(name, store => store);
                if (store.Can.Browses)
                    opened[name] = store;
            }
            catch (Exception e) when (e is PlaceException or StoreDamageException)
            {
                away = true;
            }
        }
        var work = Task.Factory.StartNew(
            () => Find([.. copies.Where(c => opened.ContainsKey(c.Store))], opened, pattern, most, cancel),
            CancellationToken.None,
            TaskCreationOptions.LongRunning,
            TaskScheduler.Default
        );
        var found = await work.WaitAsync(2 * LongEnough, cancel);
        return away ? found with { Complete = false } : found;
    }

    private static FindAnswer Find(
        IReadOnlyList<Copy> copies,
        Dictionary<string, IStoreLayout> opened,
        string pattern,
        int most,
        CancellationToken cancel
    )
    {
        var watch = Stopwatch.StartNew();
        var found = new Dictionary<(string Job, string Store, string Path), Seen>();
        var searches = new Dictionary<string, (IStoreLayout Store, TreeSearch Search)>();
        var searched = 0;
        var complete = true;
        foreach (var copy in copies)
        {
            if (watch.Elapsed > LongEnough)
            {
                complete = false;
                break;
            }
            if (!searches.TryGetValue(copy.Store, out var at))
                searches[copy.Store] = at = (opened[copy.Store], opened[copy.Store].Search(pattern, MostFromOneCopy, LongEnough));
            if (ReadRecord(at.Store, copy.Id) is not { } record)
                continue;
            searched++;
            foreach (var hit in at.Search.In(record, cancel))
            {
                var key = (copy.Job, copy.Store, hit.Path);
                if (!found.TryGetValue(key, out var seen))
                {
                    if (found.Count >= most)
                    {
                        complete = false;
                        continue;
                    }
                    found[key] = seen = new Seen(copy, hit.Entry);
                }
                seen.Oldest = copy;
                seen.Copies++;
                seen.Contents.Add(ContentOf(hit.Entry));
            }
        }
        return new FindAnswer(
            [
                .. found
                    .Select(f => new FoundPath(
                        f.Key.Job,
                        f.Key.Store,
                        f.Key.Path,
                        Kebab.Of(f.Value.Entry.Kind),
                        f.Value.Contents.Count,
                        f.Value.Copies,
                        f.Value.Newest.Id,
                        f.Value.Newest.Taken.ToDateTimeOffset(),
                        f.Value.Oldest.Taken.ToDateTimeOffset(),
                        f.Value.Entry.Size,
                        f.Value.Entry.Modified.ToDateTimeOffset()
                    ))
                    .OrderByDescending(f => f.NewestTaken)
                    .ThenBy(f => f.Path, StringComparer.Ordinal),
            ],
            searched,
            complete && searches.Values.All(s => s.Search.IsComplete)
        );
    }

    /// <summary>
    /// The versions of one path over copies of one job in one store, newest first; copies in a row with the same content are one version.
    /// </summary>
    public async Task<IReadOnlyList<VersionAnswer>> VersionsAsync(IReadOnlyList<Copy> copies, IReadOnlyList<byte[]> path)
    {
        var opened = new Dictionary<string, IStoreLayout>();
        foreach (var name in copies.Select(c => c.Store).Distinct())
            opened[name] = await stores.AskAsync(name, store => store);
        copies = [.. copies.Where(c => opened[c.Store].Can.Browses)];
        return await Task
            .Factory.StartNew(
                () => Versions(copies, opened, path),
                CancellationToken.None,
                TaskCreationOptions.LongRunning,
                TaskScheduler.Default
            )
            .WaitAsync(2 * LongEnough);
    }

    private static IReadOnlyList<VersionAnswer> Versions(
        IReadOnlyList<Copy> copies,
        Dictionary<string, IStoreLayout> opened,
        IReadOnlyList<byte[]> path
    )
    {
        var versions = new List<(string Content, TreeEntry? Entry, List<Copy> Copies)>();
        foreach (var copy in copies)
        {
            var store = opened[copy.Store];
            if (ReadRecord(store, copy.Id) is not { } record)
                continue;
            TreeEntry? entry;
            try
            {
                entry = store.Find(record, path);
            }
            catch (StoreDamageException)
            {
                // What cannot be looked at is no version.
                continue;
            }
            var content = entry is null ? "" : ContentOf(entry);
            if (versions.Count == 0 || versions[^1].Content != content)
                versions.Add((content, entry, []));
            versions[^1].Copies.Add(copy);
        }
        // A path that came into being later is no version of its own before that.
        while (versions.Count > 0 && versions[^1].Entry is null)
            versions.RemoveAt(versions.Count - 1);
        return
        [
            .. versions.Select(v => new VersionAnswer(
                v.Entry is null ? null : Kebab.Of(v.Entry.Kind),
                v.Entry?.Size ?? 0,
                v.Entry?.Modified.ToDateTimeOffset(),
                [.. v.Copies.Select(c => c.Id)],
                v.Copies[0].Taken.ToDateTimeOffset(),
                v.Copies[^1].Taken.ToDateTimeOffset()
            )),
        ];
    }

    private static CopyRecord? ReadRecord(IStoreLayout store, string id)
    {
        try
        {
            return store.ReadRecord(id);
        }
        catch (Exception e) when (e is StoreDamageException or PlaceException { Fault: PlaceFault.NotFound })
        {
            return null;
        }
    }

    private static string ContentOf(TreeEntry e) =>
        $"{e.Kind} {e.Size} {e.Content.Depth} {string.Concat(e.Content.Ids)} {Convert.ToHexString(e.LinkTarget)}";
}
