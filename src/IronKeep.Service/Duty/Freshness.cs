using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>The newest good copy of a job in each of its stores (those that have one), and the number of its copies in force.</summary>
public sealed record Standing(IReadOnlyDictionary<string, NewestCopy> NewestIn, int Copies)
{
    public static Standing None { get; } = new(new Dictionary<string, NewestCopy>(), 0);

    /// <summary>The newest good copy anywhere.</summary>
    public NewestCopy? Newest => NewestIn.Values.MaxBy(c => c.Taken);
}

/// <summary>The newest good copy of a job in a store: which it is, and when it was taken.</summary>
public sealed record NewestCopy(string Id, Instant Taken);

/// <summary>A store in which a job's newest good copy is older than promised; null where there is none at all.</summary>
public sealed record BehindIn(string Store, NewestCopy? Newest);

/// <summary>How old the newest good copy of a job is, against what the job promised. The promise holds for each store of the job.</summary>
public static class Freshness
{
    /// <summary>By job and machine.</summary>
    public static async Task<Dictionary<(string Job, string Machine), Standing>> OfAsync(
        KeepContext db,
        IReadOnlyCollection<PlacedJob> jobs,
        Instant now,
        CancellationToken cancel
    )
    {
        // A copy that is dated in the future, because a clock was wrong, is no proof that anything is fresh.
        var latest = now + FutureTolerated;
        var inForce = CopyBook.InForce(db);
        var watched = Rows(db, jobs);
        if (jobs.Select(j => j.Name).Distinct().Take(2).ToList() is [var name])
            inForce = inForce.Where(c => c.Job == name);
        if (jobs.Select(j => j.Machine).Distinct().Take(2).ToList() is [var machine])
            inForce = inForce.Where(c => c.Machine == machine);
        var counts = await inForce
            .GroupBy(c => new { c.Machine, c.Job })
            .Select(g => new { g.Key, Count = g.Count() })
            .ToDictionaryAsync(g => (g.Key.Job, g.Key.Machine), g => g.Count, cancel);
        var newest = new Dictionary<(string Job, string Machine, string Store), NewestCopy>();
        foreach (var store in jobs.SelectMany(j => j.Into).Distinct().ToList())
        {
            var good = db.Copies.Where(c =>
                c.Store == store
                && c.GoneAt == null
                && c.BinnedAt == null
                && c.Taken <= latest
                && (c.State == CopyState.Unchecked || c.State == CopyState.Sound)
            );
            // Two seeks for each job, where grouping would walk through all copies; a join a database could begin at the wrong end, and
            // then go through all jobs for each copy.
            var found = watched.Select(w => new
            {
                w.Job,
                w.Machine,
                Id = good.Where(c => c.Job == w.Job && c.Machine == w.Machine)
                    .OrderByDescending(c => c.Taken)
                    .Select(c => c.Id)
                    .FirstOrDefault(),
                Taken = good.Where(c => c.Job == w.Job && c.Machine == w.Machine).Max(c => (Instant?)c.Taken),
            });
            foreach (var copy in await found.ToListAsync(cancel))
                if (copy.Id is not null)
                    newest[(copy.Job, copy.Machine, store)] = new NewestCopy(copy.Id, copy.Taken!.Value);
        }
        return jobs.ToDictionary(
            j => (j.Name, j.Machine),
            j =>
            {
                // A job that something else carries out has its copies under that machine's name.
                var at = j.Machine;
                return new Standing(
                    j.Into.Where(s => newest.ContainsKey((j.Name, at, s))).ToDictionary(s => s, s => newest[(j.Name, at, s)]),
                    counts.GetValueOrDefault((j.Name, at))
                );
            }
        );
    }

    /// <summary>The rows of jobs, and of no more than their job or their machine has where they share one.</summary>
    internal static IQueryable<JobOnMachine> Rows(KeepContext db, IReadOnlyCollection<PlacedJob> jobs)
    {
        IQueryable<JobOnMachine> rows = db.JobsOnMachines;
        if (jobs.Select(j => j.Name).Distinct().Take(2).ToList() is [var name])
            rows = rows.Where(w => w.Job == name);
        if (jobs.Select(j => j.Machine).Distinct().Take(2).ToList() is [var machine])
            rows = rows.Where(w => w.Machine == machine);
        return rows;
    }

    /// <summary>As for retention: docs/semantics.md, section 3 (Retention).</summary>
    private static readonly Duration FutureTolerated = Duration.FromMinutes(10);

    /// <summary>The store that is furthest behind the job's promise, or null when the promise is kept or none was made.</summary>
    public static BehindIn? Behind(PlacedJob job, Standing standing, Instant now)
    {
        if (job.FreshWithin is not { } limit)
            return null;
        foreach (var store in job.Into.OrderBy(s => standing.NewestIn.GetValueOrDefault(s)?.Taken ?? Instant.MinValue))
        {
            var newest = standing.NewestIn.GetValueOrDefault(store);
            return newest is null || now - newest.Taken > limit.ToDuration() ? new BehindIn(store, newest) : null;
        }
        return null;
    }

    public static bool IsStale(PlacedJob job, Standing standing, Instant now) => Behind(job, standing, now) is not null;
}
