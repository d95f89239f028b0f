using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore.Diagnostics;

namespace IronKeep.Catalogue;

/// <summary>
/// Lets SQLite itself wait for the end of another's write, which it asks for every few milliseconds; the library above it would sleep 150
/// ms at a time.
/// </summary>
internal sealed class BusyPatience : DbConnectionInterceptor
{
    private const int Milliseconds = 10_000;

    public override void ConnectionOpened(DbConnection connection, ConnectionEndEventData eventData) => Tell(connection);

    public override Task ConnectionOpenedAsync(
        DbConnection connection,
        ConnectionEndEventData eventData,
        CancellationToken cancellationToken = default
    )
    {
        Tell(connection);
        return Task.CompletedTask;
    }

    /// <summary>By a call, where a statement would be read and prepared each time that a connection is taken from the pool.</summary>
    private static void Tell(DbConnection connection)
    {
        var result = SQLitePCL.raw.sqlite3_busy_timeout(((SqliteConnection)connection).Handle, Milliseconds);
        SqliteException.ThrowExceptionForRC(result, ((SqliteConnection)connection).Handle);
    }
}
