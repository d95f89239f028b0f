using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>A fact that the service keeps about itself, as text under a key.</summary>
public sealed class KeptValue
{
    public required string Key { get; set; }
    public required string Value { get; set; }
}

/// <summary>
/// Something that happened, said once in the transaction of the change it speaks of. Ids are given in the order of the commits. Which of
/// the parts are there depends on the kind; Count is how many it stands for.
/// </summary>
public sealed class Fact
{
    public long Id { get; set; }
    public Instant At { get; set; }
    public FactKind Kind { get; set; }
    public string? Job { get; set; }
    public string? Machine { get; set; }
    public string? Store { get; set; }
    public string? CopyId { get; set; }
    public long? RunId { get; set; }
    public long? PlannedRunId { get; set; }

    /// <summary>The due instant that it is about, where there is one.</summary>
    public Instant? Due { get; set; }
    public long? AlertId { get; set; }

    /// <summary>What is new about its subject, as a word of the kind's own.</summary>
    public string? Word { get; set; }
    public int Count { get; set; } = 1;
}

/// <summary>Up to which fact a follower has done what follows, and what it stumbles over now (null: nothing).</summary>
public sealed class FollowerPosition
{
    public required string Name { get; set; }
    public long Position { get; set; }
    public string? Problem { get; set; }
}

/// <summary>
/// Somebody that carries out runs: a service. Its beats are by the catalogue's own clock, in milliseconds since 1970; one that has been
/// gone never comes back under the same id.
/// </summary>
public sealed class Worker
{
    public required string Id { get; set; }
    public required string Host { get; set; }
    public int ProcessId { get; set; }
    public string Address { get; set; } = "";
    public long BegunAt { get; set; }
    public long BeatAt { get; set; }
    public bool Gone { get; set; }
}

/// <summary>A right that only one worker has at a time; the term goes up with each change of hands.</summary>
public sealed class Lease
{
    public required string Name { get; set; }
    public required string Worker { get; set; }
    public long Term { get; set; }
}

/// <summary>Room in a store that a run at work was promised, in bytes.</summary>
public sealed class RoomPromise
{
    public long RunId { get; set; }
    public required string Store { get; set; }
    public long Bytes { get; set; }
}

/// <summary>A line of a run's log, where the catalogue keeps them for several services. Lines count from 0.</summary>
public sealed class LogLine
{
    public long RunId { get; set; }
    public int Line { get; set; }
    public Instant At { get; set; }
    public LogSeverity Severity { get; set; }
    public required string Text { get; set; }
}

/// <summary>A key with which sign-ins are sealed, as XML; every service on the catalogue opens what another sealed.</summary>
public sealed class SealingKey
{
    public required string Name { get; set; }
    public required string Xml { get; set; }
}
