using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Chains;
using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Core.Retention;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Backups;

/// <summary>
/// What the next copy of a job is, where its store tells full copies from partial ones: full or not, on top of which, and why.
/// </summary>
public sealed class NextCopies(IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, EventHub events, TimeProvider clock)
{
    /// <summary>How many copies that cannot be read are passed over before a full one is made.</summary>
    private const int MostTried = 20;

    /// <summary>The plan of the next copy, with the record of the copy on which it stands, and who asked for a full one.</summary>
    public async Task<(NextCopy Next, CopyRecord? Base, string? AskedBy)> OfAsync(
        PlacedJob job,
        string machine,
        string storeName,
        IBackupLayout store,
        CancellationToken cancel
    )
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var asked = await db
            .JobsOnMachines.Where(w => w.Job == job.Name && w.Machine == machine)
            .Select(w => w.FullAskedBy)
            .FirstOrDefaultAsync(cancel);
        var alive = await CopyBook
            .Alive(db)
            .Where(c => c.Job == job.Name && c.Machine == machine && c.Store == storeName)
            .ToListAsync(cancel);
        var (charter, now) = (inForce.Charter, clock.Now());
        var zone = charter.ZoneOf(job);
        var facts = CopyBook.Facts(alive, now, zone);
        var counted = CopyChains.Counted([.. facts.Select(f => f.Facts)], now);
        var unreadable = new HashSet<string>();
        while (true)
        {
            var next = PartialCopies.Next(
                job.Partials,
                facts.Select(f => new ChainCopy(
                    f.Copy.Id,
                    f.Copy.Kind ?? CopyKind.Full,
                    f.Facts.Base,
                    f.Copy.Taken,
                    // What lies in the bin goes soon.
                    f.Copy.BinnedAt
                        is null
                        && counted.Contains(f.Copy.Id)
                        && !unreadable.Contains(f.Copy.Id)
                )),
                now,
                zone,
                job.Calendar is { } calendar ? charter.Calendars[calendar].Closed : null,
                asked
            );
            if (next.Base is not { } below)
                return (next, null, asked);
            if (store.Base(below) is { } record)
                return (next, record, asked);
            unreadable.Add(below);
            if (unreadable.Count > MostTried)
                return (new NextCopy(CopyKind.Full, null, "the copies that are there cannot be read"), null, asked);
        }
    }

    /// <summary>Asks that the next copy of a job be a full one; null takes it back.</summary>
    public async Task AskForFullAsync(string job, string machine, string? by, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var changed = await db
            .JobsOnMachines.Where(w => w.Job == job && w.Machine == machine && w.FullAskedBy != by)
            .ExecuteUpdateAsync(s => s.SetProperty(w => w.FullAskedBy, by), cancel);
        if (changed > 0)
            events.Publish(Topic.Charter);
    }
}
