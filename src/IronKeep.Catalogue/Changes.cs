using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;

namespace IronKeep.Catalogue;

/// <summary>A change of several rows: committed as a whole, or disposed of and nothing has happened.</summary>
public sealed class Change : IAsyncDisposable
{
    private static readonly ConcurrentDictionary<string, SemaphoreSlim> Turns = new();

    /// <summary>A change that has not come to its turn within this time has met one that hangs.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);
    private readonly IDbContextTransaction transaction;
    private readonly SemaphoreSlim turn;
    private bool over;

    private Change(IDbContextTransaction transaction, SemaphoreSlim turn) => (this.transaction, this.turn) = (transaction, turn);

    internal static async Task<Change> BeginAsync(KeepContext db, CancellationToken cancel)
    {
        // Within a process the turn is waited for here, where waiting costs nothing; between processes the database gives it.
        var turn = Turns.GetOrAdd(db.Database.GetConnectionString() ?? "", _ => new SemaphoreSlim(1));
        if (!await turn.WaitAsync(Patience, cancel))
            throw new TimeoutException("another change of the catalogue has not ended in time");
        IDbContextTransaction? begun = null;
        try
        {
            begun = await db.Database.BeginTransactionAsync(cancel);
            await CatalogueKinds.TakeTurnAsync(db, cancel);
            return new Change(begun, turn);
        }
        catch
        {
            if (begun is not null)
                await begun.DisposeAsync();
            turn.Release();
            throw;
        }
    }

    public Task CommitAsync(CancellationToken cancel) => transaction.CommitAsync(cancel);

    public async ValueTask DisposeAsync()
    {
        if (over)
            return;
        over = true;
        try
        {
            await transaction.DisposeAsync();
        }
        finally
        {
            turn.Release();
        }
    }
}

/// <summary>Changes, one after the other on either database.</summary>
public static class Changes
{
    /// <summary>
    /// Begins a change. While it lasts no other is made, by this service or another: what is read in it holds until it is committed, and
    /// facts get their numbers in the order of the commits. Nothing but the catalogue may be asked meanwhile, and no change begun within
    /// it.
    /// </summary>
    public static Task<Change> BeginChangeAsync(this KeepContext db, CancellationToken cancel) => Change.BeginAsync(db, cancel);
}
