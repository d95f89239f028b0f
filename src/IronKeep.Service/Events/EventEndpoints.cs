using System.Security.Claims;
using IronKeep.Contracts;

namespace IronKeep.Service.Events;

/// <summary>Knows whether whoever listens may still be in.</summary>
public interface IStillIn
{
    Task<bool> IsStillInAsync(ClaimsPrincipal who, CancellationToken cancel);
}

public static class EventEndpoints
{
    public static void MapEvents(this IEndpointRouteBuilder api) =>
        api.MapGet("/events", (EventHub hub, IStillIn sessions, IHostApplicationLifetime life, HttpContext http) =>
            {
                // The stream must end when the service stops, or stopping waits for every open page.
                var stop = CancellationTokenSource.CreateLinkedTokenSource(http.RequestAborted, life.ApplicationStopping);
                _ = WatchAsync(sessions, http.User, stop);
                http.Response.OnCompleted(() =>
                {
                    stop.Dispose();
                    return Task.CompletedTask;
                });
                return TypedResults.ServerSentEvents(Quietly(hub.Listen(stop.Token), stop.Token));
            })
            .WithSummary("Everything live, as server-sent events");

    /// <summary>How often a stream asks whether whoever listens may still be in; real time.</summary>
    public static TimeSpan AsksEvery { get; set; } = TimeSpan.FromMinutes(1);

    /// <summary>Ends the stream of somebody whose session was ended, or whose token was taken back.</summary>
    private static async Task WatchAsync(IStillIn sessions, ClaimsPrincipal who, CancellationTokenSource stop)
    {
        try
        {
            while (true)
            {
                await Task.Delay(AsksEvery, stop.Token);
                if (await sessions.IsStillInAsync(who, stop.Token))
                    continue;
                await stop.CancelAsync();
                return;
            }
        }
        catch (Exception e) when (e is OperationCanceledException or ObjectDisposedException)
        {
            // The stream has ended.
        }
        catch (Exception)
        {
            // Whoever cannot be looked up is not let listen on.
            stop.Cancel();
        }
    }

    private static async IAsyncEnumerable<KeepEvent> Quietly(
        IAsyncEnumerable<KeepEvent> events,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancel
    )
    {
        await using var each = events.GetAsyncEnumerator(cancel);
        while (true)
        {
            try
            {
                if (!await each.MoveNextAsync())
                    yield break;
            }
            catch (OperationCanceledException)
            {
                yield break;
            }
            yield return each.Current;
        }
    }
}
