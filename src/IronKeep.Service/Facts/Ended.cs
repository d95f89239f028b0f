using IronKeep.Catalogue;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Facts;

/// <summary>The runs that facts speak of, read together: a batch of facts costs one question and not one each.</summary>
public static class Ended
{
    public static async Task<Dictionary<long, Run>> RunsOfAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var ids = facts.Where(f => f.RunId is not null).Select(f => f.RunId!.Value).Distinct().ToList();
        return await db.Runs.AsNoTracking().Where(r => ids.Contains(r.Id)).ToDictionaryAsync(r => r.Id, cancel);
    }
}
