using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Copies;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using IronKeep.Service.Stores;
using IronKeep.Service.Timetable;
using IronKeep.Yaml;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Charters;

/// <summary>Checks, compares and applies charters. Applying is whole or not at all.</summary>
public sealed class CharterDesk(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, OpenStores stores, CopyBook copies, ClockLoop clockLoop, TimeProvider clock, IOptions<ServiceSettings> settings, EventHub events, ILogger<CharterDesk> log)
{
    /// <summary>The machine whose jobs this service carries out.</summary>
    public string Machine => settings.Value.Machine;

    /// <summary>Reads a text and finds every mistake, those about places on the machine included, and with its name those about other machines.</summary>
    public static CharterReading Check(string yaml, string? machine = null) => Check(CharterYaml.Read(yaml), machine);

    /// <summary>Adds to what reading found the mistakes about places on the machine.</summary>
    public static CharterReading Check(CharterReading reading, string? machine = null)
    {
        if (reading.Charter is null) return reading;
        var unsafePlaces = PlaceRules.Check(reading, machine).ToImmutableArray();
        return unsafePlaces.Length == 0 ? reading : reading with { Charter = null, Mistakes = unsafePlaces };
    }

    public ImmutableArray<CharterChange> Compare(Charter charter) => CharterDiff.Compare(inForce.Charter, charter);

    /// <summary>
    /// Puts a checked charter in force. Null when done; else why not, and nothing has changed. <paramref name="expected"/> is the
    /// revision that the caller compared with, or null to apply over whatever is in force.
    /// </summary>
    public async Task<string?> ApplyAsync(CharterReading reading, long? expected, string by, CancellationToken cancel)
    {
        var charter = reading.Charter!;
        // Due instants of the old schedules are stored before the new ones count, so that an edit neither loses nor repeats one.
        using var quiet = await clockLoop.HoldAsync(cancel);
        if (expected is { } revision && revision != inForce.Revision)
            return $"the charter in force is revision {inForce.Revision}, not {revision}: somebody applied another since; compare again and apply on top of that";
        if (Compare(charter).Length == 0) return null;
        foreach (var store in charter.Stores.Values)
        {
            if (inForce.Charter.Stores.TryGetValue(store.Name, out var known) && known.Folder == store.Folder) continue;
            if (stores.Prepare(store) is { } problem) return problem;
        }
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var transaction = await db.Database.BeginTransactionAsync(cancel);
        await clockLoop.StoreDueAsync(db, toNow: true, cancel);
        var row = new CharterRevision { AppliedAt = clock.Now(), By = by, Yaml = CharterWriter.Write(charter) };
        db.CharterRevisions.Add(row);
        await db.SaveChangesAsync(cancel);
        await clockLoop.WatchAsync(db, charter, cancel);
        await transaction.CommitAsync(cancel);
        inForce.Replace(row.Id, charter);
        log.LogInformation("Charter revision {Revision} applied by {Person}", row.Id, by);
        foreach (var store in charter.Stores.Keys) await copies.LearnAsync(store, cancel);
        events.Publish("charter");
        return null;
    }
}
