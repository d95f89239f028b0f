using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Stores;

public static class StoreEndpoints
{
    public static void MapStores(this IEndpointRouteBuilder api)
    {
        var stores = api.MapGroup("/stores");
        stores.MapGet("", async (CharterInForce charter, OpenStores open, KeepContext db, CancellationToken cancel) =>
            {
                var answers = new List<StoreAnswer>();
                foreach (var store in charter.Charter.Stores.Values) answers.Add(await DescribeAsync(store, open, db, cancel));
                return TypedResults.Ok<IReadOnlyList<StoreAnswer>>(answers);
            })
            .WithSummary("All stores of the charter");
        stores.MapGet("/{name}", async Task<Results<Ok<StoreAnswer>, ProblemHttpResult>> (string name, CharterInForce charter, OpenStores open, KeepContext db, CancellationToken cancel) =>
                charter.Charter.Stores.TryGetValue(name, out var store) ? TypedResults.Ok(await DescribeAsync(store, open, db, cancel)) : Missing(name))
            .WithSummary("One store");
        stores.MapPost("/{name}/checks", (string name, CharterInForce charter, RunQueue queue, HttpContext http, CancellationToken cancel) =>
                QueueAsync(RunKind.Check, name, charter, queue, http, cancel))
            .WithSummary("Begins a content check of the store");
        stores.MapPost("/{name}/reclaims", (string name, CharterInForce charter, RunQueue queue, HttpContext http, CancellationToken cancel) =>
                QueueAsync(RunKind.Reclaim, name, charter, queue, http, cancel))
            .WithSummary("Frees the bytes of copies whose time in the bin is over");
    }

    private static ProblemHttpResult Missing(string name) => Problems.NotFound($"there is no store '{name}' in the charter; list them with GET /api/v1/stores");

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> QueueAsync(
        RunKind kind, string name, CharterInForce charter, RunQueue queue, HttpContext http, CancellationToken cancel)
    {
        if (!charter.Charter.Stores.ContainsKey(name)) return Missing(name);
        var run = await queue.AddAsync(kind, null, name, http.User.Identity!.Name!, null, cancel);
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    private static async Task<StoreAnswer> DescribeAsync(StoreDeclaration store, OpenStores open, KeepContext db, CancellationToken cancel)
    {
        long? used = null, free = null;
        string? problem = null, encryption = null;
        try
        {
            var opened = open.Get(store.Name);
            opened.CheckStillThere();
            used = opened.UsedBytes();
            encryption = opened.Head.Encryption;
            var onDisk = opened.Place.FreeBytes() - (store.Reserve?.Bytes ?? 0);
            var byCapacity = store.Capacity?.Bytes - (store.Reserve?.Bytes ?? 0) - used;
            free = byCapacity is { } limit && (onDisk is null || limit < onDisk) ? limit : onDisk;
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            problem = e.Message;
        }
        var alive = CopyBook.Alive(db).Where(c => c.Store == store.Name);
        var lastCheck = await db.Runs.AsNoTracking().Where(r => r.Kind == RunKind.Check && r.Store == store.Name).OrderByDescending(r => r.Id).FirstOrDefaultAsync(cancel);
        return new StoreAnswer(
            store.Name, store.Folder, problem is null, problem, encryption, store.Capacity?.Bytes, store.Reserve?.Bytes, used, free, store.Bin.ToString(),
            await alive.CountAsync(c => c.BinnedAt == null, cancel), await alive.CountAsync(c => c.BinnedAt != null, cancel),
            await alive.CountAsync(c => c.State == CopyState.Unsound, cancel), lastCheck?.ToAnswer());
    }
}
