using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>What the rules decide about one copy.</summary>
public enum Verdict
{
    Keep,
    Support,
    Held,
    Expire,
    Frozen,
    Uncounted,
}

/// <summary>
/// One copy as retention sees it. <paramref name="Taken"/> is the start of capture; <paramref name="Base"/> the id of the copy
/// it directly needs, or null; <paramref name="Held"/> the words of its hold ("by mira until 2027-01-31"), or null;
/// <paramref name="Doubted"/> that its run was suspect and nobody has confirmed it yet.
/// </summary>
public sealed record CopyFacts(string Id, Instant Taken, CopyState State, string? Base = null, string? Held = null, bool Doubted = false)
{
    /// <summary>As the base of a partial copy: there is no full one before it.</summary>
    public const string NoFull = "";
}

/// <summary>
/// The guards beside the rungs: the zone of the periods, the floor, the freshness limit that freezes expiry (null: none), and
/// words for another reason to freeze, such as a clock in doubt (null: none).
/// </summary>
public sealed record RetentionGuards(
    DateTimeZone Zone,
    int AtLeast = RetentionGuards.UsualFloor,
    Span? FreshWithin = null,
    string? FrozenBecause = null
)
{
    /// <summary>The floor when a policy states none.</summary>
    public const int UsualFloor = 2;
}

/// <summary>The verdict on one copy with its reasons, and the instant at which a rule lets it go, where a rule gives one.</summary>
public sealed record CopyVerdict(CopyFacts Copy, Verdict Verdict, ImmutableArray<string> Reasons, Instant? LeavesAt);

/// <summary>All verdicts of one job on one machine in one store, newest copy first.</summary>
public sealed record RetentionAnswer(bool Frozen, ImmutableArray<CopyVerdict> Copies);
