using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Machines;

/// <summary>
/// Whether machines are there for their runs. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class MachineReadiness(MachineStandings standings, AgentBook book, CharterInForce inForce, IOptions<ServiceSettings> settings)
{
    /// <summary>A look at some machines, for one round of who asks.</summary>
    public async Task<MachineView> LookAsync(KeepContext db, IEnumerable<string> machines, CancellationToken cancel)
    {
        // Those that the service reads itself wait for nobody.
        var declared = inForce.Charter.Machines;
        var others = machines
            .Where(m => m != settings.Value.Machine && declared.GetValueOrDefault(m)?.ReadOver is null)
            .Distinct()
            .ToList();
        var agents =
            others.Count == 0
                ? []
                : await db.Agents.AsNoTracking().Where(a => others.Contains(a.Machine)).ToDictionaryAsync(a => a.Machine, cancel);
        return new MachineView(standings, book, agents, inForce.Charter.Zone);
    }
}

/// <summary>How machines stand at one moment, as far as runs are concerned.</summary>
public sealed class MachineView(MachineStandings standings, AgentBook book, Dictionary<string, Agent> agents, DateTimeZone zone)
{
    /// <summary>Whether its runs can begin at this service: it is heard of here, or has no agent that could come back.</summary>
    public bool CanBeginHere(string machine) =>
        standings.IsHere(machine) || agents.GetValueOrDefault(machine) is not { } agent || book.StateOf(agent) != AgentState.Joined;

    /// <summary>
    /// The end of a sentence about a machine that will come back and is not heard of at any service; null: it is there, or has no agent
    /// that could come, and then the run says so.
    /// </summary>
    public string? Away(string machine) =>
        agents.GetValueOrDefault(machine) is { } agent && book.IsAway(agent) ? $"was last heard of {agent.HeardAt.Local(zone)}" : null;

    /// <summary>What a job needs and its machine does not give, as the end of a sentence about the machine; null: nothing.</summary>
    public string? Lacks(PlacedJob job, string machine)
    {
        if (job.Needs.IsEmpty)
            return null;
        var state = standings.Of(machine) ?? new MachineState();
        return job.Needs.Select(n => n.LackedBy(state)).FirstOrDefault(l => l is not null);
    }

    /// <summary>Whether a machine has been awake for so long; one that does not say has.</summary>
    public bool IsSettled(string machine, Duration wait) =>
        standings.Of(machine)?.AwakeSeconds is not { } awake || awake >= wait.TotalSeconds;
}
