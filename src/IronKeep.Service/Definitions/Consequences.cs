using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Definitions;

/// <summary>What a charter would mean for the copies that are there: which are out of reach, and which nothing would ever prune.</summary>
public sealed class Consequences(IDbContextFactory<KeepContext> catalogue, CharterInForce inForce)
{
    /// <summary>A clause for each change that touches copies; empty when none does.</summary>
    public async Task<IReadOnlyList<string>> OfAsync(Charter charter, CancellationToken cancel)
    {
        var now = inForce.Charter;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var counts = await CopyBook
            .Alive(db)
            .Where(c => c.State != Core.Watching.CopyState.Missing)
            .GroupBy(c => new { c.Job, c.Store })
            .Select(g => new
            {
                g.Key.Job,
                g.Key.Store,
                Count = g.Count(),
            })
            .ToListAsync(cancel);
        var found = new List<string>();
        foreach (var store in now.Stores.Values)
        {
            var count = counts.Where(c => c.Store == store.Name).Sum(c => c.Count);
            if (count == 0)
                continue;
            if (!charter.Stores.TryGetValue(store.Name, out var later))
                found.Add(
                    $"store {store.Name} leaves the charter, and its {Counted.Of(count, "copy", "copies")} can no longer be restored, "
                        + $"pruned or checked through the service"
                );
            else if (later.Folder != store.Folder || later.Remote != store.Remote)
                found.Add(
                    $"store {store.Name} moves from {store.Folder} to {later.Folder}, and its {Counted.Of(count, "copy", "copies")} are "
                        + $"missing unless they were moved there first"
                );
        }
        foreach (var job in now.Jobs.Values)
        {
            charter.Jobs.TryGetValue(job.Name, out var later);
            foreach (var store in job.Into.Where(s => charter.Stores.ContainsKey(s) && (later is null || !later.Into.Contains(s))))
                if (counts.Where(c => c.Job == job.Name && c.Store == store).Sum(c => c.Count) is > 0 and var count)
                    found.Add(
                        $"job {job.Name} {(later is null ? "leaves the charter" : $"goes no longer into store {store}")}, and its "
                            + $"{Counted.Of(count, "copy", "copies")} in store {store} stay for good: no policy governs them"
                    );
        }
        return found;
    }
}
