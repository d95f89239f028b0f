using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

public static class RunEndpoints
{
    public static void MapRuns(this IEndpointRouteBuilder api)
    {
        var runs = api.MapGroup("/runs");
        runs.MapGet("", ListAsync).WithSummary("Runs, newest first, by job, store, kind, state and outcome");
        runs.MapGet("/{id:long}", async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> (long id, KeepContext db, Dispatch dispatch, CancellationToken cancel) =>
                await db.Runs.FindAsync([id], cancel) is { } run ? TypedResults.Ok(run.ToAnswer(dispatch.Find(id))) : Missing(id))
            .WithSummary("One run, with its figures as they are now");
        runs.MapGet("/{id:long}/log", async Task<Results<Ok<RunLogAnswer>, ProblemHttpResult>> (long id, KeepContext db, RunLogs logs, CancellationToken cancel, int from = 0, string severity = "info") =>
            {
                if (Kebab.Read<IronKeep.Runs.LogSeverity>(severity) is not { } least) return Problems.Invalid($"severity '{severity}' is not known; use info, warning or error");
                return await db.Runs.AnyAsync(r => r.Id == id, cancel) ? TypedResults.Ok(logs.Read(id, Math.Max(0, from), least)) : Missing(id);
            })
            .WithSummary("A run's log from a position on, while it runs and afterwards; with severity, lines that are at least so severe");
        runs.MapGet("/{id:long}/previous", PreviousAsync).WithSummary("The run of the same kind, job and store that ended before this one, to set beside it");
        runs.MapPost("/{id:long}/confirm", ConfirmAsync).WithSummary("Says that a suspect run is right as it is; what is usual is learned anew from it on");
        runs.MapPost("/{id:long}/cancel", CancelAsync).WithSummary("Ends a queued or running run");
    }

    private static ProblemHttpResult Missing(long id) => Problems.NotFound($"there is no run {id}; list them with GET /api/v1/runs");

    private static async Task<Results<Ok<Page<RunAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db, Dispatch dispatch, CancellationToken cancel, string? job = null, string? store = null, string? kind = null, string? state = null, string? outcome = null, string? cursor = null, int limit = 100)
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem)) return problem;
        var query = db.Runs.AsNoTracking().Where(r => before == null || r.Id < before);
        if (job is not null) query = query.Where(r => r.Job == job);
        if (store is not null) query = query.Where(r => r.Store == store);
        if (outcome is not null)
        {
            if (Kebab.Read<Core.Watching.Outcome>(outcome) is not { } wanted) return Problems.Invalid($"outcome '{outcome}' is not known; use ok, warned, suspect, failed, timed-out, missed, refused, held-back, not-needed or cancelled");
            query = query.Where(r => r.Outcome == wanted);
        }
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

    private static async Task<Results<Ok<PreviousRunAnswer>, ProblemHttpResult>> PreviousAsync(long id, KeepContext db, CancellationToken cancel)
    {
        if (await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run) return Missing(id);
        var before = db.Runs.AsNoTracking().Where(r => r.Id < id && r.Kind == run.Kind && r.State == RunState.Ended && r.CopyIds != "");
        if (run.Kind != RunKind.Backup) before = db.Runs.AsNoTracking().Where(r => r.Id < id && r.Kind == run.Kind && r.State == RunState.Ended && r.Store == run.Store);
        var previous = await before.Where(r => r.Job == run.Job).OrderByDescending(r => r.Id).FirstOrDefaultAsync(cancel);
        return TypedResults.Ok(new PreviousRunAnswer(previous?.ToAnswer()));
    }

    private static async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> ConfirmAsync(
        long id, KeepContext db, CopyBook copies, AlertBook alerts, TimeProvider clock, EventHub events, HttpContext http, CancellationToken cancel)
    {
        if (await db.Runs.FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run) return Missing(id);
        // One store may have failed where what another got is in doubt.
        var inDoubt = await db.Copies.Where(c => c.RunId == id && c.Doubt != null).Select(c => c.Id).ToListAsync(cancel);
        if (run.Outcome != Core.Watching.Outcome.Suspect && inDoubt.Count == 0) return Problems.Refused($"run {id} is not suspect; there is nothing to confirm");
        if (run.ConfirmedAt is not null) return Problems.Refused($"run {id} was confirmed already, by {run.ConfirmedBy}");
        run.ConfirmedBy = http.User.Identity!.Name!;
        run.ConfirmedAt = clock.Now();
        // Earlier suspect runs of the job are settled by it as well: somebody has looked at what came after them.
        var settles = await db.Copies.Where(c => c.Job == run.Job && c.Machine == run.Machine && c.Doubt != null && c.RunId <= id).Select(c => c.Id).ToListAsync(cancel);
        await db.Copies.Where(c => settles.Contains(c.Id)).ExecuteUpdateAsync(s => s.SetProperty(c => c.Doubt, (string?)null).SetProperty(c => c.NoteDue, true), cancel);
        if (await db.JobWatches.FindAsync([run.Job!, run.Machine], cancel) is { } watch) watch.BaseRunId = id;
        await db.SaveChangesAsync(cancel);
        if (!await db.Copies.AnyAsync(c => c.Job == run.Job && c.Machine == run.Machine && c.Doubt != null, cancel))
            await alerts.CloseAsync(AlertBook.JobSubject(run.Job!, run.Machine), [AlertClass.Suspect], cancel);
        await copies.NoteAsync(settles);
        events.Publish("run", run.ToAnswer());
        events.Publish("copies");
        return TypedResults.Ok(run.ToAnswer());
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
