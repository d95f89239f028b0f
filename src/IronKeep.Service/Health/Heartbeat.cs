using IronKeep.Catalogue;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Telling;
using IronKeep.Service.Workers;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Health;

/// <summary>
/// Fetches an outside address again and again while all loops turn, so that somebody else notices when they do not: this service cannot
/// tell of its own silence. Of several services on a catalogue the one that leads does it.
/// </summary>
public sealed class Heartbeat(
    CharterInForce inForce,
    SelfCheck self,
    Teller teller,
    FactCarrier carrier,
    Leading leading,
    AlertBook alerts,
    HttpClient http,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    ILogger<Heartbeat> log
) : BackgroundService
{
    private const int MostFailures = 3;
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(10);
    private static readonly Subject Self = Subject.OfService("the heartbeat");
    private long? last;
    private int failures;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!settings.Value.Ticking)
            return;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (leading.IsLeading)
                    await BeatAsync(stoppingToken);
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogError(e, "The heartbeat failed and goes on");
            }
            await Task.Delay(LookEvery, clock, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>
    /// Fetches the address if its time has come and the service is well; true when it was fetched. One that does not answer three times
    /// running is an alert.
    /// </summary>
    public async Task<bool> BeatAsync(CancellationToken cancel)
    {
        if (inForce.Charter.HeartbeatFile is not { } file)
            return false;
        var every = inForce.Charter.HeartbeatEvery.ToDuration().ToTimeSpan();
        if (last is { } before && clock.GetElapsedTime(before) < every)
            return false;
        // Silence is the message: whoever waits for the next beat then learns that something is wrong here.
        if (!await self.IsReadyAsync(cancel) || teller.Rounds.Problem is not null || carrier.Rounds.Problem is not null)
            return false;
        last = clock.GetTimestamp();
        try
        {
            using var response = await http.GetAsync(WebAddress.In(file), HttpCompletionOption.ResponseHeadersRead, cancel);
            if (!response.IsSuccessStatusCode)
                throw new ChannelFailedException($"it answered {(int)response.StatusCode}");
            failures = 0;
            await alerts.CloseAsync(Self, [AlertClass.Untold], cancel);
            return true;
        }
        catch (Exception e) when (e is HttpRequestException or ChannelFailedException or TaskCanceledException)
        {
            cancel.ThrowIfCancellationRequested();
            // The library's text can name the address, which is a secret.
            var why = e is ChannelFailedException ? e.Message : "it does not answer";
            log.LogWarning("The heartbeat's address in {File} was not reached: {Why}", file, why);
            if (++failures >= MostFailures)
                await alerts.RaiseAsync(
                    new Matter(
                        Self,
                        AlertClass.Untold,
                        $"the heartbeat does not reach the address in {file}: {why}",
                        "See whether the address is right and reachable from here; whoever waits for it may already say that this service "
                            + "is silent. It is fetched again by itself."
                    )
                    {
                        Once = true,
                    },
                    cancel
                );
            return false;
        }
    }
}
