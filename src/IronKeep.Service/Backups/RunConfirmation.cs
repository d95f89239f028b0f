using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Backups;

/// <summary>A person says that a suspect run is right.</summary>
public static class RunConfirmation
{
    public static void MapConfirmation(this IEndpointRouteBuilder api) =>
        api.MapPost("/runs/{id:long}/confirm", ConfirmAsync)
            .WithSummary(
                "Says that a suspect run, or one that changed much at once, is right as it is; what is usual is learned anew from a "
                    + "suspect one on"
            );

    private static async Task<Results<Ok<RunAnswer>, ProblemHttpResult>> ConfirmAsync(
        long id,
        KeepContext db,
        CopyBook copies,
        AlertBook alerts,
        TimeProvider clock,
        EventHub events,
        FactSignal signal,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (await db.Runs.FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } run)
            return RunEndpoints.Missing(id);
        // One store may have failed where what another got is in doubt.
        var inDoubt = await db.Copies.AnyAsync(c => c.RunId == id && c.Doubt != null, cancel);
        var suspect = run.Outcome == Core.Watching.Outcome.Suspect || inDoubt;
        if (!suspect && run.Surge is null)
            return Problems.Refused($"run {id} is not suspect; there is nothing to confirm");
        if (run.ConfirmedAt is not null)
            return Problems.Refused($"run {id} was confirmed already, by {run.ConfirmedBy}");
        run.ConfirmedBy = http.User.Identity!.Name!;
        run.ConfirmedAt = clock.Now();
        // Earlier suspect runs of the job are settled by it as well: somebody has looked at what came after them.
        var settles = await db
            .Copies.Where(c => c.Job == run.Job && c.Machine == run.Machine && c.Doubt != null && c.RunId <= id)
            .Select(c => new { c.Id, c.Store })
            .ToListAsync(cancel);
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            await db
                .Copies.Where(c => c.Job == run.Job && c.Machine == run.Machine && c.Doubt != null && c.RunId <= id)
                .ExecuteUpdateAsync(s => s.SetProperty(c => c.Doubt, (string?)null).SetProperty(c => c.NoteDue, true), cancel);
            if (suspect && await db.JobsOnMachines.FindAsync([run.Job!, run.Machine], cancel) is { } watch)
                watch.BaseRunId = id;
            await db.SaveChangesAsync(cancel);
            await AlertBook.SurgesSeenAsync(db, run.Job!, run.Machine, run.ConfirmedBy, cancel);
            await alerts.CloseAsync(db, Subject.OfJob(run.Job!, run.Machine), [AlertClass.Surge], cancel);
            if (!await db.Copies.AnyAsync(c => c.Job == run.Job && c.Machine == run.Machine && c.Doubt != null, cancel))
                await alerts.CloseAsync(db, Subject.OfJob(run.Job!, run.Machine), [AlertClass.Suspect], cancel);
            await change.CommitAsync(cancel);
        }
        signal.Wake();
        foreach (var store in settles.GroupBy(s => s.Store))
            await copies.NoteAsync(store.Key, [.. store.Select(s => s.Id)]);
        events.Publish(run);
        events.Publish(Topic.Copies);
        return TypedResults.Ok(run.ToAnswer());
    }
}
