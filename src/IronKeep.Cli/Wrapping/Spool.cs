using System.Globalization;
using System.Text.Json;
using IronKeep.Cli.Client;
using IronKeep.Contracts;

namespace IronKeep.Cli.Wrapping;

/// <summary>A report on its way: where it goes (a check-in address, or a job of the service signed in to), and what it says.</summary>
internal sealed record Reported(string Job, string? Address, string? Url, CheckInRequest Request, string? On = null);

/// <summary>
/// Reports that the service has not taken yet, one file each, in the order in which they were made. A report is in the spool, durable,
/// before anything is sent; it goes when the service has it. Whoever delivers holds a lock, so that they arrive in order; each carries an
/// id, so that one that arrives twice counts once.
/// </summary>
internal sealed class Spool
{
    private const string Ending = ".json";
    private static readonly UnixFileMode OwnerOnly = UnixFileMode.UserRead | UnixFileMode.UserWrite;
    private static long last;

    public Spool()
    {
        Folder = Environment.GetEnvironmentVariable("IRONKEEP_SPOOL") is { Length: > 0 } given
            ? given
            : Path.Combine(
                Environment.GetEnvironmentVariable("XDG_STATE_HOME") is { Length: > 0 } state
                    ? state
                    : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".local", "state"),
                "ironkeep",
                "spool"
            );
        Directory.CreateDirectory(Folder, OwnerOnly | UnixFileMode.UserExecute);
    }

    public string Folder { get; }

    /// <summary>Puts a report at the end. Durable when this returns.</summary>
    public void Put(Reported report)
    {
        // Later than the one before, also when the clock stands still or goes back between two.
        last = Math.Max(last + 1, DateTime.UtcNow.Ticks);
        Write(Folder, $"{last.ToString("D20", CultureInfo.InvariantCulture)}-{Guid.NewGuid():n}", report);
    }

    private static void Write(string folder, string name, Reported report)
    {
        var working = Path.Combine(folder, name + ".part");
        using (
            var file = new FileStream(
                working,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = OwnerOnly,
                }
            )
        )
        {
            JsonSerializer.Serialize(file, report, ClientJson.Of<Reported>());
            file.Flush(flushToDisk: true);
        }
        File.Move(working, Path.Combine(folder, name + Ending));
    }

    /// <summary>
    /// Leaves a report for this machine's agent, which passes it on; durable when this returns. What went wrong, or null.
    /// </summary>
    public static string? Leave(string folder, Reported report)
    {
        try
        {
            Write(folder, $"{DateTime.UtcNow.Ticks.ToString("D20", CultureInfo.InvariantCulture)}-{Guid.NewGuid():n}", report);
            return null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return $"it cannot be left for this machine's agent: {e.Message}";
        }
    }

    public bool IsEmpty => !Directory.EnumerateFiles(Folder, "*" + Ending).Any();

    /// <summary>
    /// Delivers in order until the first that the service does not take: then those behind it wait. One that it refuses for good is set
    /// aside with a word, for it would hold up all others. Null when nothing is left, else why something is.
    /// </summary>
    public async Task<string?> DeliverAsync(Func<Reported, Task<Delivery>> send)
    {
        using var turn = TryLock("delivering.lock");
        if (turn is null)
            return "another is delivering";
        foreach (var file in Directory.EnumerateFiles(Folder, "*" + Ending).Order(StringComparer.Ordinal).ToList())
        {
            if (Read(file) is not { } report)
            {
                Refuse(file, "it cannot be read");
                continue;
            }
            var delivery = await send(report);
            if (delivery.Waits)
                return delivery.Problem;
            if (delivery.Problem is { } refused)
                Refuse(file, refused);
            else
                File.Delete(file);
        }
        return null;
    }

    private static void Refuse(string file, string why)
    {
        File.Move(file, file + ".refused", overwrite: true);
        Console.Error.WriteLine($"ironkeep: a report was refused for good ({why}); it is kept in {file}.refused");
    }

    private static Reported? Read(string file)
    {
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllText(file), ClientJson.Of<Reported>());
        }
        catch (Exception e) when (e is JsonException or IOException)
        {
            return null;
        }
    }

    /// <summary>A lock by name, held until it is disposed of; null while another has it.</summary>
    public FileStream? TryLock(string name)
    {
        try
        {
            return new FileStream(
                Path.Combine(Folder, name),
                new FileStreamOptions
                {
                    Mode = FileMode.OpenOrCreate,
                    Access = FileAccess.ReadWrite,
                    Share = FileShare.None,
                    UnixCreateMode = OwnerOnly,
                }
            );
        }
        catch (IOException)
        {
            return null;
        }
    }
}

/// <summary>What became of a report: taken (no problem), refused for good, or it waits for the service.</summary>
internal sealed record Delivery(string? Problem = null, bool Waits = false);
