using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Core.Forecasts;
using IronKeep.Service.Basics;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;
using Npgsql;

namespace IronKeep.Service.Catalogue;

/// <summary>
/// Keeps watch over the catalogue's file. A small file beside it says that there was one, whose, and when it was last heard of, so that a
/// missing, empty, foreign or older one is never begun anew in silence; and what the disk refuses is known until it takes something again.
/// </summary>
public sealed class CatalogueGuard(IOptions<ServiceSettings> settings, ILogger<CatalogueGuard> log) : IDisposable
{
    private const string IdKey = "catalogue-id";
    private const string Open = "open",
        Closed = "closed";

    /// <summary>After a power cut the last moments may be missing from the one file and not from the other.</summary>
    private static readonly Duration Tolerated = Duration.FromMinutes(10);
    private readonly Lock gate = new();
    private SqliteConnection? keeper;
    private string id = "";
    private volatile string? problem;

    private string Folder => settings.Value.DataFolder;
    private string Database => settings.Value.CatalogueAt;
    private string Mark => Path.Combine(Folder, "catalogue.known");

    /// <summary>Why the catalogue takes nothing, in words; null while it does.</summary>
    public string? Problem => problem;

    /// <summary>What the interceptor saw: a write that went through, or one that the file refused.</summary>
    internal void Saw(Exception? refusal)
    {
        // SQLite's codes: read-only 8, input/output 10, full 13, cannot open 14.
        if (refusal is null)
            problem = null;
        else if (refusal is NpgsqlException lost && IsServers(lost))
            problem = lost is PostgresException { SqlState: PostgresErrorCodes.DiskFull }
                ? $"the disk under the catalogue {CatalogueKinds.Told(settings.Value.CatalogueAt)} is full: make room there, and the "
                    + $"service goes on by itself"
                : $"the catalogue {CatalogueKinds.Told(settings.Value.CatalogueAt)} does not answer ({lost.Message}): look at its server "
                    + $"and the way to it, and the service goes on by itself";
        else if (refusal is SqliteException { SqliteErrorCode: 8 or 10 or 13 or 14 } refused)
            problem =
                refused.SqliteErrorCode == 13
                    ? $"the disk under the catalogue {Database} is full: make room there, and the service goes on by itself"
                    : $"the catalogue {Database} cannot be written ({refused.Message}): look at its disk and its rights, and the service "
                        + $"goes on by itself";
    }

    /// <summary>
    /// Whether it is the server or the way to it that failed, and not what was asked: connection 08, resources 53, an operator 57, the
    /// system 58.
    /// </summary>
    private static bool IsServers(NpgsqlException failure) =>
        failure is not PostgresException said
        || said.SqlState[..2] is "08" or "53" or "57" or "58"
        || said.SqlState == PostgresErrorCodes.ReadOnlySqlTransaction;

    /// <summary>
    /// Refuses a catalogue that is not what was there, before anything is made. Throws <see cref="StartRefusedException"/>.
    /// </summary>
    public static void RefuseLost(string dataFolder, string database)
    {
        var mark = Path.Combine(dataFolder, "catalogue.known");
        if (!File.Exists(mark))
            return;
        var wayOut =
            $"Put it back, or a copy of it from before. To begin anew on purpose, remove {mark} and start again: then sign in as the first "
            + $"person and apply the charter, which reads the copies back from their stores";
        if (!File.Exists(database) || new FileInfo(database).Length == 0)
            throw new StartRefusedException(
                $"the catalogue {database} is {(File.Exists(database) ? "empty" : "gone")}, and there was one. {wayOut}"
            );
        var known = Read(mark);
        if (known.State == Open && !File.Exists(database + "-wal"))
            throw new StartRefusedException(
                $"the catalogue {database} lacks its newest part, the file {database}-wal that lay beside it when the service ended. "
                    + $"{wayOut}"
            );
        try
        {
            using var connection = new SqliteConnection($"Data Source={database};Pooling=False;Mode=ReadOnly");
            connection.Open();
            var id = One(connection, $"SELECT Value FROM Notes WHERE Key = '{IdKey}'");
            if (id != known.Id)
                throw new StartRefusedException($"the catalogue {database} is another than the one that was there. {wayOut}");
            var heard = One(connection, "SELECT Value FROM Notes WHERE Key = 'heard'")?.Split(' ')[0];
            if (
                known.Heard is { } last
                && (heard is null || Instant.FromUnixTimeTicks(long.Parse(heard, CultureInfo.InvariantCulture)) < last - Tolerated)
            )
                throw new StartRefusedException(
                    $"the catalogue {database} is older than the one that was there: it ends before {last}. If you put an older one back "
                        + $"on purpose, remove {mark} and start again; the stores are compared with it then. If not: {wayOut}"
                );
        }
        catch (SqliteException e)
        {
            throw new StartRefusedException($"the catalogue {database} cannot be read ({e.Message}). {wayOut}");
        }
    }

    /// <summary>
    /// Marks the catalogue as there. Holds a connection for the life of the service, so that its newest part lies in its own file as long
    /// as it runs.
    /// </summary>
    public async Task BeginAsync(KeepContext db, CancellationToken cancel)
    {
        if (!settings.Value.CatalogueIsShared)
        {
            keeper = new SqliteConnection($"Data Source={Database};Pooling=False");
            await keeper.OpenAsync(cancel);
            One(keeper, "PRAGMA journal_mode=WAL");
        }
        // Two services may come to a new catalogue at the same moment.
        await using var change = await db.BeginChangeAsync(cancel);
        var note = await db.KeptValues.FindAsync([IdKey], cancel);
        if (settings.Value.CatalogueIsShared && File.Exists(Mark) && Read(Mark).Id is var known && known != note?.Value)
            throw new StartRefusedException(
                $"the catalogue {CatalogueKinds.Told(settings.Value.CatalogueAt)} is {(note is null ? "empty" : "another")}, and there was "
                    + $"one that this service knew. Name the right one in IronKeep:Catalogue. To take this one on purpose, remove {Mark} "
                    + $"and start again"
            );
        if (note is null)
        {
            db.KeptValues.Add(note = new KeptValue { Key = IdKey, Value = Guid.NewGuid().ToString("n") });
            await db.SaveChangesAsync(cancel);
        }
        else if (await db.KeptValues.FindAsync(["opened"], cancel) is { } opened)
            opened.Value = $"{int.Parse(opened.Value, CultureInfo.InvariantCulture) + 1}";
        else
            db.KeptValues.Add(new KeptValue { Key = "opened", Value = "1" });
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        id = note.Value;
        // What was heard before counts until something new is.
        var heard = (await db.KeptValues.AsNoTracking().FirstOrDefaultAsync(n => n.Key == "heard", cancel))?.Value.Split(' ')[0];
        last = heard is null ? null : Instant.FromUnixTimeTicks(long.Parse(heard, CultureInfo.InvariantCulture));
        Write(Open);
    }

    private Instant? last;

    /// <summary>The catalogue holds that the service was heard of at an instant.</summary>
    public void Note(Instant heard)
    {
        last = heard;
        Write(Open);
    }

    public void Dispose()
    {
        if (id.Length == 0)
            return;
        keeper?.Dispose();
        keeper = null;
        Write(Closed);
    }

    private void Write(string state)
    {
        if (id.Length == 0)
            return;
        try
        {
            lock (gate)
            {
                var part = Mark + ".part";
                File.WriteAllText(part, $"{id} {last?.ToUnixTimeTicks().ToString(CultureInfo.InvariantCulture) ?? "-"} {state}\n");
                File.Move(part, Mark, overwrite: true);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            log.LogWarning("The mark of the catalogue, {Mark}, cannot be written: {Problem}", Mark, e.Message);
        }
    }

    private static (string Id, Instant? Heard, string State) Read(string mark) =>
        File.ReadAllText(mark).Trim().Split(' ') switch
        {
            [var id, var heard, var state] => (
                id,
                long.TryParse(heard, NumberStyles.None, CultureInfo.InvariantCulture, out var ticks)
                    ? Instant.FromUnixTimeTicks(ticks)
                    : null,
                state
            ),
            // A mark that was torn says only that there was a catalogue.
            _ => throw new StartRefusedException(
                $"the file {mark} cannot be read; if the catalogue beside it is the right one, remove that file and start again"
            ),
        };

    private static string? One(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return command.ExecuteScalar() as string;
    }
}
