using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Duty;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Jobs;

public static class JobEndpoints
{
    private const int DueShown = 5;
    private const int NightsShown = 14;

    public static void MapJobs(this IEndpointRouteBuilder api)
    {
        var jobs = api.MapGroup("/jobs");
        jobs.MapGet("", async (CharterInForce charter, KeepContext db, Dispatch dispatch, TimeProvider clock, IOptions<ServiceSettings> settings, CancellationToken cancel) =>
            {
                var all = charter.Charter.Jobs.Values.ToList();
                return TypedResults.Ok(await DescribeAsync(all, charter.Charter, db, dispatch, clock.Now(), settings.Value.Machine, cancel));
            })
            .WithSummary("All jobs with where they stand");
        jobs.MapGet("/{name}", async Task<Results<Ok<JobAnswer>, ProblemHttpResult>> (string name, CharterInForce charter, KeepContext db, Dispatch dispatch, TimeProvider clock, IOptions<ServiceSettings> settings, CancellationToken cancel) =>
                charter.Charter.Jobs.TryGetValue(name, out var job)
                    ? TypedResults.Ok((await DescribeAsync([job], charter.Charter, db, dispatch, clock.Now(), settings.Value.Machine, cancel))[0])
                    : Missing(name))
            .WithSummary("One job");
        jobs.MapPost("/{name}/runs", RunNowAsync).WithSummary("Runs the job now");
    }

    private static ProblemHttpResult Missing(string name) => Problems.NotFound($"there is no job '{name}' in the charter; list them with GET /api/v1/jobs");

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> RunNowAsync(string name, CharterInForce charter, RunQueue queue, KeepContext db, HttpContext http, CancellationToken cancel)
    {
        if (!charter.Charter.Jobs.TryGetValue(name, out var job)) return Missing(name);
        var busy = await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Job == name && r.Kind == RunKind.Backup && r.State != RunState.Ended, cancel);
        if (busy is not null) return Problems.Refused($"job {name} is at work already (run {busy.Id}); watch that run, or cancel it first");
        var run = await queue.AddAsync(RunKind.Backup, name, job.Into, http.User.Identity!.Name!, null, cancel);
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    private static async Task<IReadOnlyList<JobAnswer>> DescribeAsync(
        IReadOnlyList<JobDeclaration> jobs, Charter charter, KeepContext db, Dispatch dispatch, Instant now, string machine, CancellationToken cancel)
    {
        var names = jobs.Select(j => j.Name).ToList();
        var lastIds = await db.Runs.Where(r => r.Kind == RunKind.Backup && names.Contains(r.Job!)).GroupBy(r => r.Job!).Select(g => g.Max(r => r.Id)).ToListAsync(cancel);
        var last = await db.Runs.AsNoTracking().Where(r => lastIds.Contains(r.Id)).ToDictionaryAsync(r => r.Job!, cancel);
        var standing = await Freshness.OfAsync(db, names, machine, cancel);
        var nights = await NightBoard.OfAsync(db, names, charter.Zone, now, NightsShown, cancel);
        return jobs.Select(job =>
        {
            var zone = job.Zone ?? charter.Zone;
            var due = job.When is null ? [] : DueInstants.Between(job.When, zone, now, now + Duration.FromDays(400)).Take(DueShown)
                .Select(d => new DueAnswer(d.ToDateTimeOffset(), d.Local(zone))).ToList();
            var stands = standing.GetValueOrDefault(job.Name, Standing.None);
            return new JobAnswer(
                job.Name, machine, job.Takes, job.LeavesOut, job.Into, job.When?.ToSentence(), zone.Id, job.Policy, charter.Policies[job.Policy].Keep.ToString(), job.FreshWithin?.ToString(),
                due, last.TryGetValue(job.Name, out var run) ? run.ToAnswer(dispatch.Find(run.Id)) : null,
                stands.Newest?.ToAnswer(), stands.Copies, Freshness.IsStale(job, stands.Newest, now), nights[job.Name]);
        }).ToList();
    }
}
