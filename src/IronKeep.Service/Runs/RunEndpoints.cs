using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

public static class RunEndpoints
{
    public static void MapRuns(this IEndpointRouteBuilder api)
    {
        var runs = api.MapGroup("/runs");
        runs.MapGet("/waiting", async (WaitingList list, CancellationToken cancel) => TypedResults.Ok(await list.OfAsync(cancel)))
            .WithSummary("The runs that wait, in the order in which they would begin, and what each waits for");
        runs.MapGet("", ListAsync).WithSummary("Runs, newest first, by job, store, machine, kind, state and outcome");
        runs.MapGet(
                "/{id:long}",
                async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    Dispatch dispatch,
                    CharterInForce inForce,
                    CancellationToken cancel
                ) =>
                    await db.Runs.FindAsync([id], cancel) is { } run
                        ? TypedResults.Ok(run.ToAnswer(dispatch.Find(id), inForce.Charter, dispatch.WaitsFor(id)))
                        : Missing(id)
            )
            .WithSummary("One run, with its figures as they are now");
        runs.MapGet(
                "/{id:long}/log",
                async Task<Results<Ok<RunLogAnswer>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    IRunLogs logs,
                    CancellationToken cancel,
                    int from = 0,
                    string severity = "info"
                ) =>
                {
                    if (Kebab.Read<LogSeverity>(severity) is not { } least)
                        return Problems.Invalid($"severity '{severity}' is not known; use info, warning or error");
                    return await db.Runs.AnyAsync(r => r.Id == id, cancel)
                        ? TypedResults.Ok(await logs.ReadAsync(id, Math.Max(0, from), least, cancel))
                        : Missing(id);
                }
            )
            .WithSummary("A run's log from a position on, while it runs and afterwards; with severity, lines that are at least so severe");
        runs.MapGet("/{id:long}/previous", PreviousAsync)
            .WithSummary("The run of the same kind, job and store that ended before this one, to set beside it");
        runs.MapPost("/{id:long}/cancel", CancelAsync).WithSummary("Ends a queued or running run");
    }

    internal static ProblemHttpResult Missing(long id) => Problems.NotThere("run", $"{id}", "runs", words: $"there is no run {id}");

    private static async Task<Results<Ok<Page<RunAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db,
        Dispatch dispatch,
        CharterInForce inForce,
        CancellationToken cancel,
        string? job = null,
        string? store = null,
        string? machine = null,
        string? kind = null,
        string? state = null,
        string? outcome = null,
        string? cursor = null,
        int limit = 100
    )
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem))
            return problem;
        var query = db.Runs.AsNoTracking().Where(r => before == null || r.Id < before);
        if (job is not null)
            query = query.Where(r => r.Job == job);
        if (store is not null)
            query = query.Where(r => r.Store == store);
        if (machine is not null)
            query = query.Where(r => r.Machine == machine);
        if (outcome is not null)
        {
            if (Kebab.Read<Core.Watching.Outcome>(outcome) is not { } wanted)
                return Problems.Invalid(
                    $"outcome '{outcome}' is not known; use ok, warned, suspect, failed, timed-out, missed, refused, held-back, not-needed "
                        + $"or cancelled"
                );
            query = query.Where(r => r.Outcome == wanted);
        }
        if (kind is not null)
        {
            if (Kebab.Read<RunKind>(kind) is not { } wanted)
                return Problems.Invalid($"kind '{kind}' is not known; use backup, check, prune, reclaim or restore");
            query = query.Where(r => r.Kind == wanted);
        }
        if (state is not null)
        {
            if (Kebab.Read<RunState>(state) is not { } wanted)
                return Problems.Invalid($"state '{state}' is not known; use queued, running or ended");
            query = query.Where(r => r.State == wanted);
        }
        var rows = await query.OrderByDescending(r => r.Id).Take(limit + 1).ToListAsync(cancel);
        return TypedResults.Ok(
            Paging.Page(rows, limit, r => r.Id, r => r.ToAnswer(dispatch.Find(r.Id), inForce.Charter, dispatch.WaitsFor(r.Id)))
        );
    }

    private static async Task<Results<Ok<PreviousRunAnswer>, ProblemHttpResult>> PreviousAsync(
        long id,
        KeepContext db,
        CancellationToken cancel
    )
    {
        if (await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run)
            return Missing(id);
        var before = db.Runs.AsNoTracking().Where(r => r.Id < id && r.Kind == run.Kind && r.State == RunState.Ended && r.CopyIds != "");
        if (run.Kind != RunKind.Backup)
            before = db
                .Runs.AsNoTracking()
                .Where(r => r.Id < id && r.Kind == run.Kind && r.State == RunState.Ended && r.Store == run.Store);
        var previous = await before.Where(r => r.Job == run.Job).OrderByDescending(r => r.Id).FirstOrDefaultAsync(cancel);
        return TypedResults.Ok(new PreviousRunAnswer(previous?.ToAnswer()));
    }

    private static async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> CancelAsync(
        long id,
        KeepContext db,
        Dispatch dispatch,
        RunEnds ends,
        EventHub events,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (dispatch.Find(id) is { } live)
        {
            live.Cancel();
            return TypedResults.Ok(live.Run.ToAnswer(live));
        }
        if (await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run)
            return Missing(id);
        if (run is { Kind: RunKind.Watched, State: RunState.Running })
            return Problems.Refused($"run {id} of {run.Job} is carried out by something else on {run.Machine}; stop it there");
        // Only one of two wins: this end, or the dispatch that takes the run.
        if (
            !await ends.EndAsync(
                run,
                RunState.Queued,
                null,
                new Progress(0, 0, 0, 0, 0, 0),
                new RunEnding(Core.Watching.Outcome.Cancelled, "cancelled before it began")
            )
        )
        {
            // Another service may have it: that is asked to end it.
            var by = http.User.Identity!.Name!;
            if (
                await db
                    .Runs.Where(r => r.Id == id && r.State == RunState.Running)
                    .ExecuteUpdateAsync(s => s.SetProperty(r => r.StopAsked, by), cancel) == 0
            )
                return Problems.Refused($"run {id} has ended already; nothing was cancelled");
            events.Order();
            if (dispatch.Find(id) is { } here)
                here.Cancel();
        }
        return TypedResults.Ok((await db.Runs.AsNoTracking().FirstAsync(r => r.Id == id, cancel)).ToAnswer());
    }
}
