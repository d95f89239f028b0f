using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Machines;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// Tells of machines whose agent was not heard of for longer than their charter allows, until it is heard of again. One that was shut out
/// is silent because a person wants it so, and so is one that is retired. Source: docs/semantics.md, section 2 (Planned runs, lateness,
/// catch-up).
/// </summary>
public sealed class SilentMachines(CharterInForce inForce, AlertBook alerts, AgentBook book, TimeProvider clock) : ILook
{
    private readonly Instant since = clock.Now();

    public Duration Every { get; } = Duration.FromMinutes(1);

    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        var open = await AlertBook.OpenAsync(db, AlertClass.Silent, cancel);
        foreach (var agent in await db.Agents.AsNoTracking().ToListAsync(cancel))
        {
            var declared = charter.Machines.GetValueOrDefault(agent.Machine);
            var limit = declared?.SilentAfter ?? MachineDefinition.UsualSilence;
            // One that was shut out, or is retired, is silent because a person wants it so.
            var isAwaited = agent.ShutOutAt is null && declared?.Retired is null;
            var subject = Subject.OfMachine(agent.Machine);
            // What happened while the service itself was away says nothing of the machine: it has a minute to be heard of again.
            var isSilent = isAwaited && now - agent.HeardAt > limit.ToDuration() && now - since > Duration.FromMinutes(2);
            if (isSilent == open.Contains(subject))
                continue;
            if (!isSilent)
            {
                if (!isAwaited || now - agent.HeardAt <= limit.ToDuration())
                    await alerts.CloseAsync(subject, [AlertClass.Silent], cancel);
                continue;
            }
            var lapsed = book.StateOf(agent) == AgentState.Lapsed;
            await alerts.RaiseAsync(
                new Matter(
                    subject,
                    AlertClass.Silent,
                    $"the agent of {agent.Machine} has not been heard of since {agent.HeardAt.Local(charter.Zone)}; "
                        + "none of its jobs run meanwhile",
                    (
                        lapsed
                            ? $"Its right has ended meanwhile: make a code with 'ironkeep machine enrol {agent.Machine}' and join it again."
                            : $"See that {agent.Machine} is on and reaches the service, and its agent at work ('ironkeep-agent show')."
                    ) + $" Where it will not come back, shut it out with 'ironkeep machine shut-out {agent.Machine}'."
                )
                {
                    Once = true,
                },
                cancel
            );
        }
    }
}
