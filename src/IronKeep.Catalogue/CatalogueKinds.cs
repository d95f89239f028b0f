using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Metadata;
using Microsoft.EntityFrameworkCore.Update;
using Npgsql;

namespace IronKeep.Catalogue;

/// <summary>
/// Which database holds the catalogue, and all that is said differently to one and the other. A setting that begins with '/' is the path of
/// a SQLite file; one with a '=' in it PostgreSQL's connection string.
/// </summary>
public static class CatalogueKinds
{
    private const string SqliteMigrations = "IronKeep.Catalogue.Sqlite",
        PostgresMigrations = "IronKeep.Catalogue.PostgreSql";

    private static readonly BusyPatience Patience = new();

    /// <summary>The lock under which changes of several rows take their turns on PostgreSQL.</summary>
    private const long ChangesLock = 0x49_72_6F_6E_4B_31;

    /// <summary>The lock under which one service at a time brings a catalogue up.</summary>
    private const long MigrationsLock = 0x49_72_6F_6E_4B_32;

    /// <summary>A worker that is stopped in the middle of a change loses it after this long, so that it holds up nobody.</summary>
    private const string Limits = "-c idle_in_transaction_session_timeout=5000 -c statement_timeout=60000 -c lock_timeout=20000";

    /// <summary>Whether a setting means PostgreSQL.</summary>
    public static bool IsPostgres(string catalogue) => catalogue.Contains('=', StringComparison.Ordinal) && !catalogue.StartsWith('/');

    public static bool IsPostgres(this DbContext db) => db.Database.ProviderName == "Npgsql.EntityFrameworkCore.PostgreSQL";

    /// <summary>
    /// The options of a catalogue: a path, or a connection string; not limited for work that takes its time, such as a move. Throws
    /// <see cref="ArgumentException"/> for a string that cannot be read.
    /// </summary>
    public static DbContextOptionsBuilder UseCatalogue(this DbContextOptionsBuilder options, string catalogue, bool limited = true) =>
        IsPostgres(catalogue)
            ? options.UseNpgsql(ConnectionString(catalogue, limited: limited), o => o.MigrationsAssembly(PostgresMigrations))
            : options
                .UseSqlite($"Data Source={catalogue}", o => o.MigrationsAssembly(SqliteMigrations))
                .AddInterceptors(Patience)
                .ReplaceService<IModificationCommandBatchFactory, PreparedBatches>();

    /// <summary>
    /// The connection string with the limits that a service sets itself; with <paramref name="pooled"/> false, one that is closed when it
    /// is closed.
    /// </summary>
    public static string ConnectionString(string catalogue, bool pooled = true, bool limited = true)
    {
        var given = new NpgsqlConnectionStringBuilder(catalogue);
        // The builder above knows every keyword; this one tells which were given.
        var said = new DbConnectionStringBuilder { ConnectionString = catalogue };
        if (limited)
            given.Options = given.Options is { Length: > 0 } own ? $"{own} {Limits}" : Limits;
        else
            given.CommandTimeout = 0;
        given.ApplicationName ??= "ironkeepd";
        given.Pooling = pooled;
        // A server that is gone is noticed, and not waited for.
        if (!said.ContainsKey("Timeout"))
            given.Timeout = 5;
        if (!said.ContainsKey("Keepalive"))
            given.KeepAlive = 5;
        return given.ConnectionString;
    }

    /// <summary>The connection string as it may be told: without its password.</summary>
    public static string Told(string catalogue)
    {
        if (!IsPostgres(catalogue))
            return catalogue;
        var given = new NpgsqlConnectionStringBuilder(catalogue);
        return $"{given.Database} on {given.Host}:{given.Port}";
    }

    /// <summary>Brings a catalogue up to this version, however long that takes.</summary>
    public static async Task MigrateAsync(string catalogue, CancellationToken cancel)
    {
        await using var db = new KeepContext(
            (DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(catalogue, limited: false).Options
        );
        await using var turn = db.IsPostgres() ? await MigrationTurnAsync(catalogue, cancel) : null;
        await db.Database.MigrateAsync(cancel);
        await SetUpAsync(db, cancel);
    }

    /// <summary>
    /// Of services that start together one brings the catalogue up and the others wait, however many steps there are; closing the
    /// connection ends the turn.
    /// </summary>
    private static async Task<NpgsqlConnection> MigrationTurnAsync(string catalogue, CancellationToken cancel)
    {
        var turn = new NpgsqlConnection(ConnectionString(catalogue, pooled: false, limited: false));
        await turn.OpenAsync(cancel);
        await using var take = new NpgsqlCommand($"SELECT pg_advisory_lock({MigrationsLock})", turn) { CommandTimeout = 0 };
        await take.ExecuteNonQueryAsync(cancel);
        return turn;
    }

    /// <summary>What a database needs to be told once.</summary>
    private static Task SetUpAsync(KeepContext db, CancellationToken cancel) =>
        db.IsPostgres() ? Task.CompletedTask : db.Database.ExecuteSqlRawAsync("PRAGMA journal_mode=WAL;", cancel);

    /// <summary>In a change that is begun: waits for its turn. SQLite lets one write at a time by itself; PostgreSQL is told to.</summary>
    internal static Task TakeTurnAsync(KeepContext db, CancellationToken cancel) =>
        db.IsPostgres() ? db.Database.ExecuteSqlAsync($"SELECT pg_advisory_xact_lock({ChangesLock})", cancel) : Task.CompletedTask;

    /// <summary>The catalogue's own clock, in milliseconds since 1970: the one by which all its services measure each other.</summary>
    public static async Task<long> NowAsync(KeepContext db, CancellationToken cancel) =>
        db.IsPostgres()
            ? (
                await db
                    .Database.SqlQueryRaw<long>("SELECT (extract(epoch FROM clock_timestamp()) * 1000)::bigint AS \"Value\"")
                    .ToListAsync(cancel)
            )[0]
            : DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();

    /// <summary>
    /// Lets numbers that the database gives go on where they were in another, so that none is given twice, not even one whose row has gone.
    /// </summary>
    internal static async Task GoOnAsync(KeepContext source, KeepContext target, IEntityType entity, CancellationToken cancel)
    {
        if (
            entity.FindPrimaryKey()!.Properties is not [{ ValueGenerated: ValueGenerated.OnAdd, ClrType: var type } key]
            || (type != typeof(long) && type != typeof(int))
        )
            return;
        var table = entity.GetTableName()!;
        var quoted = $"\"{table}\"";
        var given = source.IsPostgres()
            ? await source
                .Database.SqlQuery<long>(
                    $"SELECT COALESCE(pg_sequence_last_value(pg_get_serial_sequence({quoted}, {key.Name})::regclass), 0) AS \"Value\""
                )
                .ToListAsync(cancel)
            : await source
                .Database.SqlQuery<long>($"SELECT seq AS \"Value\" FROM sqlite_sequence WHERE name = {table}")
                .ToListAsync(cancel);
        if (given is not [> 0 and var last])
            return;
        if (target.IsPostgres())
            await target.Database.ExecuteSqlAsync($"SELECT setval(pg_get_serial_sequence({quoted}, {key.Name}), {last})", cancel);
        else
        {
            await target.Database.ExecuteSqlAsync($"DELETE FROM sqlite_sequence WHERE name = {table}", cancel);
            await target.Database.ExecuteSqlAsync($"INSERT INTO sqlite_sequence (name, seq) VALUES ({table}, {last})", cancel);
        }
    }

    /// <summary>Whether a failure is the database's and not ours: it cannot be reached, takes nothing, or broke off.</summary>
    public static bool IsRefusal(Exception failure)
    {
        for (Exception? at = failure; at is not null; at = at.InnerException)
            if (at is SqliteException or NpgsqlException or TimeoutException { Source: "Npgsql" })
                return true;
        return false;
    }

    /// <summary>Whether a failure is that somebody else entered the same row at this moment.</summary>
    public static bool IsCollision(Exception failure)
    {
        for (Exception? at = failure; at is not null; at = at.InnerException)
            if (
                at
                is SqliteException { SqliteErrorCode: 19 }
                    or PostgresException { SqlState: PostgresErrorCodes.UniqueViolation }
                    or DbUpdateConcurrencyException
            )
                return true;
        return false;
    }
}
