using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Serialization;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Pooled;

/// <summary>What a lease lets its holder do: write copies beside others, or remove packs, which one may do at a time.</summary>
[JsonConverter(typeof(LeaseKindWord))]
internal enum LeaseKind
{
    Writing,
    Tending,
}

internal sealed class LeaseKindWord() : JsonStringEnumConverter<LeaseKind>(JsonNamingPolicy.KebabCaseLower);

/// <summary>How long a lease holds without being renewed.</summary>
public sealed record LeaseTerms(TimeSpan Length)
{
    public static LeaseTerms Usual { get; } = new(TimeSpan.FromMinutes(3));
}

/// <summary>
/// A lease as it lies in the store. <paramref name="Until"/> is UTC by the holder's clock; <paramref name="Process"/> is his
/// <see cref="ProcessMark"/>, by which those on the same machine know his death at once.
/// </summary>
internal sealed record LeaseNote(string Id, LeaseKind Kind, string Holder, string Process, DateTimeOffset Until);

/// <summary>
/// A note in the store that someone is at work in it. It is renewed while he is; after a death it runs out by itself, and whoever
/// needs the store then removes it. A holder whose note was removed learns it at the latest before and after he writes a copy
/// record, and gives up: see <see cref="Prove"/>.
/// </summary>
internal sealed class Lease : IDisposable
{
    private const string Folder = "leases";
    private const string Ending = ".lease";
    private readonly IPlace place;
    private readonly LeaseTerms terms;
    private readonly Timer timer;
    private readonly Lock gate = new();
    private LeaseNote note;
    private long renewed;
    private bool ended,
        lost;

    private Lease(IPlace place, LeaseTerms terms, LeaseNote note)
    {
        (this.place, this.terms, this.note) = (place, terms, note);
        Renew();
        timer = new Timer(_ => TryRenew(), null, terms.Length / 3, terms.Length / 3);
    }

    public string Id => note.Id;

    /// <summary>Takes a lease. A second one that tends is refused with <see cref="PlaceFault.InUse"/>.</summary>
    public static Lease Take(IPlace place, LeaseKind kind, LeaseTerms terms)
    {
        var lease = new Lease(
            place,
            terms,
            new LeaseNote(
                Guid.NewGuid().ToString("n"),
                kind,
                $"{Environment.MachineName}, process {Environment.ProcessId}",
                ProcessMark.Own,
                DateTimeOffset.UtcNow + terms.Length
            )
        );
        if (kind == LeaseKind.Writing)
            return lease;
        try
        {
            // Both may give way when two come at the same moment; neither goes ahead beside the other.
            if (Living(place).Find(l => l.Kind == LeaseKind.Tending && l.Id != lease.Id) is { } other)
                throw new PlaceException(
                    PlaceFault.InUse,
                    $"the store at {place.Name} is being tended by {other.Holder} until {other.Until.UtcDateTime:HH:mm:ss} UTC at the "
                        + $"latest; wait until that is done"
                );
            return lease;
        }
        catch
        {
            lease.Dispose();
            throw;
        }
    }

    /// <summary>The leases that hold; those that ran out, and those that cannot be read, are removed.</summary>
    public static List<LeaseNote> Living(IPlace place)
    {
        var living = new List<LeaseNote>();
        foreach (var file in place.List(Folder).Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal)))
        {
            try
            {
                var note = JsonSerializer.Deserialize(CheckedText.Read(place.Read(file.Name), file.Name), StoreJson.Default.LeaseNote);
                if (note is { Process: not null } && note.Until > DateTimeOffset.UtcNow && !ProcessMark.IsDead(note.Process))
                {
                    living.Add(note);
                    continue;
                }
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                continue;
            }
            catch (Exception e) when (e is StoreDamageException or JsonException) { }
            place.Delete(file.Name);
        }
        return living;
    }

    /// <summary>Throws when the lease ran out or was taken away; what was written under it may then rest on packs that are gone.</summary>
    public void Prove()
    {
        lock (gate)
        {
            if (!lost && Stopwatch.GetElapsedTime(renewed) < terms.Length && place.Exists(FileOf(note.Id)))
                return;
        }
        throw new PlaceException(
            PlaceFault.Other,
            $"the lease on the store at {place.Name} was lost, because it could not be renewed for {terms.Length.TotalSeconds:0} s; run "
                + $"again"
        );
    }

    public void Dispose()
    {
        timer?.Dispose();
        lock (gate)
        {
            if (ended)
                return;
            ended = true;
            try
            {
                place.Delete(FileOf(note.Id), durable: false);
            }
            catch (PlaceException)
            {
                // It runs out by itself.
            }
        }
    }

    /// <summary>Stops renewing and leaves the note where it is, as a process does that dies.</summary>
    internal void Abandon()
    {
        timer.Dispose();
        ended = true;
    }

    private static string FileOf(string id) => $"{Folder}/{id}{Ending}";

    private void Renew()
    {
        lock (gate)
        {
            if (ended)
                return;
            var began = Stopwatch.GetTimestamp();
            note = note with { Until = DateTimeOffset.UtcNow + terms.Length };
            place.Write(FileOf(note.Id), CheckedText.Write(JsonSerializer.Serialize(note, StoreJson.Default.LeaseNote)));
            // Whoever looked after the note before this one had run out took the holder for dead, even if it has come back since.
            lost |= renewed != 0 && Stopwatch.GetElapsedTime(renewed) >= terms.Length;
            renewed = began;
        }
    }

    internal void TryRenew()
    {
        try
        {
            lock (gate)
            {
                // One that was taken away stays away; so does one that ran out while the machine slept.
                if (ended || Stopwatch.GetElapsedTime(renewed) >= terms.Length || !place.Exists(FileOf(note.Id)))
                    return;
                Renew();
            }
        }
        catch (PlaceException)
        {
            // Tried again at the next turn; Prove tells when it was too late.
        }
    }
}
