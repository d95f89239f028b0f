using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Machines;

/// <summary>What agents may ask. Each request is of the machine whose key it came with, whatever it says.</summary>
internal static class AgentEndpoints
{
    public static void MapAgents(
        this IEndpointRouteBuilder app,
        AgentBook book,
        AgentOrders orders,
        IOwedLogs owed,
        LineCeilings lines,
        NextDues due,
        ServicesToKeep keeps,
        StandingBook standing,
        IJournals journals,
        ConnectionGate gate,
        ServiceSettings settings,
        TimeProvider clock
    )
    {
        var agent = app.MapGroup("/agent/v1");
        agent.MapPost("/join", async (JoinRequest request, HttpContext http, CancellationToken cancel) =>
            TypedResults.Ok(
                Answer(await book.JoinAsync(SecretOf(request.Secret), AgentListening.KeyOf(http), request.Self, From(http), cancel))
            )
        );
        agent.MapPost("/hello", async (AgentSelf self, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, book, gate, cancel);
            await book.HeardAsync(known, self, From(http), cancel);
            return TypedResults.Ok(Answer(known));
        });

        agent.MapOrders(book, orders, owed, lines, due, keeps, standing, journals, gate, Answer);

        AgentAnswer Answer(Agent of) => new(of.Machine, settings.Machine, clock.GetUtcNow(), book.RightUntil(of));
    }

    internal static string From(HttpContext http) => http.Connection.RemoteIpAddress?.ToString() ?? "";

    private static byte[] SecretOf(string hex) =>
        hex.Length == 2 * JoinCode.SecretSize && hex.All(char.IsAsciiHexDigit)
            ? Convert.FromHexString(hex)
            : throw new BadHttpRequestException($"the secret of a code is {2 * JoinCode.SecretSize} hex digits");
}
