using IronKeep.Contracts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Prunes;

public static class PruneEndpoints
{
    public static void MapPrunes(this IEndpointRouteBuilder api)
    {
        api.MapPost("/jobs/{name}/prune-plans", async Task<Results<Ok<PrunePlanAnswer>, ProblemHttpResult>> (string name, PruneDesk desk, CancellationToken cancel) =>
                await desk.PlanAsync(name, cancel) is { } plan ? TypedResults.Ok(plan) : Problems.NotFound($"there is no job '{name}' in the charter; list them with GET /api/v1/jobs"))
            .WithSummary("Makes the prune plan of a job as of now; nothing is removed");
        api.MapGet("/prune-plans/{fingerprint}", async Task<Results<Ok<PrunePlanAnswer>, ProblemHttpResult>> (string fingerprint, PruneDesk desk, CancellationToken cancel) =>
                await desk.FindAsync(fingerprint, cancel) is { } plan ? TypedResults.Ok(plan) : Missing(fingerprint))
            .WithSummary("A prune plan as it was shown");
        api.MapPost("/prune-plans/{fingerprint}/apply", ApplyAsync).WithSummary("Carries out a plan, if everything it rests on is unchanged");
    }

    private static ProblemHttpResult Missing(string fingerprint) =>
        Problems.NotFound($"there is no prune plan '{fingerprint}'; make one with POST /api/v1/jobs/NAME/prune-plans and use its fingerprint");

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> ApplyAsync(string fingerprint, PruneDesk desk, RunQueue queue, HttpContext http, CancellationToken cancel)
    {
        if (await desk.FindAsync(fingerprint, cancel) is not { } shown) return Missing(fingerprint);
        var (plan, drift) = await desk.ReviewAsync(fingerprint, cancel);
        if (plan is null) return Problems.Refused($"plan {fingerprint} no longer holds: {drift}; make a new plan and look at it");
        var run = await queue.AddAsync(RunKind.Prune, shown.Job, shown.Store, http.User.Identity!.Name!, new PruneOrder(fingerprint), cancel);
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }
}
