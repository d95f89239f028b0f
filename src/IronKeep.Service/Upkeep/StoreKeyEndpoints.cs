using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// The secrets that open a store. A new key file or passphrase is added in the store's folder, where no secret travels; a recovery sheet
/// is made here, and its code is answered once.
/// </summary>
public static class StoreKeyEndpoints
{
    private const int MostLabel = 100;

    public static void MapStoreKeys(this IEndpointRouteBuilder stores)
    {
        stores
            .MapGet(
                "/{name}/keys",
                Results<Ok<IReadOnlyList<StoreKeyAnswer>>, ProblemHttpResult> (string name, CharterInForce charter, OpenStores open) =>
                    With<Ok<IReadOnlyList<StoreKeyAnswer>>>(name, charter, open, (store, declared) =>
                        TypedResults.Ok(List(store, declared))
                    )
            )
            .WithSummary("The secrets that open the store, without their content");
        stores
            .MapPost(
                "/{name}/keys/recovery-sheets",
                Results<Ok<RecoverySheetAnswer>, ProblemHttpResult> (
                    string name,
                    RecoverySheetRequest request,
                    CharterInForce charter,
                    OpenStores open,
                    TimeProvider clock,
                    ILogger<OpenStores> log,
                    HttpContext http
                ) =>
                {
                    var label = request.Label.Trim();
                    if (label.Length is 0 or > MostLabel)
                        return Problems.Invalid($"say what the sheet is called, in 1 to {MostLabel} characters");
                    return With<Ok<RecoverySheetAnswer>>(name, charter, open, (store, _) =>
                    {
                        var (code, now) = (RecoverySheet.NewCode(), clock.GetUtcNow());
                        var wrap = store.AddKey(label, Secret.Recovery(code), now);
                        log.LogInformation(
                            "{Person} made the recovery sheet '{Label}' ({Key}) of store {Store}",
                            http.User.Identity!.Name,
                            label,
                            wrap.Id,
                            name
                        );
                        http.Response.Headers.CacheControl = "no-store";
                        return TypedResults.Ok(
                            new RecoverySheetAnswer(wrap.Id, RecoverySheet.Text(label, store.Id, store.Place.Name, code, now))
                        );
                    });
                }
            )
            .WithSummary("Makes a recovery sheet; its code is in this answer and nowhere else");
        stores
            .MapDelete(
                "/{name}/keys/{key}",
                Results<Ok<IReadOnlyList<StoreKeyAnswer>>, ProblemHttpResult> (
                    string name,
                    string key,
                    CharterInForce charter,
                    OpenStores open,
                    ILogger<OpenStores> log,
                    HttpContext http
                ) => With<Ok<IReadOnlyList<StoreKeyAnswer>>>(name, charter, open, (store, declared) =>
                    {
                        if (List(store, declared).Any(k => k.Id == key && k.UsedByService))
                            throw new StoreKeyException(
                                $"'{key}' is what the service opens store {name} with; add another secret, name its file in the charter, "
                                    + $"then withdraw this one"
                            );
                        store.WithdrawKey(key);
                        log.LogInformation("{Person} withdrew the key {Key} of store {Store}", http.User.Identity!.Name, key, name);
                        return TypedResults.Ok(List(store, declared));
                    })
            )
            .WithSummary("A secret opens the store no more; the last one, and the service's own, are refused");
    }

    private static IReadOnlyList<StoreKeyAnswer> List(IKeyedLayout store, StoreDefinition declared)
    {
        var secret = StorePlaces.SecretOf(declared);
        return
        [
            .. store.KeyWraps().Select(w => new StoreKeyAnswer(w.Id, w.Label, w.Kind, w.Made, secret is not null && w.OpensWith(secret))),
        ];
    }

    private static Results<T, ProblemHttpResult> With<T>(
        string name,
        CharterInForce charter,
        OpenStores open,
        Func<IKeyedLayout, StoreDefinition, T> answer
    )
        where T : IResult
    {
        if (!charter.Charter.Stores.TryGetValue(name, out var declared))
            return StoreEndpoints.Missing(name);
        try
        {
            return open.AskAsync(name, store =>
                    answer(store as IKeyedLayout ?? throw new StoreKeyException($"store {name} is of a layout that has no keys"), declared)
                )
                .GetAwaiter()
                .GetResult();
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException or StoreKeyException)
        {
            return Problems.Refused(e.Message);
        }
    }
}
