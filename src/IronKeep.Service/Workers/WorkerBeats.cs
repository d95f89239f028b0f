using IronKeep.Catalogue;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Workers;

/// <summary>
/// What a part of the service looks at with each beat, where several services share a catalogue: orders from others, a newer charter.
/// </summary>
public interface IBeatLook
{
    Task LookAsync(CancellationToken cancel);
}

/// <summary>Beats as long as the service lives, by real time; takes the lead where it is free.</summary>
public sealed class WorkerBeats(
    WorkerSelf self,
    Leading leading,
    IEnumerable<IBeatLook> looks,
    TimeProvider clock,
    ILogger<WorkerBeats> log
) : BackgroundService
{
    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(WorkerSelf.BeatEvery);
        do
        {
            try
            {
                // A database that does not answer at all is as good as one that refuses.
                using var within = CancellationTokenSource.CreateLinkedTokenSource(stoppingToken);
                within.CancelAfter(WorkerSelf.LostAfter);
                await self.BeatAsync(within.Token);
                await leading.LookAsync(stoppingToken);
                foreach (var look in looks)
                    await look.LookAsync(stoppingToken);
                Rounds.Came();
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception e)
            {
                Rounds.Failed(e);
                self.GiveUpWhenOver();
                log.LogError(e, "The beat of this service failed and is tried again");
            }
        } while (await NextAsync(timer, stoppingToken));
    }

    private static async Task<bool> NextAsync(PeriodicTimer timer, CancellationToken stopping)
    {
        try
        {
            return await timer.WaitForNextTickAsync(stopping);
        }
        catch (OperationCanceledException)
        {
            return false;
        }
    }

    public override async Task StopAsync(CancellationToken cancellationToken)
    {
        await base.StopAsync(cancellationToken);
        try
        {
            await self.LeaveAsync();
        }
        catch (Exception e)
        {
            log.LogWarning("This service could not take its leave: {Problem}", e.Message);
        }
    }
}
