namespace IronKeep.Core.Machines;

/// <summary>
/// How a service stands that a job watches on its machine. <paramref name="Up"/> null: that cannot be told, and the problem says why.
/// <paramref name="Since"/> is from when on it stands so, <paramref name="Starts"/> when it was started again lately (UTC, oldest first).
/// </summary>
public sealed record ServiceStanding(
    string Job,
    bool? Up,
    DateTimeOffset Since,
    IReadOnlyList<DateTimeOffset> Starts,
    string? Problem = null
);
