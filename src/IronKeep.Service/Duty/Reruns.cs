using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Running again what an alert is about: with today's settings or those of the run that failed, at once or when the job's quiet hours are
/// over; or waiting for the next planned run. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class Reruns(CharterInForce inForce, EarlierCharters earlier, AlertBook book, RunNow runNow, TimeProvider clock)
{
    /// <summary>More windows than this lie in no row.</summary>
    private const int MostWindows = 400;

    public static void Map(IEndpointRouteBuilder api)
    {
        api.MapGet(
                "/alerts/{id:long}/reruns",
                async Task<Results<Ok<AlertRerunPreview>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    Reruns reruns,
                    CancellationToken cancel,
                    string? job = null
                ) =>
                    await OfAsync(db, id, job, cancel) is var (alert, names, problem) && problem is not null
                        ? problem
                        : TypedResults.Ok(await reruns.PreviewAsync(db, alert!, names, cancel))
            )
            .WithSummary(
                "What running again what an alert is about would do: settings that changed since, quiet hours, the next planned run"
            );
        api.MapPost(
                "/alerts/{id:long}/reruns",
                async Task<Results<Ok<AlertRerunAnswer>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    Reruns reruns,
                    HttpContext http,
                    CancellationToken cancel,
                    string? job = null,
                    string? settings = null,
                    string? when = null
                ) =>
                {
                    if (BadChoice(settings, when) is { } bad)
                        return bad;
                    var (alert, names, problem) = await OfAsync(db, id, job, cancel);
                    if (problem is not null)
                        return problem;
                    var by = http.User.Identity!.Name!;
                    var jobs = await reruns.JobsOfAsync(db, alert!, names, cancel);
                    return TypedResults.Ok(await reruns.BeginAsync(db, alert, jobs, settings == "then", when == "window", by, cancel));
                }
            )
            .WithSummary("Runs again what the alert is about: the job named, or every job that its cause stopped");
        api.MapPost(
                "/alerts/{id:long}/wait",
                async Task<Results<Ok<AlertAnswer>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    Reruns reruns,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    var (alert, names, problem) = await OfAsync(db, id, null, cancel);
                    if (problem is not null)
                        return problem;
                    if (await reruns.WaitAsync(db, alert!, names, http.User.Identity!.Name!, cancel) is { } refusal)
                        return Problems.Refused(refusal);
                    return TypedResults.Ok((await db.Alerts.AsNoTracking().FirstAsync(a => a.Id == id, cancel)).ToAnswer());
                }
            )
            .WithSummary(
                "Waits for the next planned run: nobody is told until it should be over, and again afterwards if that did not help"
            );
    }

    public static void MapFailed(IEndpointRouteBuilder api) =>
        api.MapPost(
                "/jobs/{name}/reruns",
                async Task<Results<Ok<AlertRerunAnswer>, ProblemHttpResult>> (
                    string name,
                    KeepContext db,
                    Reruns reruns,
                    CharterInForce charter,
                    HttpContext http,
                    CancellationToken cancel,
                    string? on = null,
                    string? settings = null,
                    string? when = null
                ) =>
                {
                    if (BadChoice(settings, when) is { } bad)
                        return bad;
                    if (!charter.Charter.Jobs.ContainsKey(name))
                        return Problems.NotThere("job", name, "jobs");
                    var failed = await reruns.FailedAsync(db, name, cancel);
                    if (on is not null)
                        failed.RemoveAll(j => j.Machine != on);
                    if (failed.Count == 0)
                        return Problems.Refused(
                            $"nothing of job {name}{(on is null ? "" : $" on {on}")} has failed since it last came off, so there is "
                                + "nothing to run again"
                        );
                    var by = http.User.Identity!.Name!;
                    return TypedResults.Ok(
                        await reruns.BeginAsync(
                            db,
                            null,
                            [.. failed.Select(j => (name, (PlacedJob?)j))],
                            settings == "then",
                            when == "window",
                            by,
                            cancel
                        )
                    );
                }
            )
            .WithSummary("Runs a job again on every machine where it did not come off, or on one of them");

    private static ProblemHttpResult? BadChoice(string? settings, string? when) =>
        settings is not (null or "today" or "then")
            ? Problems.Invalid($"settings '{settings}' are not known; use today, or then for those of the run that failed")
        : when is not (null or "now" or "window")
            ? Problems.Invalid($"'{when}' is not known; use now, or window for when the job's quiet hours are over")
        : null;

    /// <summary>The job on those of its machines where it did not come off: its last run went wrong, or was missed.</summary>
    private async Task<List<PlacedJob>> FailedAsync(KeepContext db, string name, CancellationToken cancel)
    {
        var last = db
            .Runs.Where(r => r.Job == name && r.Kind == RunKind.Backup && r.State == RunState.Ended)
            .GroupBy(r => r.Machine)
            .Select(g => g.Max(r => r.Id));
        var bad = (
            await db
                .Runs.Where(r => last.Contains(r.Id) && r.Outcome != null && !CameOff.Contains(r.Outcome.Value))
                .Select(r => r.Machine)
                .ToListAsync(cancel)
        ).ToHashSet();
        bad.UnionWith(
            await db
                .Alerts.Where(a =>
                    a.SubjectKind == SubjectKind.Job
                    && a.SubjectJob == name
                    && a.State != AlertState.Closed
                    && CoverageDesk.Failing.Contains(a.Class)
                    && a.SubjectMachine != null
                )
                .Select(a => a.SubjectMachine!)
                .ToListAsync(cancel)
        );
        return [.. inForce.Charter.Placed.Named(name).Where(j => !j.Watched && bad.Contains(j.Machine))];
    }

    private static readonly Outcome[] CameOff = [Outcome.Ok, Outcome.Warned, Outcome.NotNeeded, Outcome.Cancelled];

    private static async Task<(Alert? Alert, List<string> Names, ProblemHttpResult? Problem)> OfAsync(
        KeepContext db,
        long id,
        string? job,
        CancellationToken cancel
    )
    {
        if (await db.Alerts.AsNoTracking().FirstOrDefaultAsync(a => a.Id == id, cancel) is not { } alert)
            return (null, [], Problems.NotThere("alert", $"{id}", "alerts"));
        var names = AlertDetail.JobsOf(alert).Where(j => job is null || j == job).ToList();
        if (names.Count > 0)
            return (alert, names, null);
        return (
            alert,
            names,
            Problems.Refused(
                job is null
                    ? $"alert {id} is about {alert.Subject.Words} and stopped no job, so there is nothing to run again"
                    : $"alert {id} does not concern job {job}"
            )
        );
    }

    private async Task<AlertRerunPreview> PreviewAsync(KeepContext db, Alert alert, List<string> names, CancellationToken cancel)
    {
        var jobs = new List<AlertRerunJob>();
        foreach (var (name, found) in await JobsOfAsync(db, alert, names, cancel))
        {
            if (found is not { } job)
            {
                jobs.Add(new AlertRerunJob(name, null, Gone(name), null, null, [], null, null, null));
                continue;
            }
            var machine = job.Machine;
            var (run, revision, then) = await ThenAsync(db, alert, job, cancel);
            var now = clock.Now();
            var window = WindowOf(job, now);
            jobs.Add(
                new AlertRerunJob(
                    name,
                    machine,
                    job.Watched ? RunNow.RefusalOf(job) : null,
                    run?.Id,
                    revision,
                    [.. then is null ? [] : CharterDiff.OfRuns(then, job).Select(c => new FieldChangeAnswer(c.Field, c.Before, c.After))],
                    window?.End.ToDateTimeOffset(),
                    window?.Name,
                    inForce.Charter.DueTimesOf(job)?.Next(now)?.ToDateTimeOffset()
                )
            );
        }
        return new AlertRerunPreview(jobs);
    }

    private async Task<AlertRerunAnswer> BeginAsync(
        KeepContext db,
        Alert? alert,
        IReadOnlyList<(string Name, PlacedJob? Job)> jobs,
        bool asThen,
        bool inWindow,
        string by,
        CancellationToken cancel
    )
    {
        var runs = new List<RunAnswer>();
        var refused = new List<string>();
        foreach (var (name, found) in jobs)
        {
            if (found is not { } job)
            {
                refused.Add(Gone(name));
                continue;
            }
            RerunOrder? order = null;
            if (asThen)
            {
                var (failed, revision, then) = await ThenAsync(db, alert, job, cancel);
                if (then is null)
                {
                    refused.Add(
                        failed is null
                            ? $"no run of {name} is known whose settings could be taken; run it with today's"
                            : $"the settings of run {failed.Id} of {name} are not known any more; run it with today's"
                    );
                    continue;
                }
                if (then.Into.FirstOrDefault(s => !inForce.Charter.Stores.ContainsKey(s)) is { } store)
                {
                    refused.Add($"run {failed!.Id} of {name} wrote into store {store}, which the charter does not have any more");
                    continue;
                }
                if (!CharterDiff.OfRuns(then, job).IsEmpty)
                    order = new RerunOrder(revision!.Value, [.. then.Into], [.. then.Locks]);
            }
            var window = inWindow ? WindowOf(job, clock.Now()) : null;
            var words = $"job {job.Words}";
            if (order is not null)
                words += $", with the settings of revision {order.Revision}";
            if (window is { } until)
                words += $", at {until.End.Local(inForce.Charter.Zone)}, after {until.Name}";
            var begun = await runNow.BeginAsync(
                db,
                job,
                by,
                cancel,
                order,
                window?.End,
                alert is null ? null : run => book.Note(db, alert.Id, AlertDeedKind.Rerun, by, words, run.Id)
            );
            if (begun.Run is { } run)
                runs.Add(run.ToAnswer());
            else
                refused.Add(begun.Refusal!);
        }
        return new AlertRerunAnswer(runs, refused);
    }

    /// <summary>Why nobody can wait for it; null when it is done.</summary>
    private async Task<string?> WaitAsync(KeepContext db, Alert alert, List<string> names, string by, CancellationToken cancel)
    {
        var now = clock.Now();
        Instant? until = null;
        var last = "";
        foreach (var (name, found) in await JobsOfAsync(db, alert, names, cancel))
        {
            if (found is not { } job)
                return Gone(name);
            if (inForce.Charter.DueTimesOf(job)?.Next(now) is not { } due)
                return $"job {name} is planned for no time, so there is no next run to wait for; run it again";
            var lasts = await LastsAsync(db, job, cancel);
            if (until is null || due + lasts > until)
                (until, last) = (due + lasts, $"{name}, due {due.Local(inForce.Charter.Zone)}");
        }
        if (until > now + AlertEndpoints.MostKnown)
            return $"the next run of {last}, is more than {AlertEndpoints.MostKnown.Days} days away; run it again";
        return await book.KnowAsync(alert.Id, by, $"waits for the next run of {last}", until!.Value, cancel)
            ? null
            : $"alert {alert.Id} is closed; there is nothing to wait for";
    }

    /// <summary>How long after it is due a run should be over: when it may begin at the latest, and how long it may then take.</summary>
    private static async Task<Duration> LastsAsync(KeepContext db, PlacedJob job, CancellationToken cancel)
    {
        var next = new Run
        {
            Id = long.MaxValue,
            Job = job.Name,
            Machine = job.Machine,
        };
        var good = await RunHistory.LastGoodAsync(db, next, cancel);
        return job.StartLimit.ToDuration() + (job.RunLimit?.ToDuration() ?? RunLimits.Usual([.. good.Select(g => g.Took)]));
    }

    /// <summary>
    /// The last run of the job that did not come off, of the alert or else of all, the revision it worked with, and what the job was then.
    /// </summary>
    private async Task<(Run? Run, long? Revision, PlacedJob? Then)> ThenAsync(
        KeepContext db,
        Alert? alert,
        PlacedJob job,
        CancellationToken cancel
    )
    {
        var machine = job.Machine;
        var of = db
            .Runs.AsNoTracking()
            .Where(r => r.Kind == RunKind.Backup && r.Job == job.Name && r.Machine == machine && r.Began != null && r.Ended != null);
        var run = (alert?.RunId is { } told ? await of.FirstOrDefaultAsync(r => r.Id == told, cancel) : null)
            ?? await of.Where(r => r.Outcome != Outcome.Ok && r.Outcome != Outcome.Warned)
                .OrderByDescending(r => r.Id)
                .FirstOrDefaultAsync(cancel);
        if (run is null)
            return (null, null, null);
        // One that ran as it was before worked with that revision, not with the one in force.
        var revision = RerunOrder.Of(run)?.Revision ?? run.Revision ?? await EarlierCharters.AtAsync(db, run.Began!.Value, cancel);
        var then = revision is { } number ? (await earlier.OfAsync(number, cancel))?.Placed.Find(job.Name, job.Machine) : null;
        return (run, then is null ? null : revision, then is { Watched: true } ? null : then);
    }

    /// <summary>The quiet hours or closed days that keep the job from beginning, to the end of the last of them in a row.</summary>
    private (Instant End, string Name)? WindowOf(PlacedJob job, Instant now)
    {
        var times = inForce.Charter.DueTimesOf(job);
        (Instant End, string Name)? found = null;
        for (var step = 0; step < MostWindows && times?.WindowAround(found?.End ?? now) is { } window; step++)
            found = (window.End, window.Name);
        return found;
    }

    /// <summary>
    /// The jobs that an alert names: on the machine that it is about; where it is about none, on the one that a job is on, or on those of
    /// several where it did not come off. Null for one that the charter does not have any more.
    /// </summary>
    private async Task<List<(string Name, PlacedJob? Job)>> JobsOfAsync(
        KeepContext db,
        Alert alert,
        List<string> names,
        CancellationToken cancel
    )
    {
        var found = new List<(string, PlacedJob?)>();
        foreach (var name in names)
        {
            var placed = inForce.Charter.Placed.Named(name).ToList();
            if (placed.Find(j => j.Machine == alert.SubjectMachine) is { } there)
                placed = [there];
            else if (placed.Count > 1)
                placed = await FailedAsync(db, name, cancel) is { Count: > 0 } failed ? failed : placed[..1];
            found.AddRange(placed.Count == 0 ? [(name, null)] : placed.Select(j => (name, (PlacedJob?)j)));
        }
        return found;
    }

    private static string Gone(string name) => $"the charter has no job {name} any more";
}
