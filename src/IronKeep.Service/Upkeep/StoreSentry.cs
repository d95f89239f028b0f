using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Stores;
using IronKeep.Service.Workers;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// Looks after every store by itself, beside the clock loop, which must not wait for a disk: whether it is there, how much room it has, and
/// once after each start whether it agrees with the catalogue.
/// </summary>
public sealed class StoreSentry(
    CharterInForce charter,
    StoreRoom room,
    ShelfKeeper shelves,
    Leading leading,
    TimeProvider clock,
    ILogger<StoreSentry> log
) : BackgroundService
{
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(1);
    private readonly Dictionary<string, Task<bool>> settling = [];
    private readonly SemaphoreSlim gate = new(1);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (leading.IsLeading)
                    await LookAsync(stoppingToken);
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogError(e, "The look at the stores failed and is tried again");
            }
            await Task.Delay(Pause, clock, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>One look at all stores, beside each other.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await Task.WhenAll(
                charter.Charter.Stores.Values.Select(async store =>
                {
                    await room.MakeFirstAsync(store, cancel);
                    if ((await room.JudgeAsync(store, cancel)).Problem is not null)
                        return;
                    // Comparing can take long, and a store can begin to hang in the middle: the looks at the others go on.
                    Task<bool> work;
                    lock (settling)
                    {
                        var begun =
                            settling.TryGetValue(store.Name, out var before)
                            && (!before.IsCompleted || before is { IsCompletedSuccessfully: true, Result: true });
                        work = begun
                            ? before!
                            : settling[store.Name] = Task.Run(() => shelves.TrySettleAsync(store.Name, notes: true, cancel), cancel);
                    }
                    if (await Task.WhenAny(work, Task.Delay(Pause, cancel)) == work)
                        await work;
                })
            );
        }
        finally
        {
            gate.Release();
        }
    }

    public override void Dispose()
    {
        gate.Dispose();
        base.Dispose();
    }
}
