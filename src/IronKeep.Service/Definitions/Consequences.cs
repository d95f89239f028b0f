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
            .GroupBy(c => new
            {
                c.Job,
                c.Machine,
                c.Store,
            })
            .Select(g => new
            {
                g.Key.Job,
                g.Key.Machine,
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
        foreach (var machine in charter.Machines.Values.Where(m => IsRetiredNow(m.Name)))
            if (counts.Where(c => c.Machine == machine.Name).Sum(c => c.Count) is > 0 and var count)
                found.Add(
                    $"machine {machine.Name} is retired: its {Counted.Of(count, "copy", "copies")} stay until "
                        + $"{machine.Retired!.Days.CopiesUntil}, and {machine.Retired.CopiesOwner} says by "
                        + $"{machine.Retired.Days.DecideBy} what becomes of them"
                );
        foreach (var job in now.Placed.All.Where(j => !IsRetiredNow(j.Machine)))
        {
            var later = charter.Placed.Find(job.Name, job.Machine);
            foreach (var store in job.Into.Where(s => charter.Stores.ContainsKey(s) && (later is null || !later.Into.Contains(s))))
                if (
                    counts.Where(c => c.Job == job.Name && c.Machine == job.Machine && c.Store == store).Sum(c => c.Count)
                    is > 0
                        and var count
                )
                    found.Add(
                        $"job {job.Words} {Leaves(charter, job, later, store)}, and its "
                            + $"{Counted.Of(count, "copy", "copies")} in store {store} stay for good: no policy governs them"
                    );
        }
        return found;

        bool IsRetiredNow(string machine) =>
            charter.Machines.GetValueOrDefault(machine)?.Retired is not null && now.Machines.GetValueOrDefault(machine)?.Retired is null;
    }

    private static string Leaves(Charter charter, PlacedJob job, PlacedJob? later, string store) =>
        later is not null ? $"goes no longer into store {store}"
        : charter.Jobs.ContainsKey(job.Name) ? $"is not on {job.Machine} any more"
        : "leaves the charter";
}
