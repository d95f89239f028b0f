using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Prunes;

/// <summary>A person holds all expiry of a job until a day: nothing of it goes meanwhile, whatever its policy says.</summary>
public static class ExpiryHolds
{
    private static readonly Duration Longest = Duration.FromDays(366);

    public static void MapExpiryHolds(this IEndpointRouteBuilder api)
    {
        api.MapPut("/jobs/{name}/expiry-hold", HoldAsync).WithSummary("Holds all expiry of a job until an instant, with a reason");
        api.MapDelete("/jobs/{name}/expiry-hold", LetGoAsync).WithSummary("Ends the hold of a job's expiry; its policy decides again");
    }

    /// <summary>What is held now, by job and machine, in words that follow "frozen:".</summary>
    public static async Task<Dictionary<(string Job, string Machine), string>> OpenAsync(
        KeepContext db,
        Charter charter,
        Instant now,
        CancellationToken cancel
    ) =>
        (await db.JobsOnMachines.AsNoTracking().Where(j => j.ExpiryHeldUntil > now).ToListAsync(cancel)).ToDictionary(
            j => (j.Job, j.Machine),
            j => $"{j.ExpiryHeldBy} holds expiry until {j.ExpiryHeldUntil!.Value.Local(charter.Zone)}: {j.ExpiryHeldReason}"
        );

    private static async Task<Results<Ok<ExpiryHoldAnswer>, ProblemHttpResult>> HoldAsync(
        string name,
        string? on,
        ExpiryHoldRequest request,
        CharterInForce inForce,
        AlertBook book,
        KeepContext db,
        TimeProvider clock,
        EventHub events,
        IOptions<ServiceSettings> settings,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(inForce.Charter, name, on, out var problem) is not { } job)
            return problem!;
        var (now, until) = (clock.Now(), Instant.FromDateTimeOffset(request.Until));
        if (request.Reason.Trim().Length is < 3 or > 500)
            return Problems.Invalid("say in a few words (3 to 500 characters) why nothing is to expire");
        if (until <= now || until > now + Longest)
            return Problems.Invalid(
                $"until {request.Until:u} is not within the coming {Longest.Days} days; a hold has an end, so that nobody forgets it"
            );
        if (request.AlertId is { } id && !await db.Alerts.AnyAsync(a => a.Id == id, cancel))
            return Problems.NotThere("alert", $"{id}", "alerts");
        var (by, reason) = (http.User.Identity!.Name!, request.Reason.Trim());
        await using var change = await db.BeginChangeAsync(cancel);
        var row = await db.JobsOnMachines.FindAsync([name, job.Machine], cancel);
        if (row is null)
            return Problems.Refused($"job {name} is not watched yet; try again in a moment");
        (row.ExpiryHeldUntil, row.ExpiryHeldBy, row.ExpiryHeldReason) = (until, by, reason);
        if (request.AlertId is { } alert)
            book.Note(
                db,
                alert,
                AlertDeedKind.Noted,
                by,
                $"holds expiry of job {name} until {until.Local(inForce.Charter.Zone)}: {reason}"
            );
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        events.Publish(Topic.Charter);
        return TypedResults.Ok(new ExpiryHoldAnswer(by, reason, request.Until));
    }

    private static async Task<Results<Ok<ExpiryHoldAnswer>, ProblemHttpResult>> LetGoAsync(
        string name,
        string? on,
        CharterInForce inForce,
        KeepContext db,
        EventHub events,
        IOptions<ServiceSettings> settings,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(inForce.Charter, name, on, out var problem) is not { } job)
            return problem!;
        await using var change = await db.BeginChangeAsync(cancel);
        var row = await db.JobsOnMachines.FindAsync([name, job.Machine], cancel);
        if (row is not { ExpiryHeldUntil: { } until })
            return Problems.Refused($"expiry of job {name} is not held; there is nothing to end");
        var held = new ExpiryHoldAnswer(row.ExpiryHeldBy!, row.ExpiryHeldReason!, until.ToDateTimeOffset());
        (row.ExpiryHeldUntil, row.ExpiryHeldBy, row.ExpiryHeldReason) = (null, null, null);
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        events.Publish(Topic.Charter);
        return TypedResults.Ok(held);
    }
}
