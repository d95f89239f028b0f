using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Copies;

/// <summary>
/// What comparing a store with the catalogue found: copies that were learned, that are missing from the store, that somebody had moved into
/// the bin, and records that cannot be read.
/// </summary>
public sealed record Shelf(int Learned, IReadOnlyList<string> Missing, IReadOnlyList<string> PutBack, IReadOnlyList<string> Unreadable);

/// <summary>
/// The one place where a store's shelf of records, its bin and the catalogue are compared and settled: at each start, before each prune,
/// reclaiming and check, and after runs. What the store says counts; of two sayings about hold, damage and doubt the younger.
/// </summary>
public sealed class ShelfKeeper(
    IDbContextFactory<KeepContext> catalogue,
    OpenStores stores,
    CopyBook book,
    CharterInForce charter,
    AlertBook alerts,
    TimeProvider clock,
    EventHub events,
    IOptions<ServiceSettings> settings,
    ILogger<ShelfKeeper> log
)
{
    private const int MostTries = 5;

    /// <summary>A store of so many copies is compared after each run, a larger one now and then: it goes through all names.</summary>
    internal const int MostAfterEachRun = 5_000;
    private static readonly Duration LooksAgain = Duration.FromMinutes(10);
    private readonly ConcurrentDictionary<string, (Instant At, int Copies)> compared = [];

    /// <summary>
    /// Compares by the names of the records alone, and reads those that are new or in another place; with <paramref name="notes"/> every
    /// record and note is read. Throws what the store throws. May wait for the store without an end: not for who must not wait.
    /// </summary>
    public async Task<Shelf> SettleAsync(string storeName, bool notes, CancellationToken cancel)
    {
        using var turn = await book.TurnAsync(storeName, cancel);
        for (var tries = 1; ; tries++)
        {
            try
            {
                return await OnceAsync(storeName, notes, cancel);
            }
            catch (Exception e) when (tries < MostTries && CatalogueKinds.IsCollision(e))
            {
                // Another service compares the same store: what it entered is there the next time.
            }
        }
    }

    private async Task<Shelf> OnceAsync(string storeName, bool notes, CancellationToken cancel)
    {
        var began = clock.Now();
        var store = stores.Get(storeName);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var work = new Work(db, store, storeName, await HasOrphansAsync(db, cancel), [], [], [], []);
        await ReownAsync(db, storeName, cancel);
        var (there, looked, known) = notes ? await ReadAllAsync(work, cancel) : await ReadNewAsync(work, cancel);
        // Only the rows that something may have become of: a store of years has a hundred thousand that nothing has.
        var rows = new Dictionary<string, Copy>();
        foreach (var part in looked.Select(c => c.Record.Id).Union(known.Where(i => !there.Contains(i))).Chunk(500))
        foreach (var row in await db.Copies.Where(c => c.Store == storeName && part.Contains(c.Id)).ToListAsync(cancel))
            rows[row.Id] = row;
        foreach (var copy in looked)
            await OneAsync(work, copy, rows.GetValueOrDefault(copy.Record.Id), cancel);
        foreach (var row in rows.Values.Where(r => r.Store == storeName && r.GoneAt is null && !there.Contains(r.Id) && r.Ended < began))
            Absent(work, row, began);
        // Told first: after a crash in between, the next look finds the same once more. The other way round nobody would ever hear of it.
        await TellAsync(work, cancel);
        foreach (var id in work.PutBack)
            store.TakeBack(id, clock.GetUtcNow());
        await db.SaveChangesAsync(CancellationToken.None);
        if (work.Learned.Count + work.Missing.Count + work.PutBack.Count > 0)
            events.Publish(Topic.Copies);
        compared[storeName] = (began, known.Count);
        return new Shelf(work.Learned.Count, work.Missing, work.PutBack, work.Unreadable);
    }

    /// <summary>
    /// The same where the store may be away: then it is left for later, and for whoever watches stores to tell. False when it was left.
    /// </summary>
    public async Task<bool> TrySettleAsync(string storeName, bool notes, CancellationToken cancel)
    {
        try
        {
            await SettleAsync(storeName, notes, cancel);
            return true;
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            log.LogWarning("Store {Store} cannot be compared with the catalogue: {Problem}", storeName, e.Message);
            return false;
        }
    }

    /// <summary>The same after a run has left a copy there, unless the store is large and was compared a moment ago.</summary>
    public async Task SettleAfterRunAsync(string storeName, CancellationToken cancel)
    {
        if (
            !compared.TryGetValue(storeName, out var last)
            || last.Copies <= MostAfterEachRun
            || clock.Now() < last.At
            || clock.Now() - last.At >= LooksAgain
        )
            await TrySettleAsync(storeName, notes: false, cancel);
    }

    private sealed record Work(
        KeepContext Db,
        IStoreLayout Store,
        string Name,
        bool Orphans,
        List<string> Learned,
        List<string> Missing,
        List<string> PutBack,
        List<string> Unreadable
    );

    /// <summary>What a look found: the ids that the store has, the copies that were read, and the ids that the catalogue knows.</summary>
    private sealed record Found(HashSet<string> There, List<StoredCopy> Looked, IReadOnlyCollection<string> Known);

    private static IQueryable<Copy> KnownOf(Work work) => work.Db.Copies.Where(c => c.Store == work.Name && c.GoneAt == null);

    private static async Task<Found> ReadAllAsync(Work work, CancellationToken cancel)
    {
        var contents = work.Store.ReadContents();
        work.Unreadable.AddRange(contents.Damaged.Select(d => $"copy {d.CopyId}: {d.Problem}"));
        return new Found(
            [.. contents.Copies.Select(c => c.Record.Id), .. contents.Damaged.Select(d => d.CopyId)],
            [.. contents.Copies],
            await KnownOf(work).Select(c => c.Id).ToListAsync(cancel)
        );
    }

    private static async Task<Found> ReadNewAsync(Work work, CancellationToken cancel)
    {
        var (inForce, inBin) = work.Store.CopyNames();
        var known = await KnownOf(work)
            .Select(c => new
            {
                c.Id,
                Binned = c.BinnedAt != null,
                c.State,
            })
            .ToDictionaryAsync(c => c.Id, cancel);
        var looked = new List<StoredCopy>();
        foreach (
            var id in inForce
                .Concat(inBin)
                .Where(i => !known.TryGetValue(i, out var k) || k.Binned != inBin.Contains(i) || k.State == CopyState.Missing)
        )
        {
            try
            {
                if (work.Store.ReadCopy(id) is { } copy)
                    looked.Add(copy);
            }
            catch (StoreDamageException e)
            {
                work.Unreadable.Add($"copy {id}: {e.Message}");
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // It went on meanwhile; the next look finds where.
            }
        }
        return new Found([.. inForce, .. inBin], looked, known.Keys);
    }

    private async Task OneAsync(Work work, StoredCopy copy, Copy? row, CancellationToken cancel)
    {
        if (copy.Displaced && row is { BinnedAt: { } binned, GoneAt: null })
        {
            // This catalogue sent it there, and its note was lost, or is of a time before there were any.
            work.Store.MoveToBin(copy.Record.Id, binned.ToDateTimeOffset());
            copy = copy with { Binned = binned.ToDateTimeOffset(), Displaced = false };
        }
        if (copy.Displaced)
            work.PutBack.Add(copy.Record.Id);
        if (row is null)
        {
            row = CopyBook.ToRow(copy.Record, work.Name);
            if (row.Machine.Length == 0 || row.Job.Length == 0)
            {
                // What no job leaves is nobody's copy yet.
                if (charter.Charter.LeavesIn(work.Name, row.Job, row.Machine) is not { } owner)
                    return;
                (row.Job, row.Machine) = (owner.Name, row.Machine.Length > 0 ? row.Machine : owner.Machine);
            }
            row.Machine = await ServiceNames.NowOfAsync(work.Db, row.Machine, settings.Value.Machine, cancel);
            if (work.Store.Can.TakesBackups)
                row.RunId = await RunOfAsync(work.Db, row, cancel);
            if (!work.Orphans || !await TakeOverAsync(work, row, cancel))
                work.Learned.Add(row.Id);
            work.Db.Copies.Add(row);
        }
        else if (row.State == CopyState.Missing || row.GoneAt is not null)
        {
            (row.State, row.GoneAt, row.CheckedAt) = (CopyState.Unchecked, null, null);
        }
        row.BinnedAt = copy.Binned is { } at ? Instant.FromDateTimeOffset(at) : null;
        CopyBook.TakeNote(row, copy.Note);
        if (row.NoteDue)
            book.WriteNote(work.Store, row);
    }

    /// <summary>Whether there are copies of a store that the charter does not have any more.</summary>
    private async Task<bool> HasOrphansAsync(KeepContext db, CancellationToken cancel)
    {
        var declared = charter.Charter.Stores.Keys.ToList();
        return await db.Copies.AnyAsync(c => !declared.Contains(c.Store), cancel);
    }

    /// <summary>Where names do not tell whose a file is, it is the job's that leaves its copies there now.</summary>
    private async Task ReownAsync(KeepContext db, string store, CancellationToken cancel)
    {
        if (
            charter.Charter.Stores.GetValueOrDefault(store)?.Dated is not { Name: { HasJob: false } name }
            || charter.Charter.LeavesIn(store, "") is not { } owner
        )
            return;
        var machine = owner.Machine;
        await db
            .Copies.Where(c => c.Store == store && c.Job != owner.Name)
            .ExecuteUpdateAsync(s => s.SetProperty(c => c.Job, owner.Name), cancel);
        if (!name.HasMachine)
            await db
                .Copies.Where(c => c.Store == store && c.Machine != machine)
                .ExecuteUpdateAsync(s => s.SetProperty(c => c.Machine, machine), cancel);
    }

    /// <summary>
    /// A store that was given another name brings its copies along: what was known of them under the one that the charter has no more goes
    /// over.
    /// </summary>
    private async Task<bool> TakeOverAsync(Work work, Copy row, CancellationToken cancel)
    {
        var known = false;
        foreach (var before in await work.Db.Copies.Where(c => c.Id == row.Id && c.Store != work.Name).ToListAsync(cancel))
        {
            if (charter.Charter.Stores.ContainsKey(before.Store))
                continue;
            (row.NewBytes, row.StoredBytes, row.Origin) = (before.NewBytes, before.StoredBytes, before.Origin);
            row.RunId ??= before.RunId;
            work.Db.Copies.Remove(before);
            known = true;
        }
        return known;
    }

    /// <summary>What lay in the bin until its time was over was reclaimed; what went before is missing.</summary>
    private void Absent(Work work, Copy row, Instant now)
    {
        var bin = charter.Charter.Stores.GetValueOrDefault(work.Name)?.Bin.ToDuration() ?? Duration.Zero;
        if (row.BinnedAt is { } binned && now >= binned + bin)
            row.GoneAt = now;
        else
        {
            if (row.State != CopyState.Missing)
                work.Missing.Add(row.Id);
            row.State = CopyState.Missing;
        }
    }

    /// <summary>The run that made a copy whose record was written just before the service died: then it is no stranger.</summary>
    private static Task<long?> RunOfAsync(KeepContext db, Copy row, CancellationToken cancel) =>
        db
            .Runs.Where(r =>
                r.Kind == RunKind.Backup
                && r.Job == row.Job
                && r.Machine == row.Machine
                && r.Began != null
                && r.Began <= row.Taken
                && (r.Ended == null || r.Ended >= row.Taken)
            )
            .OrderByDescending(r => r.Id)
            .Select(r => (long?)r.Id)
            .FirstOrDefaultAsync(cancel);

    private async Task TellAsync(Work work, CancellationToken cancel)
    {
        foreach (var id in work.Learned)
            log.LogInformation("Copy {Copy} of store {Store} was not known and is now", id, work.Name);
        if (work.Missing.Count > 0)
            await alerts.RaiseAsync(
                new Matter(
                    Subject.OfStore(work.Name),
                    AlertClass.Unsound,
                    $"store {work.Name} has lost {Counted.Of(work.Missing.Count, "copy", "copies")}: {Counted.Named(work.Missing)}",
                    "Find out who removed the records or the disk under them; bring them back, or run the jobs again. A check of the store "
                        + "tells what else is missing, and closes this when nothing is."
                ),
                cancel
            );
        if (work.PutBack.Count > 0)
            await alerts.RaiseAsync(
                new Matter(
                    Subject.OfStore(work.Name),
                    AlertClass.Unsound,
                    $"somebody {(work.Store.Can.TakesBackups ? "without the key of" : "moved files in")} store "
                        + $"{work.Name}{(work.Store.Can.TakesBackups ? " moved the records of" : ":")} "
                        + $"{Counted.Of(work.PutBack.Count, "copy", "copies")} into its bin: {Counted.Named(work.PutBack)}; they were put "
                        + $"back and "
                        + $"are in force",
                    "Look who can write to the store's folder; nothing of it was lost. The next check of the store that finds all well "
                        + "closes this."
                ),
                cancel
            );
    }
}
