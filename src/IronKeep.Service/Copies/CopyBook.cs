using System.Globalization;
using System.Security.Cryptography;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Runs.Backups;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Copies;

/// <summary>What the catalogue knows of copies. The stores' records are the truth; this is the index of them.</summary>
public sealed class CopyBook(IDbContextFactory<KeepContext> catalogue, OpenStores stores, CharterInForce charter, ILogger<CopyBook> log)
{
    private const string IdLetters = "0123456789abcdefghjkmnpqrstvwxyz";

    /// <summary>A new copy id: the time (UTC) for people, five letters against chance. Example: 20270328-010000-k7q2m.</summary>
    public static string NewId(DateTimeOffset now) =>
        $"{now.UtcDateTime.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture)}-{RandomNumberGenerator.GetString(IdLetters, 5)}";

    public async Task AddAsync(CopyRecord record, string store, long runId, RunFigures figures, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var row = ToRow(record, store);
        (row.NewBytes, row.StoredBytes, row.RunId) = (figures.NewBytes, figures.StoredBytes, runId);
        db.Copies.Add(row);
        await db.SaveChangesAsync(CancellationToken.None);
    }

    /// <summary>The record of the newest copy to compare a run with; null when there is none that can be read.</summary>
    public async Task<CopyRecord?> NewestRecordAsync(string job, string machine, string storeName, PooledStore store, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var newest = await Alive(db).Where(c => c.Job == job && c.Machine == machine && c.Store == storeName)
            .OrderByDescending(c => c.Taken).Select(c => c.Id).Take(3).ToListAsync(cancel);
        foreach (var id in newest)
        {
            try
            {
                if (store.ReadRecord(id) is { } record) return record;
            }
            catch (Exception e) when (e is StoreDamageException or PlaceException { Fault: PlaceFault.NotFound })
            {
                log.LogWarning("The record of copy {Copy} cannot be read: {Problem}", id, e.Message);
            }
        }
        return null;
    }

    /// <summary>The ids of all copies that the catalogue has ever known.</summary>
    public async Task<HashSet<string>> KnownAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return (await db.Copies.Select(c => c.Id).ToListAsync(cancel)).ToHashSet();
    }

    /// <summary>
    /// Takes into the catalogue what a store holds and the catalogue does not know, or knows to be elsewhere or lost, and marks as
    /// missing what the catalogue knows and the store does not hold; a store that cannot be read is left for its next run to report.
    /// </summary>
    public async Task LearnAsync(string storeName, CancellationToken cancel)
    {
        try
        {
            var contents = stores.Get(storeName).ReadContents();
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            var known = await db.Copies.Select(c => new { c.Id, c.Store, c.State, c.GoneAt }).ToDictionaryAsync(c => c.Id, cancel);
            foreach (var copy in contents.Copies)
            {
                Copy row;
                if (known.GetValueOrDefault(copy.Record.Id) is not { } before)
                {
                    row = ToRow(copy.Record, storeName);
                    db.Copies.Add(row);
                }
                else
                {
                    var elsewhere = before.Store != storeName && !charter.Charter.Stores.ContainsKey(before.Store);
                    var lost = before.Store == storeName && (before.State == CopyState.Missing || before.GoneAt is not null);
                    if (!elsewhere && !lost) continue;
                    row = await db.Copies.FirstAsync(c => c.Id == before.Id, cancel);
                    (row.Store, row.State, row.GoneAt, row.CheckedAt) = (storeName, CopyState.Unchecked, null, null);
                }
                row.BinnedAt = copy.Binned is { } at ? Instant.FromDateTimeOffset(at) : null;
            }
            await db.SaveChangesAsync(cancel);
            await MarkMissingAsync(db, storeName, contents, null, cancel);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            log.LogWarning("Store {Store} cannot be read: {Problem}", storeName, e.Message);
        }
    }

    /// <summary>
    /// Marks copies whose record is gone from the store as missing and gives their ids. Copies that ended at or after
    /// <paramref name="endedBefore"/> came after the store was listed and are left alone.
    /// </summary>
    public static async Task<List<string>> MarkMissingAsync(KeepContext db, string store, StoreContents contents, Instant? endedBefore, CancellationToken cancel)
    {
        var there = contents.Copies.Select(c => c.Record.Id).Concat(contents.Damaged.Select(d => d.CopyId)).ToHashSet();
        var gone = (await db.Copies.Where(c => c.Store == store && c.GoneAt == null).ToListAsync(cancel))
            .Where(c => !there.Contains(c.Id) && (endedBefore is null || c.Ended < endedBefore)).ToList();
        foreach (var copy in gone) copy.State = CopyState.Missing;
        await db.SaveChangesAsync(cancel);
        return [.. gone.Select(c => c.Id)];
    }

    /// <summary>Copies whose bytes are still there, those in the bin included.</summary>
    public static IQueryable<Copy> Alive(KeepContext db) => db.Copies.AsNoTracking().Where(c => c.GoneAt == null);

    /// <summary>Copies in force: alive and not in the bin.</summary>
    public static IQueryable<Copy> InForce(KeepContext db) => Alive(db).Where(c => c.BinnedAt == null);

    /// <summary>The copy as retention sees it.</summary>
    public static CopyFacts Facts(Copy copy, Instant asOf, DateTimeZone zone) => new(copy.Id, copy.Taken, copy.State, Held: HoldWords(copy, asOf, zone), Doubted: copy.Doubt is not null);

    /// <summary>The words of a copy's hold at an instant; null when nobody holds it, or the hold is over.</summary>
    public static string? HoldWords(Copy copy, Instant asOf, DateTimeZone zone) => copy.HeldUntil is { } until && asOf < until
        ? $"by {copy.HeldBy} until {until.InZone(zone).ToString("uuuu-MM-dd HH:mm", CultureInfo.InvariantCulture)}: {copy.HeldReason}"
        : null;

    private static Copy ToRow(CopyRecord record, string store) => new()
    {
        Id = record.Id,
        Job = record.Job,
        Machine = record.Machine,
        Store = store,
        Taken = Instant.FromDateTimeOffset(record.Taken),
        Ended = Instant.FromDateTimeOffset(record.Ended),
        State = CopyState.Unchecked,
        Items = record.Items,
        Bytes = record.Bytes,
        Skipped = record.Skipped,
    };
}
