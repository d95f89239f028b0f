using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Yaml;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Charters;

/// <summary>The charters that were in force before, by their revisions. A revision never changes.</summary>
public sealed class EarlierCharters(IDbContextFactory<KeepContext> catalogue, IOptions<ServiceSettings> settings)
{
    private const int MostKept = 8;
    private readonly ConcurrentDictionary<long, Charter> kept = new();

    /// <summary>Null where there is none, or where this version of the service cannot read it any more.</summary>
    public async Task<Charter?> OfAsync(long revision, CancellationToken cancel)
    {
        if (kept.TryGetValue(revision, out var known))
            return known;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var yaml = await db.CharterRevisions.AsNoTracking().Where(r => r.Id == revision).Select(r => r.Yaml).FirstOrDefaultAsync(cancel);
        if (yaml is null || CharterYaml.Read(yaml, settings.Value.Machine).Charter is not { } charter)
            return null;
        if (kept.Count >= MostKept)
            kept.Clear();
        return kept[revision] = charter;
    }

    /// <summary>The revision that was in force at an instant; null where none was yet.</summary>
    public static async Task<long?> AtAsync(KeepContext db, Instant at, CancellationToken cancel) =>
        await db.CharterRevisions.Where(r => r.AppliedAt <= at).MaxAsync(r => (long?)r.Id, cancel);
}
