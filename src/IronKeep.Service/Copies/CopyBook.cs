using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Dated;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Runs.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Copies;

/// <summary>
/// What the catalogue knows of copies. The stores' records, and the notes beside them, are the truth; this is the index of them.
/// </summary>
public sealed class CopyBook(IDbContextFactory<KeepContext> catalogue, OpenStores stores, TimeProvider clock, ILogger<CopyBook> log)
{
    private readonly ConcurrentDictionary<string, SemaphoreSlim> turns = new();

    /// <summary>
    /// One at a time changes which copies of a store the catalogue knows: a run that has just written one, or whoever compares the two.
    /// </summary>
    public async Task<IDisposable> TurnAsync(string store, CancellationToken cancel)
    {
        var turn = turns.GetOrAdd(store, _ => new SemaphoreSlim(1));
        await turn.WaitAsync(cancel);
        return new Turn(turn);
    }

    private sealed class Turn(SemaphoreSlim turn) : IDisposable
    {
        public void Dispose() => turn.Release();
    }

    /// <summary>
    /// Enters a copy that a run has made. It may be known already: whoever compared store and catalogue at this moment was faster.
    /// </summary>
    public async Task AddAsync(CopyRecord record, string store, long runId, RunFigures figures)
    {
        using var turn = await TurnAsync(store, CancellationToken.None);
        await using var db = await catalogue.CreateDbContextAsync(CancellationToken.None);
        await using var change = await db.BeginChangeAsync(CancellationToken.None);
        var row = await db.Copies.FindAsync(record.Id, store);
        if (row is null)
            db.Copies.Add(row = ToRow(record, store));
        (row.NewBytes, row.StoredBytes, row.RunId) = (figures.NewBytes, figures.StoredBytes, runId);
        db.Say(
            new Fact
            {
                At = clock.Now(),
                Kind = FactKind.CopyMade,
                CopyId = record.Id,
                Store = store,
                Job = row.Job,
                Machine = row.Machine,
                RunId = runId,
            }
        );
        await db.SaveChangesAsync(CancellationToken.None);
        await change.CommitAsync(CancellationToken.None);
    }

    /// <summary>The record of the newest copy to compare a run with; null when there is none that can be read.</summary>
    public async Task<CopyRecord?> NewestRecordAsync(
        string job,
        string machine,
        string storeName,
        IStoreLayout store,
        CancellationToken cancel
    )
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var newest = await Alive(db)
            .Where(c => c.Job == job && c.Machine == machine && c.Store == storeName)
            .OrderByDescending(c => c.Taken)
            .Select(c => c.Id)
            .Take(3)
            .ToListAsync(cancel);
        foreach (var id in newest)
        {
            try
            {
                if (store.ReadRecord(id) is { } record)
                    return record;
            }
            catch (Exception e) when (e is StoreDamageException or PlaceException { Fault: PlaceFault.NotFound })
            {
                log.LogWarning("The record of copy {Copy} cannot be read: {Problem}", id, e.Message);
            }
        }
        return null;
    }

    /// <summary>
    /// Says beside the records in the store what the catalogue says of these copies (hold, damage, doubt), so that a new catalogue will
    /// know it. A store that cannot be reached is told when it is compared the next time.
    /// </summary>
    public async Task NoteAsync(string store, IReadOnlyCollection<string> ids)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        foreach (var row in await db.Copies.Where(c => c.Store == store && ids.Contains(c.Id) && c.GoneAt == null).ToListAsync())
        {
            row.NoteDue = true;
            try
            {
                await stores.AskAsync(row.Store, store => WriteNote(store, row));
            }
            catch (Exception e) when (e is PlaceException or StoreDamageException)
            {
                log.LogWarning(
                    "What is known of copy {Copy} could not be written beside its record: {Problem}; it is tried again",
                    row.Id,
                    e.Message
                );
            }
            await db.SaveChangesAsync();
        }
    }

    /// <summary>Writes a row's note; the caller saves the row.</summary>
    internal bool WriteNote(IStoreLayout store, Copy row)
    {
        var note = store.Note(row.Id, clock.GetUtcNow(), n =>
            n with
            {
                HeldBy = row.HeldBy,
                HeldReason = row.HeldReason,
                HeldUntil = row.HeldUntil?.ToDateTimeOffset(),
                Damage = [.. row.Damage.Split('\n', StringSplitOptions.RemoveEmptyEntries).Take(CopyNote.MostPaths)],
                DamageCount = row.State == CopyState.Unsound ? Math.Max(1, row.DamageCount) : 0,
                Doubt = row.Doubt,
            }
        );
        (row.NotedAt, row.NoteDue) = (Instant.FromDateTimeOffset(note.Changed), false);
        return true;
    }

    /// <summary>Takes over what a note says, if it is not what the row knows already, and the row has nothing of its own to say.</summary>
    internal static void TakeNote(Copy row, CopyNote? note)
    {
        if (note is null || row.NoteDue || row.NotedAt == Instant.FromDateTimeOffset(note.Changed))
            return;
        (row.HeldBy, row.HeldReason, row.HeldUntil) = note is { HeldBy: { } by, HeldUntil: { } until }
            ? ((string?)by, (string?)(note.HeldReason ?? ""), (Instant?)Instant.FromDateTimeOffset(until))
            : (null, null, null);
        row.Doubt = note.Doubt;
        if (note.DamageCount > 0)
            (row.State, row.Damage, row.DamageCount) = (CopyState.Unsound, string.Join('\n', note.Damage), note.DamageCount);
        else if (row.State == CopyState.Unsound)
            (row.State, row.Damage, row.DamageCount) = (CopyState.Unchecked, "", 0);
        row.NotedAt = Instant.FromDateTimeOffset(note.Changed);
    }

    /// <summary>
    /// The one living copy of an id, in the store that is named or in whichever has it. Null when there is none, or when it is in several
    /// and none was named: then the problem says in which.
    /// </summary>
    public static async Task<(Copy? Copy, ProblemHttpResult? Problem)> FindAsync(
        KeepContext db,
        string id,
        string? store,
        CancellationToken cancel
    )
    {
        var found = await Alive(db).Where(c => c.Id == id && (store == null || c.Store == store)).OrderBy(c => c.Store).ToListAsync(cancel);
        return found.Count switch
        {
            1 => (found[0], null),
            0 => (null, Problems.NotThere("copy", id, "copies", store is null ? "" : $" in store '{store}'")),
            _ => (
                null,
                Problems.Of(
                    StatusCodes.Status409Conflict,
                    "Refused",
                    $"copy '{id}' is in several stores: {string.Join(" and ", found.Select(c => c.Store))}",
                    ProblemCodes.WhichStore,
                    "say which with ?store=NAME",
                    (ProblemCodes.Kind, "copy"),
                    (ProblemCodes.Name, id),
                    (ProblemCodes.Stores, string.Join(", ", found.Select(c => c.Store)))
                )
            ),
        };
    }

    /// <summary>Copies whose bytes are still there, those in the bin included.</summary>
    public static IQueryable<Copy> Alive(KeepContext db) => db.Copies.AsNoTracking().Where(c => c.GoneAt == null);

    /// <summary>Copies in force: alive and not in the bin.</summary>
    public static IQueryable<Copy> InForce(KeepContext db) => Alive(db).Where(c => c.BinnedAt == null);

    /// <summary>
    /// Copies as retention sees them, with what each needs below it. They are all that are alive of one job on one machine in one store,
    /// those in the bin included.
    /// </summary>
    public static List<(Copy Copy, CopyFacts Facts)> Facts(IReadOnlyList<Copy> alive, Instant asOf, DateTimeZone zone)
    {
        var sorted = alive.OrderBy(c => c.Taken).ThenBy(c => c.Id, StringComparer.Ordinal).ToList();
        var bases = DatedChains.Bases([.. sorted.Select(c => c.Kind)]);
        return
        [
            .. sorted.Select(
                (c, i) => (c, new CopyFacts(c.Id, c.Taken, c.State, c.Base ?? BaseOf(i), HoldWords(c, asOf, zone), c.Doubt is not null))
            ),
        ];

        string? BaseOf(int i) =>
            bases[i] is not { } below ? null
            : below < 0 ? CopyFacts.NoFull
            : sorted[below].Id;
    }

    /// <summary>The words of a copy's hold at an instant; null when nobody holds it, or the hold is over.</summary>
    public static string? HoldWords(Copy copy, Instant asOf, DateTimeZone zone) =>
        copy.HeldUntil is { } until && asOf < until
            ? $"by {copy.HeldBy} until {until.InZone(zone).ToString("uuuu-MM-dd HH:mm", CultureInfo.InvariantCulture)}: {copy.HeldReason}"
            : null;

    internal static Copy ToRow(CopyRecord record, string store) =>
        new()
        {
            Id = record.Id,
            Kind = record.Kind,
            Base = record.Base,
            Job = record.Job,
            Machine = record.Machine,
            Store = store,
            Origin = record.Id,
            Taken = Instant.FromDateTimeOffset(record.Taken),
            Ended = Instant.FromDateTimeOffset(record.Ended),
            State = CopyState.Unchecked,
            Items = record.Items,
            Bytes = record.Bytes,
            Skipped = record.Skipped,
            NewBytes = record.NewBytes ?? 0,
            StoredBytes = record.StoredBytes ?? 0,
        };
}
