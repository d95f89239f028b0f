using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Carries what was written down to its channels, each by itself and in order, again and again with growing pauses for two days. A channel
/// that fails or hangs keeps no other waiting; it is an alert itself, told through the others, and the first message that goes through
/// closes it.
/// </summary>
public sealed class Teller(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    IEnumerable<IChannelCarrier> carriers,
    AlertBook alerts,
    TellingDesk desk,
    TellerSignal signal,
    FactCarrier carrier,
    Leading leading,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    ILogger<Teller> log
) : BackgroundService
{
    /// <summary>How often it looks at least, for what nobody wakes it for: what is tried again, and what a digest gathered.</summary>
    internal TimeSpan LookEvery { get; set; } = TimeSpan.FromSeconds(2);
    private static readonly Duration GivesUpAfter = Duration.FromDays(2);
    private static readonly Duration LongestPause = Duration.FromHours(1);

    /// <summary>How long somebody who was refused is looked upon as still refused; the address may be nobody's any more.</summary>
    private static readonly Duration RefusalCounts = Duration.FromDays(1);

    /// <summary>A carrier that has not come back after this long (real time) has failed.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(1);
    private readonly Dictionary<ChannelKind, IChannelCarrier> carrierOf = carriers.ToDictionary(c => c.Kind);
    private readonly ConcurrentDictionary<string, SemaphoreSlim> gates = new();
    private readonly ConcurrentDictionary<string, Task> atWork = new();

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        // What is written down within a change is there to be told when the change is; a look before it finds nothing.
        if (settings.Value.Ticking)
            carrier.Moved += signal.Wake;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await signal.WaitAsync(LookEvery, stoppingToken);
                foreach (var channel in leading.IsLeading ? await WaitingAsync(stoppingToken) : [])
                    if (!atWork.TryGetValue(channel, out var busy) || busy.IsCompleted)
                        atWork[channel] = Task.Run(() => SafelyAsync(channel, stoppingToken), CancellationToken.None);
                Rounds.Came();
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                Rounds.Failed(e);
                log.LogError(e, "The teller failed and tries again");
                await Task.Delay(LookEvery, CancellationToken.None);
            }
        }
        await Task.WhenAll(atWork.Values);
    }

    /// <summary>Carries everything whose time has come, through all channels beside each other.</summary>
    public async Task CarryAsync(CancellationToken cancel)
    {
        await Task.WhenAll(atWork.Values);
        // A channel that fails gives the others something to tell.
        do await carrier.CarryAsync(cancel);
        while (await CarryWaitingAsync(cancel));
    }

    private async Task<bool> CarryWaitingAsync(CancellationToken cancel)
    {
        var waiting = await WaitingAsync(cancel);
        // What the loop has in hand just now does not wait any more, and is not carried yet.
        var inHand = gates.Where(g => g.Value.CurrentCount == 0).Select(g => g.Key).ToList();
        var channels = waiting.Union(inHand).ToList();
        await Task.WhenAll(channels.Select(c => CarryAsync(c, cancel)));
        return channels.Count > 0;
    }

    /// <summary>Carries what waits in one channel, in order. A message that does not go through holds back the later ones.</summary>
    public async Task CarryAsync(string channel, CancellationToken cancel)
    {
        var gate = gates.GetOrAdd(channel, _ => new SemaphoreSlim(1));
        await gate.WaitAsync(cancel);
        try
        {
            while (true)
            {
                await using var db = await catalogue.CreateDbContextAsync(cancel);
                var now = clock.Now();
                var telling = await db
                    .Messages.Where(t => t.EndedAt == null && t.Channel == channel)
                    // One that still gathers holds up nobody.
                    .Where(t => t.Gathers == null || t.Attempts > 0 || t.NextAt <= now || t.MadeAt > now)
                    .OrderBy(t => t.Id)
                    .FirstOrDefaultAsync(cancel);
                // What was made by a clock that ran ahead waits for no time of that clock.
                if (telling is null || (telling.NextAt > now && telling.MadeAt <= now))
                    return;
                // Two services that carry at once must not both send it.
                var (id, tries, until) = (telling.Id, telling.Attempts, now + Duration.FromTimeSpan(2 * Patience));
                if (
                    await db
                        .Messages.Where(m => m.Id == id && m.EndedAt == null && m.Attempts == tries)
                        .ExecuteUpdateAsync(s => s.SetProperty(m => m.NextAt, until).SetProperty(m => m.Attempts, tries + 1), cancel) == 0
                )
                    return;
                // From here on nothing joins it.
                await db.Entry(telling).ReloadAsync(cancel);
                if (telling.MadeAt > now)
                {
                    // Saved before it is carried: the key of a request to a desk goes by it.
                    telling.MadeAt = now;
                    await db.SaveChangesAsync(cancel);
                }
                if (telling.Gathers is not null && inForce.Charter.Channels.GetValueOrDefault(channel) is { Kind: ChannelKind.Desk })
                {
                    await desk.SplitAsync(db, telling, now, cancel);
                    continue;
                }
                // Once: its two days begin with that.
                if (telling.Gathers is not null && telling.Subject.Length == 0)
                    await Gathered.PutIntoWordsAsync(db, telling, inForce.Charter, settings.Value.Machine, now, cancel);
                var trace = Traces.Begin("tell", ("channel", channel), ("message", telling.Id), ("attempt", tries + 1));
                var through = await OneAsync(db, telling, now, cancel);
                trace.End(
                    telling.Problem is null ? null
                    : through ? "refused"
                    : "not through"
                );
                await db.SaveChangesAsync(CancellationToken.None);
                await JudgeAsync(telling, cancel);
                if (!through)
                    return;
            }
        }
        finally
        {
            gate.Release();
        }
    }

    private async Task SafelyAsync(string channel, CancellationToken stopping)
    {
        try
        {
            await CarryAsync(channel, stopping);
        }
        catch (OperationCanceledException) when (stopping.IsCancellationRequested)
        {
            // The next start goes on.
        }
        catch (Exception e)
        {
            log.LogError(e, "Channel {Channel} could not be served; it is tried again", channel);
        }
    }

    private async Task<List<string>> WaitingAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var now = clock.Now();
        return await db
            .Messages.Where(t => t.EndedAt == null && (t.NextAt <= now || t.MadeAt > now))
            .Select(t => t.Channel)
            .Distinct()
            .ToListAsync(cancel);
    }

    private async Task<bool> OneAsync(KeepContext db, Message telling, Instant now, CancellationToken cancel)
    {
        if (!inForce.Charter.Channels.TryGetValue(telling.Channel, out var channel))
        {
            (telling.EndedAt, telling.Problem) = (now, "the channel was taken out of the charter");
            // What it should have told is told to whoever is told of everything.
            desk.PassOn(db, telling, now, "which was taken out of the charter before it could tell");
            return true;
        }
        try
        {
            using var within = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            within.CancelAfter(Patience);
            try
            {
                await carrierOf[channel.Kind].CarryAsync(channel, telling, within.Token).WaitAsync(Patience, cancel);
            }
            catch (Exception e) when (e is TimeoutException or OperationCanceledException && !cancel.IsCancellationRequested)
            {
                throw new ChannelFailedException($"it did not answer within {Patience.TotalSeconds:0} s", e);
            }
            (telling.EndedAt, telling.Sent, telling.Problem) = (now, true, null);
            return true;
        }
        catch (MessageRefusedException e)
        {
            (telling.EndedAt, telling.Sent, telling.Problem, telling.Refused) = (now, e.ToSome, e.Message, true);
            log.LogWarning("Message {Telling} was refused through channel {Channel}: {Problem}", telling.Id, telling.Channel, e.Message);
            // What was passed on already is not sent round and round, and a test is nobody else's.
            if (!e.ToSome && telling is { PassedOn: false, Type: not "channel-test" })
                desk.PassOn(db, telling, now, $"which did not take it: {e.Message}");
            return true;
        }
        catch (ChannelFailedException e)
        {
            telling.Problem = e.Message;
            log.LogWarning("Message {Telling} did not go through channel {Channel}: {Problem}", telling.Id, telling.Channel, e.Message);
            if (now - telling.MadeAt > GivesUpAfter)
                telling.EndedAt = now;
            telling.NextAt = now + Duration.Min(LongestPause, Duration.FromMinutes(Math.Pow(2, Math.Min(telling.Attempts - 1, 10))));
            return false;
        }
    }

    private Task JudgeAsync(Message telling, CancellationToken cancel)
    {
        var subject = Subject.OfChannel(telling.Channel);
        if (telling is { Sent: true, Problem: null })
            return SettleAsync(telling, subject, cancel);
        if (telling.Problem is null || !inForce.Charter.Channels.ContainsKey(telling.Channel))
            return Task.CompletedTask;
        return alerts.RaiseAsync(
            new Matter(
                subject,
                AlertClass.Untold,
                telling.Refused
                    ? $"channel {telling.Channel} could not tell everybody: {telling.Problem}"
                    : $"channel {telling.Channel} does not carry what it should tell: {telling.Problem}",
                telling.Refused
                    ? $"Put right what was refused; nobody else waits for it. Then try the channel with "
                        + $"'ironkeep channel test {telling.Channel}'."
                    : $"Mend the channel, then try it with 'ironkeep channel test {telling.Channel}'; what waits is "
                        + "sent as soon as it works."
            ),
            cancel
        );
    }

    /// <summary>What went through closes what was said of the channel, but for one who is still refused there.</summary>
    private async Task SettleAsync(Message telling, Subject subject, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (
            !await db.Alerts.AnyAsync(
                a => a.Class == AlertClass.Untold && a.State != AlertState.Closed && a.SubjectName == telling.Channel,
                cancel
            )
        )
            return;
        var since = clock.Now() - RefusalCounts;
        var of = db.Messages.AsNoTracking().Where(m => m.Channel == telling.Channel && m.EndedAt > since);
        if (await of.AnyAsync(r => r.Refused && !of.Any(m => m.Mail == r.Mail && m.Sent && !m.Refused && m.Id > r.Id), cancel))
            return;
        await alerts.CloseAsync(subject, [AlertClass.Untold], cancel);
    }
}
