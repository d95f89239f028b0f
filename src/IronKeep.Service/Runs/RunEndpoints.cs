using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Hosting;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

public static class RunEndpoints
{
    public static void MapRuns(this IEndpointRouteBuilder api)
    {
        var runs = api.MapGroup("/runs");
        runs.MapGet("", ListAsync).WithSummary("Runs, newest first, by job, kind and state");
        runs.MapGet("/{id:long}", async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> (long id, KeepContext db, Dispatch dispatch, CancellationToken cancel) =>
                await db.Runs.FindAsync([id], cancel) is { } run ? TypedResults.Ok(run.ToAnswer(dispatch.Find(id))) : Missing(id))
            .WithSummary("One run, with its figures as they are now");
        runs.MapGet("/{id:long}/log", async Task<Results<Ok<RunLogAnswer>, ProblemHttpResult>> (long id, KeepContext db, RunLogs logs, CancellationToken cancel, int from = 0) =>
                await db.Runs.AnyAsync(r => r.Id == id, cancel) ? TypedResults.Ok(logs.Read(id, Math.Max(0, from))) : Missing(id))
            .WithSummary("A run's log from a position on, while it runs and afterwards");
        runs.MapPost("/{id:long}/cancel", CancelAsync).WithSummary("Ends a queued or running run");
    }

    private static ProblemHttpResult Missing(long id) => Problems.NotFound($"there is no run {id}; list them with GET /api/v1/runs");

    private static async Task<Results<Ok<Page<RunAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db, Dispatch dispatch, CancellationToken cancel, string? job = null, string? kind = null, string? state = null, string? cursor = null, int limit = 100)
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem)) return problem;
        var query = db.Runs.AsNoTracking().Where(r => before == null || r.Id < before);
        if (job is not null) query = query.Where(r => r.Job == job);
        if (kind is not null)
        {
            if (Kebab.Read<RunKind>(kind) is not { } wanted) return Problems.Invalid($"kind '{kind}' is not known; use backup, check, prune, reclaim or restore");
            query = query.Where(r => r.Kind == wanted);
        }
        if (state is not null)
        {
            if (Kebab.Read<RunState>(state) is not { } wanted) return Problems.Invalid($"state '{state}' is not known; use queued, running or ended");
            query = query.Where(r => r.State == wanted);
        }
        var rows = await query.OrderByDescending(r => r.Id).Take(limit + 1).ToListAsync(cancel);
        return TypedResults.Ok(Paging.Page(rows, limit, r => r.Id, r => r.ToAnswer(dispatch.Find(r.Id))));
    }

    private static async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> CancelAsync(long id, KeepContext db, Dispatch dispatch, Aftermath aftermath, CancellationToken cancel)
    {
        if (dispatch.Find(id) is { } live)
        {
            live.Cancel();
            return TypedResults.Ok(live.Run.ToAnswer(live));
        }
        if (await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run) return Missing(id);
        // Only one of two wins: this update, or the dispatch that takes the run.
        var won = await db.Runs.Where(r => r.Id == id && r.State == RunState.Queued).ExecuteUpdateAsync(s => s.SetProperty(r => r.State, RunState.Ended), cancel);
        if (won == 0) return Problems.Refused($"run {id} has ended already; nothing was cancelled");
        await aftermath.EndAsync(run, new Progress(0, 0, 0, 0, 0, 0), new RunEnding(Core.Watching.Outcome.Cancelled, "cancelled before it began"));
        return TypedResults.Ok((await db.Runs.FindAsync([id], cancel))!.ToAnswer());
    }
}
