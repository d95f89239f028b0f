using IronKeep.Contracts;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Rotation;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Forecasts;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace IronKeep.Service.Rotations;

public static class RotationEndpoints
{
    private const int MostNights = 800;

    /// <summary>A calendar is played from the set's first night on.</summary>
    private const int MostYearsAhead = 30;

    public static void MapRotations(this IEndpointRouteBuilder api)
    {
        var rotations = api.MapGroup("/rotations");
        rotations
            .MapGet(
                "",
                Results<Ok<IReadOnlyList<RotationAnswer>>, ProblemHttpResult> (
                    CharterInForce inForce,
                    TimeProvider clock,
                    DateOnly? first,
                    int nights = 42
                ) =>
                {
                    if (TooMany(nights) is { } refused)
                        return refused;
                    var charter = inForce.Charter;
                    var tonight = clock.Now().InZone(charter.Zone).Date;
                    var from = first is { } date ? LocalDate.FromDateOnly(date) : tonight;
                    if (from > tonight.PlusYears(MostYearsAhead))
                        return Problems.Invalid(
                            $"first {first:yyyy-MM-dd} is more than {MostYearsAhead} years ahead; ask for a nearer night"
                        );
                    return TypedResults.Ok<IReadOnlyList<RotationAnswer>>([
                        .. charter.RotationSets.Values.Select(s => Forecaster.Nights(charter, s, from, nights).ToAnswer(charter)),
                    ]);
                }
            )
            .WithSummary("The medium of every night of each rotation set");
        var schemes = rotations.MapGroup("/schemes");
        schemes
            .MapGet("", () =>
                TypedResults.Ok<IReadOnlyList<SchemeAnswer>>([
                    .. ReadyScheme.All.Select(s => new SchemeAnswer(
                        s.Name,
                        s.Title,
                        s.Words,
                        [.. s.Numbers.Select(n => new SchemeNumberAnswer(n.Name, n.Words, n.Usual, n.Least, n.Most))]
                    )),
                ])
            )
            .WithSummary("Disciplines of rotation media that are ready to start from");
        schemes
            .MapPost(
                "/{name}/preview",
                Results<Ok<SchemePlayAnswer>, ProblemHttpResult> (string name, SchemeRequest request, SchemeDesk desk, int nights = 42) =>
                    TooMany(nights) is { } refused ? refused
                    : ReadyScheme.Find(name) is { } scheme ? TypedResults.Ok(desk.Preview(scheme, request, nights).Answer)
                    : Missing(name)
            )
            .WithSummary(
                "The groups, media and nights of a scheme, how many media it needs and how far back they reach; nothing is changed"
            );
        schemes.MapPost("/{name}", ApplyAsync).WithSummary("Brings the set of a scheme into the charter with its groups, all or nothing");
    }

    private static async Task<Results<Ok<SchemePlayAnswer>, ProblemHttpResult>> ApplyAsync(
        string name,
        SchemeRequest request,
        SchemeDesk desk,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (ReadyScheme.Find(name) is not { } scheme)
            return Missing(name);
        var (answer, reading) = desk.Preview(scheme, request, 42);
        if (reading is null)
            return Problems.Invalid(string.Join(" ", answer.Mistakes));
        return await desk.ApplyAsync(reading, answer.Revision, http.User.Identity!.Name!, cancel) is { } problem
            ? Problems.Refused(problem)
            : TypedResults.Ok(answer);
    }

    private static ProblemHttpResult? TooMany(int nights) =>
        nights is < 1 or > MostNights ? Problems.Invalid($"nights {nights} is out of range; use 1 to {MostNights}") : null;

    private static ProblemHttpResult Missing(string name) =>
        Problems.NotFound($"there is no ready scheme '{name}'; there are {string.Join(", ", ReadyScheme.All.Select(s => s.Name))}");
}
