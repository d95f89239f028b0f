using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Copies;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>The newest good copy of a job in each of its stores (those that have one), and the number of its copies in force.</summary>
public sealed record Standing(IReadOnlyDictionary<string, Copy> NewestIn, int Copies)
{
    public static Standing None { get; } = new(new Dictionary<string, Copy>(), 0);

    /// <summary>The newest good copy anywhere.</summary>
    public Copy? Newest => NewestIn.Values.MaxBy(c => c.Taken);
}

/// <summary>A store in which a job's newest good copy is older than promised; null where there is none at all.</summary>
public sealed record BehindIn(string Store, Copy? Newest);

/// <summary>How old the newest good copy of a job is, against what the job promised. The promise holds for each store of the job.</summary>
public static class Freshness
{
    public static async Task<Dictionary<string, Standing>> OfAsync(KeepContext db, IReadOnlyCollection<JobDeclaration> jobs, string machine, CancellationToken cancel)
    {
        // Of one job its copies are few; of all jobs the index is walked once.
        var names = jobs.Count == 1 ? jobs.Select(j => j.Name).ToList() : null;
        var inForce = CopyBook.InForce(db).Where(c => c.Machine == machine);
        if (names is not null) inForce = inForce.Where(c => c.Job == names[0]);
        var counts = await inForce.GroupBy(c => c.Job).Select(g => new { Job = g.Key, Count = g.Count() }).ToDictionaryAsync(g => g.Job, g => g.Count, cancel);
        var good = inForce.Where(c => c.State == CopyState.Unchecked || c.State == CopyState.Sound);
        var newestTaken = good.GroupBy(c => new { c.Job, c.Store }).Select(g => new { g.Key.Job, g.Key.Store, Taken = g.Max(c => c.Taken) });
        var newest = (await good.Join(newestTaken, c => new { c.Job, c.Store, c.Taken }, n => new { n.Job, n.Store, n.Taken }, (c, _) => c).ToListAsync(cancel)).ToLookup(c => c.Job);
        return jobs.ToDictionary(j => j.Name, j => new Standing(
            newest[j.Name].Where(c => j.Into.Contains(c.Store)).GroupBy(c => c.Store).ToDictionary(g => g.Key, g => g.First()), counts.GetValueOrDefault(j.Name)));
    }

    /// <summary>Since when each job is watched on the machine.</summary>
    public static Task<Dictionary<string, Instant>> WatchedSinceAsync(KeepContext db, string machine, CancellationToken cancel) =>
        db.JobWatches.Where(w => w.Machine == machine).ToDictionaryAsync(w => w.Job, w => w.Since, cancel);

    /// <summary>The store that is furthest behind the job's promise, or null when the promise is kept or none was made.</summary>
    public static BehindIn? Behind(JobDeclaration job, Standing standing, Instant now)
    {
        if (job.FreshWithin is not { } limit) return null;
        foreach (var store in job.Into.OrderBy(s => standing.NewestIn.GetValueOrDefault(s)?.Taken ?? Instant.MinValue))
        {
            var newest = standing.NewestIn.GetValueOrDefault(store);
            return newest is null || now - newest.Taken > limit.ToDuration() ? new BehindIn(store, newest) : null;
        }
        return null;
    }

    public static bool IsStale(JobDeclaration job, Standing standing, Instant now) => Behind(job, standing, now) is not null;
}
