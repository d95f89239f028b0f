using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore.Diagnostics;

namespace IronKeep.Service.Catalogue;

/// <summary>Tells the guard which changes the catalogue's file took and which it refused.</summary>
internal sealed class RefusalWatch(CatalogueGuard guard) : DbTransactionInterceptor, IDbCommandInterceptor
{
    public override void TransactionCommitted(DbTransaction transaction, TransactionEndEventData eventData) => guard.Saw(null);

    public override Task TransactionCommittedAsync(DbTransaction transaction, TransactionEndEventData eventData, CancellationToken cancellationToken = default)
    {
        guard.Saw(null);
        return Task.CompletedTask;
    }

    public override void TransactionFailed(DbTransaction transaction, TransactionErrorEventData eventData) => Look(eventData.Exception);

    public override Task TransactionFailedAsync(DbTransaction transaction, TransactionErrorEventData eventData, CancellationToken cancellationToken = default)
    {
        Look(eventData.Exception);
        return Task.CompletedTask;
    }

    public int NonQueryExecuted(DbCommand command, CommandExecutedEventData eventData, int result)
    {
        guard.Saw(null);
        return result;
    }

    public ValueTask<int> NonQueryExecutedAsync(DbCommand command, CommandExecutedEventData eventData, int result, CancellationToken cancellationToken = default)
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
        if (e is SqliteException refused) guard.Saw(refused);
    }
}
