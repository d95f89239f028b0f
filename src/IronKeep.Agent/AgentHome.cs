using System.Security.Cryptography;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent;

/// <summary>
/// Whom the machine joined: the service's address, the print of its key (hex), and under which names both go. Time is UTC.
/// </summary>
internal sealed record Joined(string Address, string ServicePrint, string Machine, string Service, DateTimeOffset At);

/// <summary>
/// The last contact (UTC), until when the right holds by it, and what is in the way since (null: nothing). Next is when jobs of this
/// machine are due, as the service said then; doing is what was in hand.
/// </summary>
internal sealed record Contact(
    DateTimeOffset? At,
    DateTimeOffset? RightUntil,
    string? Problem,
    DateTimeOffset? ProblemSince,
    IReadOnlyList<NextDue>? Next = null,
    IReadOnlyList<Doing>? Doing = null
);

/// <summary>An order in hand: what it is, and since when (UTC).</summary>
internal sealed record Doing(string What, DateTimeOffset Since);

/// <summary>The agent's own folder: its key, which never leaves it, whom it serves, and what it knows of the last contact.</summary>
internal sealed class AgentHome(string folder)
{
    public const string Usual = "/var/lib/ironkeep-agent";
    private const int InUse = 11;

    public string Folder => folder;
    public string JournalFolder => Path.Combine(folder, "journal");
    private string StandingFile => Path.Combine(folder, "standing-orders.json");
    private string HeardFile => Path.Combine(folder, "heard-jobs.json");
    public string HeardFolder => Path.Combine(folder, "heard-reports");
    public string LogPlacesFolder => Path.Combine(folder, "log-places");
    public string OwedFolder => Path.Combine(folder, "owed-steps");
    private string KeyFile => Path.Combine(folder, "key.pem");
    private string JoinedFile => Path.Combine(folder, "service.json");
    private string KeptFile => Path.Combine(folder, "kept-services.json");
    private string ContactFile => Path.Combine(folder, "contact.json");

    /// <summary>Makes the folder where there is none, for its owner alone.</summary>
    public void Make() => Guarded(folder, () =>
        {
            Directory.CreateDirectory(folder, OwnFiles.Folder);
            return OwnFiles.TightenFolder(folder);
        });

    /// <summary>The machine's key, made when it is first asked for. It is on the disk before anybody hears of it.</summary>
    public ECDsa Key() => Guarded(KeyFile, () =>
        {
            var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            if (File.Exists(KeyFile))
                key.ImportFromPem(File.ReadAllText(KeyFile));
            else
                DurableFile.Write(KeyFile, key.ExportPkcs8PrivateKeyPem());
            return key;
        });

    /// <summary>Whom the machine joined; null before it did.</summary>
    public Joined? Joined() => Read<Joined>(JoinedFile);

    public void Save(Joined joined) => Write(JoinedFile, joined);

    public Contact? Contact() => Read<Contact>(ContactFile);

    public void Save(Contact contact) => Write(ContactFile, contact);

    /// <summary>The services that the service wants kept up, as it said last; null: it has not.</summary>
    public IReadOnlyList<KeptServiceWords>? KeptServices() => Read<IReadOnlyList<KeptServiceWords>>(KeptFile);

    public void Save(IReadOnlyList<KeptServiceWords> kept) => Write(KeptFile, kept);

    /// <summary>What this machine does on its own, as the service said last; null: it has not.</summary>
    public StandingOrders? Standing() => Read<StandingOrders>(StandingFile);

    public void Save(StandingOrders orders) => Write(StandingFile, orders);

    /// <summary>The watched jobs of this machine, as the service said last; null: it has not.</summary>
    public HeardJobs? Heard() => Read<HeardJobs>(HeardFile);

    public void Save(HeardJobs jobs) => Write(HeardFile, jobs);

    /// <summary>
    /// Holds the folder for the one agent that works there; null when another does. Whoever only asks whether one is at work holds it
    /// for a moment, which must not keep an agent from starting: it is tried for a second.
    /// </summary>
    public async Task<FileStream?> HoldAsync()
    {
        for (var tries = 0; ; tries++)
        {
            if (TryHold() is { } held)
                return held;
            if (tries == 10)
                return null;
            await Task.Delay(100);
        }
    }

    /// <summary>Holds the folder, if nobody does at this moment.</summary>
    public FileStream? TryHold() => Guarded(folder, () =>
        {
            try
            {
                return new FileStream(Path.Combine(folder, "agent.lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            }
            catch (IOException e) when (e.HResult == InUse)
            {
                return null;
            }
        });

    private static T? Read<T>(string file)
        where T : class => Guarded(file, () => File.Exists(file) ? AgentJson.Read<T>(File.ReadAllText(file)) : null);

    private static void Write<T>(string file, T value) => Guarded<object?>(file, () =>
        {
            DurableFile.Write(file, AgentJson.Write(value) + "\n");
            return null;
        });

    private static T Guarded<T>(string file, Func<T> act)
    {
        try
        {
            return act();
        }
        catch (UnauthorizedAccessException e)
        {
            throw new AgentException(
                Root.Refused,
                $"{file} is not for you ({e.Message}); ask as the user that the agent runs as, such as root"
            );
        }
        catch (Exception e) when (e is JsonException or CryptographicException or ArgumentException)
        {
            throw new AgentException(
                Root.Failed,
                $"{file} is damaged ({e.Message}); remove it and join again with a new code from 'ironkeep machine enrol'"
            );
        }
        catch (IOException e)
        {
            throw new AgentException(Root.Failed, $"{file} cannot be used: {e.Message}; look at its disk and its rights");
        }
    }
}
