using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Pooled;

namespace IronKeep.Service.Backups;

/// <summary>
/// Has an agent make a copy and waits for it: for the agent to come, for signs of life, and for the end. Waiting is by the steady clock.
/// </summary>
public sealed class RemoteBackups(AgentOrders orders, TimeProvider clock)
{
    /// <summary>How long an agent has to come for an order, and how long one that came may be silent.</summary>
    public TimeSpan ComesWithin { get; set; } = TimeSpan.FromMinutes(2);
    public TimeSpan SilentAtMost { get; set; } = TimeSpan.FromMinutes(15);

    /// <summary>How often it looks (real time).</summary>
    private static readonly TimeSpan LooksEvery = TimeSpan.FromMilliseconds(200);

    /// <summary>
    /// Makes the copy; the record is durable when this returns. Failures are <see cref="RunFailedException"/>, and those of the store.
    /// </summary>
    public async Task<CopyRecord> MakeAsync(
        LiveRun live,
        string storeName,
        PooledStore store,
        BackupOrder order,
        Action<RunFigures> figures,
        CancellationToken cancel
    )
    {
        using var copy = new RemoteCopy(live, store, order, clock);
        figures(copy.Figures);
        var given = orders.Give(
            order.Machine,
            token => new CopyOrder(
                token,
                live.Run.Id,
                order.Job,
                storeName,
                order.CopyId,
                [.. order.Takes],
                [.. order.LeavesOut],
                order.LeavesOutCaches,
                order.AllFileSystems,
                order.Level
            ),
            copy
        );
        try
        {
            while (!copy.Made.IsCompleted)
            {
                await Task.WhenAny(copy.Made, Task.Delay(LooksEvery, cancel));
                if (copy.Made.IsCompleted)
                    break;
                if (cancel.IsCancellationRequested)
                    given.Stop();
                cancel.ThrowIfCancellationRequested();
                if (given.IsLost)
                    throw new RunFailedException(
                        FailureClass.Interrupted,
                        $"the agent of {order.Machine} was started anew in the middle of it; what arrived is used by the next run"
                    );
                if (given.IsWaiting && given.Silence > ComesWithin)
                    throw new RunFailedException(
                        FailureClass.MachineAway,
                        $"the agent of {order.Machine} did not come for it within {ComesWithin.TotalMinutes:0} minutes; is the machine on, "
                            + $"and its agent at work?"
                    );
                if (!given.IsWaiting && given.Silence > SilentAtMost)
                    throw new RunFailedException(
                        FailureClass.MachineAway,
                        $"the agent of {order.Machine} was not heard of for {SilentAtMost.TotalMinutes:0} minutes in the middle of it; "
                            + $"what arrived is used by the next run"
                    );
            }
            return await copy.Made;
        }
        catch
        {
            copy.Dispose();
            // It was written at this very moment, so it is there, whoever gave it up.
            if (copy.Made.IsCompletedSuccessfully)
                return await copy.Made;
            throw;
        }
        finally
        {
            given.End();
        }
    }
}
