using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Duty;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Jobs;

public static class JobEndpoints
{
    private const int HistoryShown = 400;

    public static void MapJobs(this IEndpointRouteBuilder api)
    {
        var jobs = api.MapGroup("/jobs");
        jobs.MapGet(
                "",
                async (
                    CharterInForce charter,
                    KeepContext db,
                    JobsNow now,
                    CancellationToken cancel,
                    string? job = null,
                    string? machine = null
                ) =>
                {
                    var all = charter
                        .Charter.Placed.All.Where(j => (job is null || j.Name == job) && (machine is null || j.Machine == machine))
                        .ToList();
                    return TypedResults.Ok(await now.OfAsync(db, charter.Charter, all, cancel));
                }
            )
            .WithSummary("All jobs with where they stand, each on each of its machines; of one job, or of one machine");
        jobs.MapGet(
                "/{name}",
                async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> (
                    string name,
                    string? on,
                    CharterInForce charter,
                    KeepContext db,
                    JobsNow now,
                    CancellationToken cancel
                ) =>
                    WhichJob.Of(charter.Charter, name, on, out var problem) is { } job
                        ? TypedResults.Ok((await now.OfAsync(db, charter.Charter, [job], cancel))[0])
                        : problem!
            )
            .WithSummary("One job; of one that is on several machines 'on' says where");
        jobs.MapPost("/{name}/runs", RunNowAsync).WithSummary("Runs the job now");
        jobs.MapGet("/{name}/history", HistoryAsync)
            .WithSummary("The runs of a job that left a copy, or were heard to end well, oldest first: size, change and duration");
        jobs.MapGet("/{name}/when", JobWhen.AnswerAsync)
            .WithSummary("When a job is due around an instant, what was dropped or shifted and why, and what its planned runs became");
        jobs.MapPut("/{name}/pause", PauseAsync).WithSummary("Pauses a job until an instant: its planned runs are held back and say why");
        jobs.MapDelete("/{name}/pause", ResumeAsync).WithSummary("Ends a job's pause");
        jobs.MapPost("/{name}/next-full", AskForFullAsync)
            .WithSummary("Makes the next copy of a job that makes partial ones a full one, once");
        jobs.MapDelete("/{name}/next-full", TakeFullBackAsync).WithSummary("The next copy is what the charter says again");
    }

    private static async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> AskForFullAsync(
        string name,
        string? on,
        CharterInForce charter,
        NextCopies next,
        KeepContext db,
        JobsNow jobs,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        if (job.Partials is null)
            return Problems.Refused($"every copy of {name} is full already, for its charter says nothing of 'partials'");
        await next.AskForFullAsync(job.Name, job.Machine, http.User.Identity!.Name!, cancel);
        return TypedResults.Ok((await jobs.OfAsync(db, charter.Charter, [job], cancel))[0]);
    }

    private static async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> TakeFullBackAsync(
        string name,
        string? on,
        CharterInForce charter,
        NextCopies next,
        KeepContext db,
        JobsNow jobs,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        await next.AskForFullAsync(job.Name, job.Machine, null, cancel);
        return TypedResults.Ok((await jobs.OfAsync(db, charter.Charter, [job], cancel))[0]);
    }

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> RunNowAsync(
        string name,
        string? on,
        CharterInForce charter,
        RunNow now,
        KeepContext db,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        var begun = await now.BeginAsync(db, job, http.User.Identity!.Name!, cancel);
        return begun.Run is { } run ? TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer()) : Problems.Refused(begun.Refusal!);
    }

    private static async Task<Results<Ok<IReadOnlyList<HistoryPoint>>, ProblemHttpResult>> HistoryAsync(
        string name,
        string? on,
        KeepContext db,
        CancellationToken cancel
    )
    {
        var rows = await db
            .Runs.AsNoTracking()
            .Where(r =>
                r.Job == name
                && (on == null || r.Machine == on)
                && (
                    (r.Kind == RunKind.Backup && r.CopyIds != "")
                    || (
                        r.Kind == RunKind.Watched
                        && (r.Outcome == Outcome.Ok || r.Outcome == Outcome.Warned || r.Outcome == Outcome.Suspect)
                    )
                )
            )
            .OrderByDescending(r => r.Id)
            .Take(HistoryShown)
            .ToListAsync(cancel);
        rows.Reverse();
        return TypedResults.Ok<IReadOnlyList<HistoryPoint>>([
            .. rows.Where(r => r is { Began: not null, Ended: not null, Outcome: not null })
                .Select(r => new HistoryPoint(
                    r.Id,
                    r.Began!.Value.ToDateTimeOffset(),
                    r.Outcome!.Value,
                    r.Items,
                    r.SelectedBytes,
                    r.NewBytes,
                    r.StoredBytes,
                    r.Took.TotalSeconds
                )),
        ]);
    }

    private static async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> PauseAsync(
        string name,
        string? on,
        PauseRequest request,
        CharterInForce charter,
        Pauses pauses,
        KeepContext db,
        JobsNow jobs,
        TimeProvider clock,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        var now = clock.Now();
        if (request.Reason.Trim().Length is < 3 or > 500)
            return Problems.Invalid("say in a few words (3 to 500 characters) why the job is paused");
        var until = Instant.FromDateTimeOffset(request.Until);
        if (until <= now)
            return Problems.Invalid($"until {request.Until:u} is not in the future; a pause has an end, so that nobody forgets it");
        if (until > now + Pauses.Longest)
            return Problems.Invalid(
                $"until {request.Until:u} is more than {Pauses.Longest.Days} days away; what is to stop for good is taken out of the "
                    + $"charter"
            );
        await pauses.PauseAsync(job, job.Machine, http.User.Identity!.Name!, request.Reason.Trim(), until, cancel);
        return TypedResults.Ok((await jobs.OfAsync(db, charter.Charter, [job], cancel))[0]);
    }

    private static async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> ResumeAsync(
        string name,
        string? on,
        CharterInForce charter,
        Pauses pauses,
        KeepContext db,
        JobsNow jobs,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        await pauses.ResumeAsync(job, job.Machine, cancel);
        return TypedResults.Ok((await jobs.OfAsync(db, charter.Charter, [job], cancel))[0]);
    }
}
