using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Copies;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>The newest good copy of a job and the number of its copies in force.</summary>
public sealed record Standing(Copy? Newest, int Copies)
{
    public static Standing None { get; } = new(null, 0);
}

/// <summary>How old the newest good copy of a job is, against what the job promised.</summary>
public static class Freshness
{
    public static async Task<Dictionary<string, Standing>> OfAsync(KeepContext db, IReadOnlyCollection<string> jobs, string machine, CancellationToken cancel)
    {
        var inForce = CopyBook.InForce(db).Where(c => jobs.Contains(c.Job) && c.Machine == machine);
        var counts = await inForce.GroupBy(c => c.Job).Select(g => new { Job = g.Key, Count = g.Count() }).ToDictionaryAsync(g => g.Job, g => g.Count, cancel);
        var good = inForce.Where(c => c.State == CopyState.Unchecked || c.State == CopyState.Sound);
        var newestTaken = good.GroupBy(c => c.Job).Select(g => new { Job = g.Key, Taken = g.Max(c => c.Taken) });
        var newest = await good.Join(newestTaken, c => new { c.Job, c.Taken }, n => new { n.Job, n.Taken }, (c, _) => c).ToListAsync(cancel);
        return counts.ToDictionary(c => c.Key, c => new Standing(newest.Find(n => n.Job == c.Key), c.Value));
    }

    public static bool IsStale(JobDeclaration job, Copy? newest, Instant now) =>
        job.FreshWithin is { } limit && (newest is null || now - newest.Taken > limit.ToDuration());
}
