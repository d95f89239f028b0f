using IronKeep.Core.Charters;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Carries what was written down to its channels, each in order, again and again with growing pauses for two days. A channel that
/// fails is an alert itself, told through the others; the first message that goes through closes it.
/// </summary>
public sealed class Teller(
    IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, IEnumerable<IChannelCarrier> carriers, AlertBook alerts, TellerSignal signal,
    TimeProvider clock, ILogger<Teller> log) : BackgroundService
{
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(2);
    private static readonly Duration GivesUpAfter = Duration.FromDays(2);
    private static readonly Duration LongestPause = Duration.FromHours(1);
    private const int Batch = 200;
    private readonly Dictionary<ChannelKind, IChannelCarrier> carrierOf = carriers.ToDictionary(c => c.Kind);
    private readonly SemaphoreSlim gate = new(1);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await signal.WaitAsync(LookEvery, stoppingToken);
                await CarryAsync(stoppingToken);
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception e)
            {
                log.LogError(e, "The teller failed and tries again");
                await Task.Delay(LookEvery, CancellationToken.None);
            }
        }
    }

    /// <summary>Carries everything whose time has come. A message that does not go through holds back the later ones of its channel.</summary>
    public async Task CarryAsync(CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            var stuck = new HashSet<string>();
            while (true)
            {
                await using var db = await catalogue.CreateDbContextAsync(cancel);
                var waiting = await db.Messages.Where(t => t.EndedAt == null).OrderBy(t => t.Id).Take(Batch).ToListAsync(cancel);
                var now = clock.Now();
                var any = false;
                foreach (var telling in waiting)
                {
                    if (stuck.Contains(telling.Channel)) continue;
                    if (telling.NextAt > now)
                    {
                        stuck.Add(telling.Channel);
                        continue;
                    }
                    any = true;
                    if (!await OneAsync(telling, now, cancel)) stuck.Add(telling.Channel);
                    await db.SaveChangesAsync(CancellationToken.None);
                    await JudgeAsync(telling, cancel);
                }
                if (!any || waiting.Count < Batch) return;
            }
        }
        finally
        {
            gate.Release();
        }
    }

    private async Task<bool> OneAsync(Message telling, Instant now, CancellationToken cancel)
    {
        telling.Attempts++;
        if (!inForce.Charter.Channels.TryGetValue(telling.Channel, out var channel))
        {
            (telling.EndedAt, telling.Problem) = (now, "the channel was taken out of the charter");
            return true;
        }
        try
        {
            await carrierOf[channel.Kind].CarryAsync(channel, telling, cancel);
            (telling.EndedAt, telling.Sent, telling.Problem) = (now, true, null);
            return true;
        }
        catch (ChannelFailedException e)
        {
            telling.Problem = e.Message;
            log.LogWarning("Message {Telling} did not go through channel {Channel}: {Problem}", telling.Id, telling.Channel, e.Message);
            if (now - telling.MadeAt > GivesUpAfter) telling.EndedAt = now;
            telling.NextAt = now + Duration.Min(LongestPause, Duration.FromMinutes(Math.Pow(2, Math.Min(telling.Attempts - 1, 10))));
            return false;
        }
    }

    private Task JudgeAsync(Message telling, CancellationToken cancel)
    {
        var subject = AlertBook.ChannelSubject(telling.Channel);
        if (telling.Sent) return alerts.CloseAsync(subject, [AlertClass.Untold], cancel);
        if (telling.Problem is null || !inForce.Charter.Channels.ContainsKey(telling.Channel)) return Task.CompletedTask;
        return alerts.RaiseAsync(new Matter(subject, AlertClass.Untold, $"channel {telling.Channel} does not carry what it should tell: {telling.Problem}",
            "Mend the channel, then try it with 'ironkeep channel test NAME'; what waits is sent as soon as it works."), cancel);
    }

    public override void Dispose()
    {
        gate.Dispose();
        base.Dispose();
    }
}
