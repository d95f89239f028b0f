using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

public static class StoreEndpoints
{
    public static void MapStores(this IEndpointRouteBuilder api)
    {
        var stores = api.MapGroup("/stores");
        stores
            .MapGet(
                "",
                async (
                    CharterInForce charter,
                    StoreRoom room,
                    Reductions reductions,
                    OpenStores open,
                    KeepContext db,
                    TimeProvider clock,
                    CancellationToken cancel
                ) =>
                {
                    var answers = new List<StoreAnswer>();
                    foreach (var store in charter.Charter.Stores.Values)
                        answers.Add(await DescribeAsync(store, room, reductions, open, db, clock.Now(), cancel));
                    return TypedResults.Ok<IReadOnlyList<StoreAnswer>>(answers);
                }
            )
            .WithSummary("All stores of the charter");
        stores
            .MapGet(
                "/{name}",
                async Task<Results<Ok<StoreAnswer>, ProblemHttpResult>> (
                    string name,
                    CharterInForce charter,
                    StoreRoom room,
                    Reductions reductions,
                    OpenStores open,
                    KeepContext db,
                    TimeProvider clock,
                    CancellationToken cancel
                ) =>
                    charter.Charter.Stores.TryGetValue(name, out var store)
                        ? TypedResults.Ok(await DescribeAsync(store, room, reductions, open, db, clock.Now(), cancel))
                        : Missing(name)
            )
            .WithSummary("One store");
        stores
            .MapPost(
                "/{name}/checks",
                async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> (
                    string name,
                    CharterInForce charter,
                    RunQueue queue,
                    HttpContext http,
                    CancellationToken cancel,
                    string? depth = null
                ) =>
                    DepthOf(depth) is { } how
                        ? await QueueAsync(RunKind.Check, name, new CheckOrder(null, how), charter, queue, http, cancel)
                        : Problems.Invalid($"'{depth}' is not a depth; it is presence, content or deep")
            )
            .WithSummary("Begins a check of the store: presence, content (usual) or deep");
        stores
            .MapPost(
                "/{name}/reclaims",
                (string name, CharterInForce charter, RunQueue queue, HttpContext http, CancellationToken cancel) =>
                    QueueAsync(RunKind.Reclaim, name, null, charter, queue, http, cancel)
            )
            .WithSummary("Frees the bytes of copies whose time in the bin is over");
        stores
            .MapPost("/{name}/heals", (string name, CharterInForce charter, RunQueue queue, HttpContext http, CancellationToken cancel) =>
                QueueAsync(RunKind.Heal, name, null, charter, queue, http, cancel)
            )
            .WithSummary("Brings back what damaged copies lack from the other stores that hold copies of the same jobs");
        stores
            .MapPost(
                "",
                async Task<Results<Ok<AttachAnswer>, ProblemHttpResult>> (
                    AttachRequest request,
                    AttachDesk desk,
                    CharterInForce charter,
                    StoreRoom room,
                    Reductions reductions,
                    OpenStores open,
                    KeepContext db,
                    TimeProvider clock,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    var (learned, unreadable, refusal) = await desk.AttachAsync(request, http.User.Identity!.Name!, cancel);
                    if (refusal is not null)
                        return refusal;
                    return TypedResults.Ok(
                        new AttachAnswer(
                            await DescribeAsync(charter.Charter.Stores[request.Name], room, reductions, open, db, clock.Now(), cancel),
                            learned,
                            unreadable
                        )
                    );
                }
            )
            .WithSummary("Attaches a store that lies in a folder already: the charter gets it, the catalogue learns its copies");
        stores.MapStoreKeys();
    }

    private static CheckDepth? DepthOf(string? text) =>
        text is null
            ? CheckDepth.Content
            : Enum.GetValues<CheckDepth>().Cast<CheckDepth?>().FirstOrDefault(d => Kebab.Of(d!.Value) == text);

    internal static ProblemHttpResult Missing(string name) => Problems.NotThere("store", name, "stores", " in the charter");

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> QueueAsync(
        RunKind kind,
        string name,
        object? order,
        CharterInForce charter,
        RunQueue queue,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (!charter.Charter.Stores.ContainsKey(name))
            return Missing(name);
        var run = await queue.AddAsync(new RunRequest(kind, null, name, Actor.Person(http.User.Identity!.Name!)) { Order = order }, cancel);
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    private static async Task<StoreAnswer> DescribeAsync(
        StoreDefinition store,
        StoreRoom storeRoom,
        Reductions reductions,
        OpenStores stores,
        KeepContext db,
        Instant now,
        CancellationToken cancel
    )
    {
        var room = await storeRoom.OfAsync(store);
        var alive = CopyBook.Alive(db).Where(c => c.Store == store.Name);
        var counts = await alive
            .GroupBy(c => new { Binned = c.BinnedAt != null, c.State })
            .Select(g => new
            {
                g.Key.Binned,
                g.Key.State,
                Count = g.Count(),
                Selected = g.Sum(c => c.Bytes),
                Stored = g.Sum(c => c.StoredBytes),
            })
            .ToListAsync(cancel);
        var reduction = (await reductions.OfAsync(db, cancel)).GetValueOrDefault(store.Name);
        var checks = db.Runs.AsNoTracking().Where(r => r.Kind == RunKind.Check && r.Store == store.Name).OrderByDescending(r => r.Id);
        return new StoreAnswer(
            store.Name,
            store.Folder,
            store.Layout,
            store.Dated?.Name.Text,
            store.Dated is null || room.Problem is not null ? null : await OthersAsync(store, stores),
            room.Problem is null,
            room.Problem,
            room.Encryption,
            store.Capacity?.Bytes,
            store.HasReserve ? room.Reserve : null,
            room.Used,
            room.Free,
            room.NearlyFull,
            store.Bin.ToString(),
            counts.Where(c => !c.Binned && c.State != CopyState.Missing).Sum(c => c.Count),
            counts.Where(c => c.Binned).Sum(c => c.Count),
            counts.Where(c => c.Binned).Sum(c => c.Stored),
            counts.Where(c => c.State == CopyState.Unsound).Sum(c => c.Count),
            counts.Where(c => c.State == CopyState.Missing).Sum(c => c.Count),
            reduction,
            counts.Where(c => !c.Binned).Sum(c => c.Selected),
            store.VerifyWhen?.ToSentence(),
            store.VerifyBudget?.Bytes,
            store.ReclaimWhen?.ToSentence(),
            room.Problem is null ? await Readings.OfAsync(store, stores, db, now, cancel) : null,
            (await checks.FirstOrDefaultAsync(cancel))?.ToAnswer()
        );
    }

    private static async Task<long?> OthersAsync(StoreDefinition store, OpenStores stores)
    {
        try
        {
            return await stores.AskAsync(store.Name, opened => (opened as DatedStore)?.Last.Others);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return null;
        }
    }
}
