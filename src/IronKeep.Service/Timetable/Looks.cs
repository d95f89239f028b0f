using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Runs;
using IronKeep.Service.Workers;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Looks for runs that are at work here past their limit: each service for its own. Source: docs/semantics.md, section 2 (Planned runs,
/// lateness, catch-up).
/// </summary>
public sealed class RunLimitLook(CharterInForce inForce, Dispatch dispatch, AlertBook alerts) : ILook, IBeatLook
{
    public Duration Every => Duration.Zero;

    public Task LookAsync(KeepContext db, CancellationToken cancel) => LookAsync(cancel);

    public async Task LookAsync(CancellationToken cancel)
    {
        foreach (var live in dispatch.AtWork)
        {
            if (live.Limit is not { } most || live.Elapsed <= most || !live.PassLimit())
                continue;
            var zone = inForce.Charter.Zone;
            var limit = live.Run.Began!.Value + most;
            var what =
                $"run {live.Run.Id} of {live.Run.Job} began {live.Run.Began!.Value.Local(zone)} and is still at work past its limit of "
                + $"{limit.Local(zone)}";
            await alerts.RaiseAsync(
                new Matter(
                    Subject.OfJob(live.Run.Job!, live.Run.Machine),
                    AlertClass.Overdue,
                    live.EndsAtLimit ? $"{what}; it is ended" : $"{what}; it goes on",
                    live.EndsAtLimit
                        ? inForce.Charter.RemedyOf(FailureClass.TimedOut)
                        : "See in its log what it is waiting for; cancel it, or give the job a 'run-limit' after which it is ended by "
                            + "itself."
                )
                {
                    RunId = live.Run.Id,
                },
                cancel
            );
            if (live.EndsAtLimit)
                live.TimeOut();
        }
    }
}

/// <summary>Says again what nobody has seen.</summary>
public sealed class ReminderLook(AlertBook alerts) : ILook
{
    public Duration Every { get; } = Duration.FromMinutes(1);

    public Task LookAsync(KeepContext db, CancellationToken cancel) => alerts.RemindAsync(cancel);
}

/// <summary>Drops the logs of runs that are older than the settings keep them.</summary>
public sealed class RunLogTidying(IRunLogs logs, TimeProvider clock, Microsoft.Extensions.Options.IOptions<ServiceSettings> settings)
    : ILook
{
    public Duration Every { get; } = Duration.FromHours(6);

    public Task LookAsync(KeepContext db, CancellationToken cancel) =>
        logs.DropOlderThanAsync(clock.Now() - Duration.FromDays(settings.Value.RunLogDays), cancel);
}
