using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace IronKeep.Service.Prunes;

public static class PruneEndpoints
{
    public static void MapPrunes(this IEndpointRouteBuilder api)
    {
        api.MapPost("/jobs/{name}/prune-plans", PlanAsync)
            .WithSummary(
                "Makes the prune plan of a job in one of its stores as of now; with asOf (RFC 3339) what the rules decide at that instant "
                    + "over the copies of today, only to look at. Nothing is removed"
            );
        api.MapGet(
                "/prune-plans/{fingerprint}",
                async Task<Results<Ok<PrunePlanAnswer>, ProblemHttpResult>> (
                    string fingerprint,
                    PruneDesk desk,
                    CancellationToken cancel
                ) => await desk.FindAsync(fingerprint, cancel) is { } plan ? TypedResults.Ok(plan) : Missing(fingerprint)
            )
            .WithSummary("A prune plan as it was shown");
        api.MapPost("/prune-plans/{fingerprint}/apply", ApplyAsync)
            .WithSummary("Carries out a plan, if everything it rests on is unchanged; one that the brake holds needs a reason in confirm");
    }

    private static ProblemHttpResult Missing(string fingerprint) =>
        Problems.Of(
            StatusCodes.Status404NotFound,
            "Not found",
            $"there is no prune plan '{fingerprint}'",
            ProblemCodes.NotThere,
            "POST /api/v1/jobs/NAME/prune-plans makes one; use its fingerprint",
            (ProblemCodes.Kind, "prune plan"),
            (ProblemCodes.Name, fingerprint)
        );

    private static async Task<Results<Ok<PrunePlanAnswer>, ProblemHttpResult>> PlanAsync(
        string name,
        CharterInForce charter,
        PruneDesk desk,
        CancellationToken cancel,
        string? store = null,
        string? asOf = null,
        string? on = null
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        if (job.Into.Length == 0)
            return Problems.Refused(
                $"job {name} is watched and says nowhere that it leaves copies, so there is nothing to prune; name the store with "
                    + $"'leaves-copy-in'"
            );
        if (store is null && job.Into.Length > 1)
            return Problems.Of(
                StatusCodes.Status400BadRequest,
                "Not understood",
                $"job {name} goes into several stores: {string.Join(" and ", job.Into)}",
                ProblemCodes.WhichStore,
                "say which is meant with ?store=NAME",
                (ProblemCodes.Kind, "job"),
                (ProblemCodes.Name, name),
                (ProblemCodes.Stores, string.Join(", ", job.Into))
            );
        if (store is not null && !job.Into.Contains(store))
            return Problems.Invalid($"job {name} does not go into store '{store}'; it goes into {string.Join(" and ", job.Into)}");
        Instant? at = null;
        if (asOf is not null)
        {
            if (
                !DateTimeOffset.TryParse(asOf, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var instant)
                || instant.Year is < 1970 or > 9000
            )
                return Problems.Invalid($"asOf '{asOf}' is not an instant; write 2027-03-28T01:00:00Z");
            at = Instant.FromDateTimeOffset(instant);
        }
        return TypedResults.Ok(await desk.PlanAsync(job, job.Machine, store ?? job.Into[0], at, cancel));
    }

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> ApplyAsync(
        string fingerprint,
        PruneDesk desk,
        RunQueue queue,
        OpenStores stores,
        HttpContext http,
        CancellationToken cancel,
        string? confirm = null
    )
    {
        if (await desk.FindAsync(fingerprint, cancel) is not { } shown)
            return Missing(fingerprint);
        if (confirm is { } reason)
        {
            if (reason.Trim().Length < 3)
                return Problems.Invalid("say in a few words why the plan is right although the brake holds it");
            await desk.ConfirmAsync(fingerprint, http.User.Identity!.Name!, reason.Trim(), cancel);
        }
        var (plan, problem) = await desk.ReviewAsync(fingerprint, cancel);
        if (plan is null)
            return Problems.Refused(problem!);
        if (
            await stores.AskAsync(shown.Store, s =>
                s.Can.HasBin
                    ? null
                    : $"store {shown.Store} is to look at only: the service may not write to its folder, so nothing can go to its bin; "
                        + $"give it the right to"
            ) is
            { } only
        )
            return Problems.Refused(only);
        var run = await queue.AddAsync(
            new RunRequest(RunKind.Prune, shown.Job, shown.Store, Actor.Person(http.User.Identity!.Name!))
            {
                Machine = shown.Machine,
                Order = new PruneOrder(fingerprint),
            },
            cancel
        );
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }
}
