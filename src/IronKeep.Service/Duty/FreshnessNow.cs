using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// How fresh every job is. Of jobs that are too many to be shown one by one it is remembered for a few seconds, until a fact is said or the
/// charter changes: pages that are open ask again and again.
/// </summary>
public sealed class FreshnessNow
{
    private static readonly Duration Remembers = Duration.FromSeconds(5);
    private volatile Remembered? remembered;

    private sealed record Remembered(Charter Charter, long UpTo, Instant At, Dictionary<(string Job, string Machine), Standing> Standing);

    /// <summary>By job and machine.</summary>
    public async Task<Dictionary<(string Job, string Machine), Standing>> OfAsync(
        KeepContext db,
        Charter charter,
        Instant now,
        CancellationToken cancel
    )
    {
        if (charter.Placed.All.Length <= DutyGroups.MostRows)
            return await Freshness.OfAsync(db, charter.Placed.All, now, cancel);
        var upTo = await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
        if (
            remembered is { } known
            && ReferenceEquals(known.Charter, charter)
            && known.UpTo == upTo
            && now >= known.At
            && now - known.At < Remembers
        )
            return known.Standing;
        var standing = await Freshness.OfAsync(db, charter.Placed.All, now, cancel);
        remembered = new Remembered(charter, upTo, now, standing);
        return standing;
    }
}
