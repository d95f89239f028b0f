using System.Globalization;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Copies;

public static class CopyEndpoints
{
    public static void MapCopies(this IEndpointRouteBuilder api)
    {
        var copies = api.MapGroup("/copies");
        copies.MapGet("", ListAsync).WithSummary("Copies, newest first, those in the bin included; by job and store");
        copies.MapGet("/{id}", async Task<Results<Ok<CopyAnswer>, ProblemHttpResult>> (string id, KeepContext db, CancellationToken cancel) =>
                await CopyBook.Alive(db).FirstOrDefaultAsync(c => c.Id == id, cancel) is { } copy ? TypedResults.Ok(copy.ToAnswer()) : Missing(id))
            .WithSummary("One copy");
        copies.MapGet("/{id}/entries", BrowseAsync).WithSummary("The entries of a folder in a copy; without a path, of the first folder from the root that holds more than one folder");
        copies.MapPost("/{id}/restores", RestoreAsync).WithSummary("Restores all of a copy, or some paths, to a folder on the service's machine");
    }

    private static ProblemHttpResult Missing(string id) => Problems.NotFound($"there is no copy '{id}'; list them with GET /api/v1/copies");

    private static async Task<Results<Ok<Page<CopyAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db, CancellationToken cancel, string? job = null, string? store = null, string? cursor = null, int limit = 100)
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem)) return problem;
        var query = CopyBook.Alive(db);
        if (job is not null) query = query.Where(c => c.Job == job);
        if (store is not null) query = query.Where(c => c.Store == store);
        // The instant of capture with a running number would be exact; ten-millionths of a second are told apart well enough.
        if (before is { } ticks)
        {
            var last = Instant.FromUnixTimeTicks(ticks);
            query = query.Where(c => c.Taken < last);
        }
        var rows = await query.OrderByDescending(c => c.Taken).ThenByDescending(c => c.Id).Take(limit + 1).ToListAsync(cancel);
        return TypedResults.Ok(Paging.Page(rows, limit, c => c.Taken.ToUnixTimeTicks(), c => c.ToAnswer()));
    }

    private static async Task<Results<Ok<FolderAnswer>, ProblemHttpResult>> BrowseAsync(string id, KeepContext db, OpenStores stores, CancellationToken cancel, string? path = null)
    {
        if (await CopyBook.Alive(db).FirstOrDefaultAsync(c => c.Id == id, cancel) is not { } copy) return Missing(id);
        if (NameText.ReadPath(path ?? "/") is not { } names) return Problems.Invalid($"the path '{path}' cannot be read: a backslash must be doubled or begin \\xNN");
        try
        {
            var store = stores.Get(copy.Store);
            if (store.ReadRecord(id) is not { } record) return Problems.Refused($"the record of copy {id} is not in store {copy.Store}; check the store to learn what else is missing");
            var entry = TreeWalk.Find(store, record, names);
            if (entry is null) return Problems.NotFound($"copy {id} holds no '{path}'; look at the folder above it");
            if (entry.Kind != EntryKind.Folder) return Problems.Invalid($"'{path}' is a {Kebab.From(entry.Kind.ToString())}, not a folder; restore it, or look at the folder above it");
            var entries = store.ReadFolder(entry.Content);
            while (path is null && entries is [{ Kind: EntryKind.Folder } only])
            {
                names.Add(only.Name);
                entries = store.ReadFolder(only.Content);
            }
            return TypedResults.Ok(new FolderAnswer(id, "/" + string.Join('/', names.Select(n => NameText.Show(n))), [.. entries.Select(ToAnswer)]));
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return Problems.Refused($"copy {id} cannot be browsed: {e.Message}");
        }
    }

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> RestoreAsync(
        string id, RestoreRequest request, KeepContext db, RunQueue queue, CharterInForce charter, HttpContext http, CancellationToken cancel)
    {
        if (await CopyBook.Alive(db).FirstOrDefaultAsync(c => c.Id == id, cancel) is not { } copy) return Missing(id);
        if (!request.To.StartsWith('/') || request.To.Contains('\0')) return Problems.Invalid($"'{request.To}' is not an absolute path on machine {copy.Machine}; begin it with '/'");
        if (request.Paths.Count > 10_000) return Problems.Invalid($"{request.Paths.Count} paths are too many for one restore; name folders, at most 10000 paths");
        var target = RealPaths.OfExistingPart(request.To);
        foreach (var store in charter.Charter.Stores.Values)
            if (RealPaths.Contains(RealPaths.OfExistingPart(store.Folder), target))
                return Problems.Refused($"'{request.To}' lies inside store {store.Name}; restore to a folder outside every store");
        var run = await queue.AddAsync(RunKind.Restore, copy.Job, copy.Store, http.User.Identity!.Name!, new RestoreOrder(id, request.Paths, request.To), cancel);
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    public static CopyAnswer ToAnswer(this Copy c) => new(
        c.Id, c.Job, c.Machine, c.Store, c.Taken.ToDateTimeOffset(), c.Ended.ToDateTimeOffset(), Kebab.From(c.State.ToString()),
        c.CheckedAt?.ToDateTimeOffset(), c.BinnedAt?.ToDateTimeOffset(), c.Items, c.Bytes, c.Skipped, c.NewBytes, c.StoredBytes,
        c.Damage.Split('\n', StringSplitOptions.RemoveEmptyEntries), c.DamageCount);

    private static EntryAnswer ToAnswer(TreeEntry e) => new(
        NameText.Show(e.Name), Kebab.From(e.Kind.ToString()), Convert.ToString(e.Mode, 8).PadLeft(4, '0'),
        e.Owner.Length > 0 ? e.Owner : e.User.ToString(CultureInfo.InvariantCulture),
        e.OwningGroup.Length > 0 ? e.OwningGroup : e.Group.ToString(CultureInfo.InvariantCulture),
        e.Size, e.Items, e.Modified.ToDateTimeOffset(), e.Kind == EntryKind.Symlink ? NameText.Show(e.LinkTarget) : null);
}
