using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Machines;

/// <summary>What agents may ask. Each request is of the machine whose key it came with, whatever it says.</summary>
internal static class AgentEndpoints
{
    public static void MapAgents(this IEndpointRouteBuilder app, AgentDesk desk, ServiceSettings settings, TimeProvider clock)
    {
        var agent = app.MapGroup("/agent/v1");
        agent.MapPost("/join", async (JoinRequest request, HttpContext http, CancellationToken cancel) =>
            TypedResults.Ok(
                Answer(await desk.Book.JoinAsync(SecretOf(request.Secret), AgentListening.KeyOf(http), request.Self, From(http), cancel))
            )
        );
        agent.MapPost("/hello", async (AgentSelf self, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, desk, cancel);
            await desk.Book.HeardAsync(known, self, From(http));
            return TypedResults.Ok(Answer(known));
        });

        agent.MapOrders(desk, Answer);

        AgentAnswer Answer(Agent of) => new(of.Machine, settings.Machine, clock.GetUtcNow(), desk.Book.RightUntil(of));
    }

    internal static string From(HttpContext http) => http.Connection.RemoteIpAddress?.ToString() ?? "";

    private static byte[] SecretOf(string hex) =>
        hex.Length == 2 * JoinCode.SecretSize && hex.All(char.IsAsciiHexDigit)
            ? Convert.FromHexString(hex)
            : throw new BadHttpRequestException($"the secret of a code is {2 * JoinCode.SecretSize} hex digits");
}
