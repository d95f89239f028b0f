using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// What the backup runs of the last 30 days took and stored, by store, stage by stage; at most a minute old. Runs into several stores are
/// left out.
/// </summary>
public sealed class Reductions(TimeProvider clock)
{
    private static readonly Duration Span = Duration.FromDays(30);
    private static readonly Duration Lasts = Duration.FromMinutes(1);
    private volatile Known? known;

    private sealed record Known(Instant At, IReadOnlyDictionary<string, ReductionAnswer> ByStore);

    public async Task<IReadOnlyDictionary<string, ReductionAnswer>> OfAsync(KeepContext db, CancellationToken cancel)
    {
        var now = clock.Now();
        if (known is { } last && now >= last.At && now - last.At < Lasts)
            return last.ByStore;
        var since = now - Span;
        var sums = await db
            .Runs.AsNoTracking()
            .Where(r => r.Queued >= since && r.Kind == RunKind.Backup && r.Store != null && r.CopyIds != "")
            .GroupBy(r => r.Store!)
            .Select(g => new
            {
                g.Key,
                Selected = g.Sum(r => r.SelectedBytes),
                Read = g.Sum(r => r.ReadBytes),
                New = g.Sum(r => r.NewBytes),
                Stored = g.Sum(r => r.StoredBytes),
            })
            .ToListAsync(cancel);
        var found = new Known(now, sums.ToDictionary(s => s.Key, s => new ReductionAnswer(s.Selected, s.Read, s.New, s.Stored)));
        known = found;
        return found.ByStore;
    }
}
