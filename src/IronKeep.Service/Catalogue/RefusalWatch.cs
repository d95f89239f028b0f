using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Npgsql;

namespace IronKeep.Service.Catalogue;

/// <summary>Tells the guard which changes the catalogue's file took and which it refused.</summary>
internal sealed class RefusalWatch(CatalogueGuard guard) : DbTransactionInterceptor, IDbCommandInterceptor, ISaveChangesInterceptor
{
    // Some failures come only when the answer is read to its end.
    public void SaveChangesFailed(DbContextErrorEventData eventData) => Look(eventData.Exception);

    public Task SaveChangesFailedAsync(DbContextErrorEventData eventData, CancellationToken cancellationToken = default)
    {
        Look(eventData.Exception);
        return Task.CompletedTask;
    }

    public int SavedChanges(SaveChangesCompletedEventData eventData, int result)
    {
        if (result > 0)
            guard.Saw(null);
        return result;
    }

    public ValueTask<int> SavedChangesAsync(
        SaveChangesCompletedEventData eventData,
        int result,
        CancellationToken cancellationToken = default
    )
    {
        if (result > 0)
            guard.Saw(null);
        return ValueTask.FromResult(result);
    }

    public override void TransactionCommitted(DbTransaction transaction, TransactionEndEventData eventData) => guard.Saw(null);

    public override Task TransactionCommittedAsync(
        DbTransaction transaction,
        TransactionEndEventData eventData,
        CancellationToken cancellationToken = default
    )
    {
        guard.Saw(null);
        return Task.CompletedTask;
    }

    public override void TransactionFailed(DbTransaction transaction, TransactionErrorEventData eventData) => Look(eventData.Exception);

    public override Task TransactionFailedAsync(
        DbTransaction transaction,
        TransactionErrorEventData eventData,
        CancellationToken cancellationToken = default
    )
    {
        Look(eventData.Exception);
        return Task.CompletedTask;
    }

    public int NonQueryExecuted(DbCommand command, CommandExecutedEventData eventData, int result)
    {
        guard.Saw(null);
        return result;
    }

    public ValueTask<int> NonQueryExecutedAsync(
        DbCommand command,
        CommandExecutedEventData eventData,
        int result,
        CancellationToken cancellationToken = default
    )
    {
        guard.Saw(null);
        return ValueTask.FromResult(result);
    }

    public void CommandFailed(DbCommand command, CommandErrorEventData eventData) => Look(eventData.Exception);

    public Task CommandFailedAsync(DbCommand command, CommandErrorEventData eventData, CancellationToken cancellationToken = default)
    {
        Look(eventData.Exception);
        return Task.CompletedTask;
    }

    private void Look(Exception e)
    {
        for (Exception? at = e; at is not null; at = at.InnerException)
            if (at is SqliteException or NpgsqlException)
                guard.Saw(at);
    }
}
