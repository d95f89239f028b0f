using IronKeep.Core.Machines;

namespace IronKeep.Contracts;

/// <summary>
/// A machine that the charter declares, that jobs name, or that has an agent. Declared says whether the charter has it, own whether the
/// service runs on it. Times are UTC; clock-ahead is in seconds, and null where it was not heard of.
/// </summary>
public sealed record MachineAnswer(
    string Name,
    string? Site,
    string? Owner,
    IReadOnlyList<string> Tags,
    bool Declared,
    bool Own,
    int Jobs,
    AgentState State,
    DateTimeOffset? CodeUntil,
    string? EnrolledBy,
    DateTimeOffset? JoinedAt,
    DateTimeOffset? HeardAt,
    DateTimeOffset? RightUntil,
    string? Version,
    string? System,
    string? Address,
    double? ClockAhead,
    DateTimeOffset? ShutOutAt,
    string? ShutOutBy,
    string? ShutOutWhy
);

/// <summary>All machines in order of name; agents-at is the address at which agents come, null where this service has none.</summary>
public sealed record MachinesAnswer(string? AgentsAt, IReadOnlyList<MachineAnswer> Machines);

/// <summary>
/// A code with which a machine joins, good once and until then. The command is to be given on the machine; replaces says that another agent
/// of that name loses its right when it is.
/// </summary>
public sealed record EnrolmentAnswer(string Machine, string Code, DateTimeOffset Until, string Command, bool Replaces);

/// <summary>Why a machine's agent loses its right.</summary>
public sealed record ShutOutRequest(string Reason);

/// <summary>What an agent says of itself with each contact; time is by its own clock.</summary>
public sealed record AgentSelf(string Version, string System, DateTimeOffset Time);

/// <summary>A machine joins: the secret of its code, as hex.</summary>
public sealed record JoinRequest(string Secret, AgentSelf Self);

/// <summary>
/// What an agent is told of itself with each contact: which machine it is, by the name of the service's own machine whom it serves, the
/// service's time, and until when its right holds if it is not heard of again.
/// </summary>
public sealed record AgentAnswer(string Machine, string Service, DateTimeOffset Time, DateTimeOffset RightUntil);
