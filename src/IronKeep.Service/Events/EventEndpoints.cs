using IronKeep.Contracts;

namespace IronKeep.Service.Events;

public static class EventEndpoints
{
    public static void MapEvents(this IEndpointRouteBuilder api) =>
        api.MapGet("/events", (EventHub hub, IHostApplicationLifetime life, HttpContext http) =>
            {
                // The stream must end when the service stops, or stopping waits for every open page.
                var stop = CancellationTokenSource.CreateLinkedTokenSource(http.RequestAborted, life.ApplicationStopping);
                http.Response.OnCompleted(() =>
                {
                    stop.Dispose();
                    return Task.CompletedTask;
                });
                return TypedResults.ServerSentEvents(Quietly(hub.Listen(stop.Token), stop.Token));
            })
            .WithSummary("Everything live, as server-sent events");

    private static async IAsyncEnumerable<KeepEvent> Quietly(IAsyncEnumerable<KeepEvent> events, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancel)
    {
        await using var each = events.GetAsyncEnumerator(cancel);
        while (true)
        {
            try
            {
                if (!await each.MoveNextAsync()) yield break;
            }
            catch (OperationCanceledException)
            {
                yield break;
            }
            yield return each.Current;
        }
    }
}
