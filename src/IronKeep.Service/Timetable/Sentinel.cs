using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Looks for what nobody reports by himself: runs over their limit, copies that have grown stale, stores that are nearly full, and
/// alerts that nobody has seen. Source: docs/semantics.md, sections 2 and 6.
/// </summary>
public sealed class Sentinel(CharterInForce inForce, Dispatch dispatch, AlertBook alerts, StoreSentry stores, RunLogs logs, TimeProvider clock, IOptions<ServiceSettings> settings)
{
    private static readonly Duration FreshEvery = Duration.FromMinutes(1);
    private static readonly Duration RoomEvery = Duration.FromMinutes(10);
    private static readonly Duration TidyEvery = Duration.FromHours(6);
    private Instant freshAt = Instant.MinValue, roomAt = Instant.MinValue, tidyAt = Instant.MinValue;

    /// <summary>One look; each part as often as it needs.</summary>
    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var now = clock.Now();
        foreach (var live in dispatch.AtWork) await LimitAsync(live, now, cancel);
        if (IsTime(ref freshAt, now, FreshEvery))
        {
            await FreshAsync(db, now, cancel);
            await alerts.RemindAsync(cancel);
        }
        if (IsTime(ref roomAt, now, RoomEvery)) await LookAtStoresAsync(cancel);
        if (IsTime(ref tidyAt, now, TidyEvery)) logs.DropOlderThan(now - Duration.FromDays(settings.Value.RunLogDays));
    }

    /// <summary>Where the service ticks by itself, stores are looked after beside the loop, which waits for no disk.</summary>
    private Task LookAtStoresAsync(CancellationToken cancel) => settings.Value.Ticking ? Task.CompletedTask : stores.LookAsync(cancel);

    // A clock set back must not silence the looks until it has caught up.
    private static bool IsTime(ref Instant last, Instant now, Duration every)
    {
        if (now >= last && now - last < every) return false;
        last = now;
        return true;
    }

    private async Task LimitAsync(LiveRun live, Instant now, CancellationToken cancel)
    {
        if (live.Limit is not { } most || live.Elapsed <= most || !live.PassLimit()) return;
        var zone = inForce.Charter.Zone;
        var limit = live.Run.Began!.Value + most;
        var what = $"run {live.Run.Id} of {live.Run.Job} began {live.Run.Began!.Value.Local(zone)} and is still at work past its limit of {limit.Local(zone)}";
        await alerts.RaiseAsync(new Matter(AlertBook.JobSubject(live.Run.Job!, live.Run.Machine), AlertClass.Overdue,
            live.EndsAtLimit ? $"{what}; it is ended" : $"{what}; it goes on", live.EndsAtLimit ? FailureWords.Remedy(FailureClass.TimedOut)
                : "Look at its log for what it waits for; cancel it, or give the job a 'run-limit' after which it is ended by itself.")
        { RunId = live.Run.Id }, cancel);
        if (live.EndsAtLimit) live.TimeOut();
    }

    private async Task FreshAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var machine = settings.Value.Machine;
        var promised = charter.Jobs.Values.Where(j => j.FreshWithin is not null).ToList();
        if (promised.Count == 0) return;
        var standing = await Freshness.OfAsync(db, promised, machine, now, cancel);
        var watches = await Freshness.WatchedSinceAsync(db, machine, cancel);
        foreach (var job in promised)
        {
            var subject = AlertBook.JobSubject(job.Name, machine);
            var behind = Freshness.Behind(job, standing[job.Name], now);
            // A job that has just been declared has its promise's time to make its first copy.
            if (behind is { Newest: null } && watches.TryGetValue(job.Name, out var since) && now - since <= job.FreshWithin!.Value.ToDuration()) continue;
            if (behind is null) await alerts.CloseAsync(subject, [AlertClass.Stale], cancel);
            else if (!alerts.IsOpen(subject, AlertClass.Stale))
                await alerts.RaiseAsync(new Matter(subject, AlertClass.Stale,
                    $"the newest good copy of {job.Name} in store {behind.Store} {(behind.Newest is { } newest ? $"was taken {newest.Taken.Local(charter.Zone)}" : "does not exist")}; {job.FreshWithin} were promised. Nothing of this job expires meanwhile",
                    "See why its runs fail or do not happen, then run the job; the first good copy closes this."), cancel);
        }
    }
}
