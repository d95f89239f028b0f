using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Runs.Backups;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Pooled;

namespace IronKeep.Service.Backups;

/// <summary>Has an agent make a copy and waits for it.</summary>
public sealed class RemoteBackups(AgentOrders orders, AgentPatience patience, TimeProvider clock)
{
    /// <summary>
    /// Makes the copy; the record is durable when this returns. Failures are <see cref="RunFailedException"/>, and those of the store.
    /// </summary>
    public async Task<CopyRecord> MakeAsync(
        LiveRun live,
        StoreDefinition declared,
        PooledStore store,
        BackupOrder order,
        Action<RunFigures> figures,
        CancellationToken cancel
    )
    {
        using AgentCopy copy = declared.On is null ? new RemoteCopy(live, store, order, clock) : new CopyMadeThere(live, store, order);
        figures(copy.Figures);
        var given = orders.Give(
            order.Machine,
            token => new CopyOrder(
                token,
                live.Run.Id,
                order.Job,
                declared.Name,
                order.CopyId,
                [.. order.Takes],
                [.. order.LeavesOut],
                order.LeavesOutCaches,
                order.AllFileSystems,
                order.Level,
                [.. order.Streams.Select(s => new StreamWords(OrderEndpoints.Word(s.Step), s.KeepsAs))],
                [.. order.StillAt.Select(s => s.ToString())],
                declared.On is null ? null : new LocalStore(declared.Folder, order.Machine, order.Previous?.Id)
            ),
            copy
        );
        try
        {
            await patience.WaitAsync(given, copy.Result, "what arrived is used by the next run", cancel);
            return await copy.Result;
        }
        catch
        {
            copy.Dispose();
            // It was written at this very moment, so it is there, whoever gave it up.
            if (copy.Result.IsCompletedSuccessfully)
                return await copy.Result;
            throw;
        }
        finally
        {
            given.End();
        }
    }
}
