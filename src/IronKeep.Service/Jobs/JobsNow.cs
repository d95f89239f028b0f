using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Copies;
using IronKeep.Service.Duty;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Jobs;

/// <summary>Jobs with where they stand now: when each is due, its last run and newest copy, its nights, and its pauses.</summary>
public sealed class JobsNow(
    IDbContextFactory<KeepContext> catalogue,
    NightBoard nightBoard,
    FreshnessNow freshness,
    Dispatch dispatch,
    TimeProvider clock
)
{
    private const int AskedBeside = 300;
    private const int DueShown = 5;
    private const int ReadAtOnce = 500;
    private const int NightsShown = 14;

    /// <summary>Each of them on its machine, in the order given; all of a charter or some.</summary>
    public async Task<IReadOnlyList<JobAnswer>> OfAsync(
        KeepContext db,
        Charter charter,
        IReadOnlyList<PlacedJob> jobs,
        CancellationToken cancel
    )
    {
        var now = clock.Now();
        // The parts of a long list are asked beside each other, each with a connection of its own.
        var isLong = jobs.Count >= AskedBeside;
        var lastRuns = isLong ? BesideAsync(d => LastRunsAsync(d, jobs, cancel)) : Task.FromResult(await LastRunsAsync(db, jobs, cancel));
        var standing =
            jobs.Count == charter.Placed.All.Length
                ? await freshness.OfAsync(db, charter, now, cancel)
                : await Freshness.OfAsync(db, jobs, now, cancel);
        var newest = await NewestAsync(db, standing.Values, cancel);
        var nights = await nightBoard.OfAsync(db, [.. jobs.Select(j => (j.Name, j.Machine))], charter.Zone, now, NightsShown, cancel);
        var last = await lastRuns;
        var pauses = await Freshness
            .Rows(db, jobs)
            .AsNoTracking()
            .Where(w => w.PausedUntil > now || w.ExpiryHeldUntil > now || w.FullAskedBy != null)
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
                    Partials = job.Partials?.Words,
                    FullAskedBy = pause?.FullAskedBy,
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

    private Task<T> BesideAsync<T>(Func<KeepContext, Task<T>> ask) =>
        Task.Run(async () =>
        {
            await using var db = await catalogue.CreateDbContextAsync();
            return await ask(db);
        });

    /// <summary>A seek for each job, where grouping would walk through all runs there ever were.</summary>
    private static Task<Dictionary<(string Job, string Machine), Run>> LastRunsAsync(
        KeepContext db,
        IReadOnlyCollection<PlacedJob> jobs,
        CancellationToken cancel
    ) =>
        Freshness
            .Rows(db, jobs)
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

    /// <summary>The newest good copies, by id.</summary>
    private static async Task<Dictionary<string, Copy>> NewestAsync(
        KeepContext db,
        IEnumerable<Standing> standing,
        CancellationToken cancel
    )
    {
        var newest = new Dictionary<string, Copy>();
        foreach (var ids in standing.Select(s => s.Newest?.Id).OfType<string>().Distinct().Chunk(ReadAtOnce))
        foreach (var copy in await db.Copies.AsNoTracking().Where(c => ids.Contains(c.Id)).ToListAsync(cancel))
            newest[copy.Id] = copy;
        return newest;
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
