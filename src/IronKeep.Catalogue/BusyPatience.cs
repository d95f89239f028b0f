using System.Data.Common;
using Microsoft.EntityFrameworkCore.Diagnostics;

namespace IronKeep.Catalogue;

/// <summary>
/// Lets SQLite itself wait for the end of another's write, which it asks for every few milliseconds; the library above it would sleep 150
/// ms at a time.
/// </summary>
internal sealed class BusyPatience : DbConnectionInterceptor
{
    private const string Waits = "PRAGMA busy_timeout = 10000";

    public override void ConnectionOpened(DbConnection connection, ConnectionEndEventData eventData)
    {
        using var command = connection.CreateCommand();
        command.CommandText = Waits;
        command.ExecuteNonQuery();
    }

    public override async Task ConnectionOpenedAsync(
        DbConnection connection,
        ConnectionEndEventData eventData,
        CancellationToken cancellationToken = default
    )
    {
        await using var command = connection.CreateCommand();
        command.CommandText = Waits;
        await command.ExecuteNonQueryAsync(cancellationToken);
    }
}
