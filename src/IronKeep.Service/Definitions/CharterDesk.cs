using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Stores;
using IronKeep.Service.Timetable;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Yaml;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Definitions;

/// <summary>Checks, compares and applies charters. Applying is whole or not at all.</summary>
public sealed class CharterDesk(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    OpenStores stores,
    ShelfKeeper shelves,
    ClockLoop clockLoop,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    EventHub events,
    ILogger<CharterDesk> log
)
{
    /// <summary>The machine whose jobs this service carries out.</summary>
    public string Machine => settings.Value.Machine;

    /// <summary>
    /// Reads a text and finds every mistake, those about places on the machine included, and with its name those about other machines.
    /// </summary>
    public static CharterReading Check(string yaml, string? machine = null) => Check(CharterYaml.Read(yaml, machine ?? ""), machine);

    /// <summary>Adds to what reading found the mistakes about places on the machine.</summary>
    public static CharterReading Check(CharterReading reading, string? machine = null)
    {
        if (reading.Charter is null)
            return reading;
        var unsafePlaces = PlaceRules.Check(reading, machine).ToImmutableArray();
        return unsafePlaces.Length == 0 ? reading : reading with { Charter = null, Mistakes = unsafePlaces };
    }

    public ImmutableArray<CharterChange> Compare(Charter charter) => CharterDiff.Compare(inForce.Charter, charter);

    /// <summary>
    /// Puts a checked charter in force. Null when done; else why not, and nothing has changed. <paramref name="expected"/> is the
    /// revision that the caller compared with, or null to apply over whatever is in force.
    /// </summary>
    public async Task<Applied> ApplyAsync(CharterReading reading, long? expected, string by, CancellationToken cancel)
    {
        var charter = reading.Charter! with { Own = Machine };
        // Nothing is asked of a store while the loop is held: one that hangs must not stop the clock.
        var fresh = charter
            .Stores.Values.Where(s =>
                !inForce.Charter.Stores.TryGetValue(s.Name, out var known) || known.Folder != s.Folder || known.Remote != s.Remote
            )
            .ToList();
        foreach (var store in fresh)
            if (await stores.PrepareAsync(store) is { } problem)
                return new Applied(problem);
        if (await PutInForceAsync(charter, expected, by, cancel) is { } why)
            return new Applied(why.Length == 0 ? null : why);
        var learned = new Dictionary<string, int>();
        foreach (var store in fresh)
        {
            // A store with much in it is read on while the answer goes out.
            var settling = Task.Run(
                async () => learned[store.Name] = (await shelves.SettleAsync(store.Name, notes: true, CancellationToken.None)).Learned,
                CancellationToken.None
            );
            try
            {
                await settling.WaitAsync(stores.Waits, cancel);
            }
            catch (Exception e) when (e is TimeoutException or PlaceException or StoreDamageException)
            {
                log.LogWarning("Store {Store} is not compared with the catalogue yet: {Problem}", store.Name, e.Message);
            }
        }
        events.Publish(Topic.Charter);
        return new Applied(null) { Learned = learned };
    }

    /// <summary>Null when it is in force now, an empty text when it was already, else why not.</summary>
    private async Task<string?> PutInForceAsync(Charter charter, long? expected, string by, CancellationToken cancel)
    {
        // Due instants of the old schedules are stored before the new ones count, so that an edit neither loses nor repeats one.
        using var quiet = await clockLoop.HoldAsync(cancel);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        await inForce.CatchUpAsync(db, cancel);
        if (expected is { } revision && revision != inForce.Revision)
            return $"the charter in force is revision {inForce.Revision}, not {revision}: somebody applied another since; compare again "
                + $"and apply on top of that";
        if (Compare(charter).Length == 0)
            return "";
        await clockLoop.StoreDueAsync(db, toNow: true, cancel);
        var row = new CharterRevision
        {
            AppliedAt = clock.Now(),
            By = by,
            Yaml = CharterWriter.Write(charter),
        };
        db.CharterRevisions.Add(row);
        await db.SaveChangesAsync(cancel);
        await clockLoop.WatchAsync(db, charter, cancel);
        db.Say(new Fact { At = clock.Now(), Kind = FactKind.CharterApplied });
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        inForce.Replace(row.Id, charter);
        log.LogInformation("Charter revision {Revision} applied by {Person}", row.Id, by);
        return null;
    }
}

/// <summary>Why a charter could not be put in force, or null; and how many copies were learned from each store that is new.</summary>
public sealed record Applied(string? Problem)
{
    public IReadOnlyDictionary<string, int> Learned { get; init; } = new Dictionary<string, int>();
}
