using System.Linq.Expressions;
using IronKeep.Catalogue;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Facts;

/// <summary>
/// The runs that facts speak of, read together: a batch of facts costs one question and not one each, and runs that do not matter are left
/// where they are.
/// </summary>
public static class Ended
{
    public static async Task<Dictionary<long, Run>> RunsOfAsync(
        KeepContext db,
        IEnumerable<Fact> facts,
        Expression<Func<Run, bool>> which,
        CancellationToken cancel
    )
    {
        var ids = facts.Where(f => f.RunId is not null).Select(f => f.RunId!.Value).Distinct().ToList();
        return ids.Count == 0
            ? []
            : await db.Runs.AsNoTracking().Where(r => ids.Contains(r.Id)).Where(which).ToDictionaryAsync(r => r.Id, cancel);
    }
}
