using IronKeep.Contracts;

namespace IronKeep.Service.Machines;

/// <summary>Whom an agent's request is answered by.</summary>
public sealed record AgentDesk(
    AgentBook Book,
    AgentOrders Orders,
    LineCeilings Lines,
    NextDues Due,
    ServicesToKeep Keeps,
    StandingBook Standing,
    IJournals Journals,
    IHearingThere Hearing,
    IOwedLogs Owed,
    ConnectionGate Gate
);

/// <summary>What agents hear of watched jobs on their machines.</summary>
public interface IHearingThere
{
    /// <summary>The watched jobs of a machine; null when it knows them by their mark.</summary>
    Task<HeardJobs?> OfAsync(string machine, string? mark, CancellationToken cancel);

    /// <summary>Takes what was heard, of jobs of this machine alone; said again it changes nothing.</summary>
    Task TakeAsync(string machine, HeardRequest request, CancellationToken cancel);
}
