using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Retention;
using IronKeep.Service.Charters;
using IronKeep.Service.Prunes;

namespace IronKeep.Service.Definitions;

/// <summary>
/// How far a charter reaches: which jobs change on which machines, in what, and which of their copies the policies would then let go.
/// </summary>
public sealed class Reach(PruneDesk prunes, CharterInForce inForce)
{
    /// <summary>So many machines of one change are named.</summary>
    private const int MostNamed = 12;

    /// <summary>The copies of so many jobs are judged while somebody waits; each is a store's whole history of a job.</summary>
    private const int MostJudged = 200;

    public async Task<IReadOnlyList<ReachAnswer>> OfAsync(Charter charter, CancellationToken cancel)
    {
        var now = inForce.Charter;
        var found = new List<ReachAnswer>();
        var judged = 0;
        foreach (var change in PlacedDiff.Compare(now, charter).Concat(OfPolicies(now, charter)))
        {
            int? letsGo = 0;
            if (change.Kind == ChangeKind.Changed)
                foreach (
                    var job in change
                        .Machines.Select(m => (Now: now.Placed.Find(change.Job, m)!, Later: charter.Placed.Find(change.Job, m)!))
                        .Where(j => IsKeptOtherwise(now, j.Now, charter, j.Later))
                )
                foreach (var store in job.Later.Into.Where(s => job.Now.Into.Contains(s) && now.Stores.ContainsKey(s)))
                {
                    if (judged++ >= MostJudged)
                    {
                        letsGo = null;
                        break;
                    }
                    var plan = await prunes.DraftAsync(job.Later, store, charter.Policies[job.Later.Policy], cancel);
                    letsGo += plan.Copies.Count(c => c.Verdict == Verdict.Expire);
                }
            found.Add(
                new ReachAnswer(
                    change.Kind,
                    change.Job,
                    [.. change.Machines.Take(MostNamed)],
                    change.Machines.Length,
                    [.. change.Fields.Select(f => new FieldChangeAnswer(f.Field, f.Before, f.After))],
                    letsGo
                )
            );
        }
        return found;
    }

    /// <summary>Jobs whose own values stay, and whose policy says something else.</summary>
    private static IEnumerable<PlacedChange> OfPolicies(Charter now, Charter later) =>
        later
            .Policies.Values.Where(p => now.Policies.TryGetValue(p.Name, out var before) && !before.Equals(p))
            .SelectMany(p =>
                later
                    .Placed.All.Where(j => j.Policy == p.Name && now.Placed.Find(j.Name, j.Machine)?.Equals(j) == true)
                    .GroupBy(j => j.Name)
                    .Select(g => new PlacedChange(
                        ChangeKind.Changed,
                        g.Key,
                        [.. g.Select(j => j.Machine)],
                        [new FieldChange($"policy {p.Name}", now.Policies[p.Name].Keep.ToString(), p.Keep.ToString())]
                    ))
            );

    private static bool IsKeptOtherwise(Charter now, PlacedJob before, Charter later, PlacedJob after) =>
        after.Policy.Length > 0
        && (before.Policy != after.Policy || !Equals(now.Policies.GetValueOrDefault(before.Policy), later.Policies[after.Policy]));
}
