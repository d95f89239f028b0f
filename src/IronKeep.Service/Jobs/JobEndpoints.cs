using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
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
    private const int DueShown = 5;
    private const int ReadAtOnce = 500;
    private const int NightsShown = 14;
    private const int HistoryShown = 400;

    public static void MapJobs(this IEndpointRouteBuilder api)
    {
        var jobs = api.MapGroup("/jobs");
        jobs.MapGet(
                "",
                async (
                    CharterInForce charter,
                    KeepContext db,
                    NightBoard nightBoard,
                    Dispatch dispatch,
                    TimeProvider clock,
                    CancellationToken cancel,
                    string? job = null,
                    string? machine = null
                ) =>
                {
                    var all = charter
                        .Charter.Placed.All.Where(j => (job is null || j.Name == job) && (machine is null || j.Machine == machine))
                        .ToList();
                    return TypedResults.Ok(await DescribeAsync(all, charter.Charter, db, nightBoard, dispatch, clock.Now(), cancel));
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
                    NightBoard nightBoard,
                    Dispatch dispatch,
                    TimeProvider clock,
                    CancellationToken cancel
                ) =>
                    WhichJob.Of(charter.Charter, name, on, out var problem) is { } job
                        ? TypedResults.Ok((await DescribeAsync([job], charter.Charter, db, nightBoard, dispatch, clock.Now(), cancel))[0])
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
        NightBoard nightBoard,
        Dispatch dispatch,
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
        return TypedResults.Ok((await DescribeAsync([job], charter.Charter, db, nightBoard, dispatch, now, cancel))[0]);
    }

    private static async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> ResumeAsync(
        string name,
        string? on,
        CharterInForce charter,
        Pauses pauses,
        KeepContext db,
        NightBoard nightBoard,
        Dispatch dispatch,
        TimeProvider clock,
        CancellationToken cancel
    )
    {
        if (WhichJob.Of(charter.Charter, name, on, out var problem) is not { } job)
            return problem!;
        await pauses.ResumeAsync(job, job.Machine, cancel);
        return TypedResults.Ok((await DescribeAsync([job], charter.Charter, db, nightBoard, dispatch, clock.Now(), cancel))[0]);
    }

    private static async Task<IReadOnlyList<JobAnswer>> DescribeAsync(
        List<PlacedJob> jobs,
        Charter charter,
        KeepContext db,
        NightBoard nightBoard,
        Dispatch dispatch,
        Instant now,
        CancellationToken cancel
    )
    {
        // A seek for each job, where grouping would walk through all runs there ever were.
        var watched = Freshness.Rows(db, jobs);
        var last = await watched
            .Join(
                db.Runs,
                w =>
                    db.Runs.Where(r => r.Job == w.Job && r.Machine == w.Machine && (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched))
                        .OrderByDescending(r => r.Id)
                        .Select(r => (long?)r.Id)
                        .FirstOrDefault(),
                r => (long?)r.Id,
                (_, r) => r
            )
            .AsNoTracking()
            .ToDictionaryAsync(r => (r.Job!, r.Machine), cancel);
        var standing = await Freshness.OfAsync(db, jobs, now, cancel);
        var newest = new Dictionary<string, Copy>();
        foreach (var ids in standing.Values.Select(s => s.Newest?.Id).OfType<string>().Distinct().Chunk(ReadAtOnce))
        foreach (var copy in await db.Copies.AsNoTracking().Where(c => ids.Contains(c.Id)).ToListAsync(cancel))
            newest[copy.Id] = copy;
        var nights = await nightBoard.OfAsync(db, [.. jobs.Select(j => (j.Name, j.Machine))], charter.Zone, now, NightsShown, cancel);
        var pauses = await watched
            .AsNoTracking()
            .Where(w => w.PausedUntil > now || w.ExpiryHeldUntil > now)
            .ToDictionaryAsync(w => (w.Job, w.Machine), cancel);
        var due = new NextDue(now, jobs.Count == 1 ? DueShown : 1);
        return jobs.Select(job =>
            {
                var zone = charter.ZoneOf(job);
                var stands = standing[(job.Name, job.Machine)];
                var policy = charter.Policies.GetValueOrDefault(job.Policy);
                var at = (job.Name, Machine: job.Machine);
                pauses.TryGetValue(at, out var pause);
                return new JobAnswer(
                    job.Name,
                    at.Machine,
                    job.Watched,
                    job.Note,
                    job.Takes,
                    job.LeavesOut,
                    job.Into,
                    job.When?.Words,
                    job.After,
                    zone.Id,
                    policy?.Name,
                    policy is null ? null : $"{policy.Keep}, at least {policy.AtLeast}",
                    job.FreshWithin?.ToString(),
                    due.Of(charter.DueTimesOf(job)),
                    last.TryGetValue(at, out var run) ? run.ToAnswer(dispatch.Find(run.Id), charter, dispatch.WaitsFor(run.Id)) : null,
                    stands.Newest is { } good ? newest.GetValueOrDefault(good.Id)?.ToAnswer(now) : null,
                    stands.Copies,
                    Freshness.IsStale(job, stands, now),
                    pause?.PausedUntil > now
                        ? new PauseAnswer(
                            pause.PausedBy!,
                            pause.PausedReason!,
                            pause.PausedAt!.Value.ToDateTimeOffset(),
                            pause.PausedUntil!.Value.ToDateTimeOffset()
                        )
                        : null,
                    nights[at],
                    pause?.ExpiryHeldUntil > now
                        ? new ExpiryHoldAnswer(
                            pause.ExpiryHeldBy!,
                            pause.ExpiryHeldReason!,
                            pause.ExpiryHeldUntil!.Value.ToDateTimeOffset()
                        )
                        : null
                )
                {
                    HeardBy = job.Watched ? job.HeardBy : [],
                    Logs = job.Logs,
                    Syslog = job.Syslog,
                    LogRules = job.LogRules,
                    Streams = job.Streams,
                    Steps = charter.StepsOf(job).IsEmpty
                        ? null
                        : new JobStepsAnswer(job.Before, job.Until, job.AfterSuccess, job.AfterFailure, job.AlwaysAfter),
                    OnSeveral = job.IsOnSeveral ? job.Selection.Words(charter.Own) : null,
                    Values =
                        jobs.Count == 1
                            ? [.. EffectiveValues.Of(charter, job).Select(v => new JobValueAnswer(v.Key, v.Text, v.From))]
                            : null,
                };
            })
            .ToList();
    }

    /// <summary>The next due instants of schedules; many jobs share one, which is then asked once.</summary>
    private sealed class NextDue(Instant now, int shown)
    {
        private readonly Dictionary<DueTimes, IReadOnlyList<DueAnswer>> known = [];

        public IReadOnlyList<DueAnswer> Of(DueTimes? times)
        {
            if (times is null)
                return [];
            if (known.TryGetValue(times, out var due))
                return due;
            return known[times] = [
                .. times
                    .Between(now, now + Duration.FromDays(400))
                    .Take(shown)
                    .Select(d => new DueAnswer(d.ToDateTimeOffset(), d.Rfc3339(times.Zone))),
            ];
        }
    }
}
