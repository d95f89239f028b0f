using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Machines;

/// <summary>How a machine stands to the service.</summary>
public enum AgentState
{
    /// <summary>It has no agent; the service reaches it itself, or only watches it.</summary>
    None,

    /// <summary>A code was made for it, and it has not joined yet.</summary>
    Enrolled,

    /// <summary>Its agent may do what an agent may.</summary>
    Joined,

    /// <summary>It was not heard of for so long that its right ended.</summary>
    Lapsed,

    /// <summary>A person took its right away.</summary>
    ShutOut,
}

/// <summary>How long an agent's right holds: it renews itself with each contact, and ends when it was not used.</summary>
public static class AgentRight
{
    public static readonly Span UsualLapse = new(60, SpanUnit.Days);

    /// <summary>A longer one would lead out of the calendar.</summary>
    private static readonly Duration Longest = Duration.FromDays(100 * 365);

    /// <summary>
    /// The end of the right (UTC) of an agent that was last heard of then. The span is counted in days of 24 hours: it is about silence,
    /// not about a calendar.
    /// </summary>
    public static Instant EndOf(Instant heard, Span lapses) => heard + Duration.Min(lapses.ToDuration(), Longest);

    /// <summary>
    /// How an agent stands at an instant. One that was heard of in the future, by a clock that ran ahead, is as if heard of now.
    /// </summary>
    public static AgentState StateOf(Instant heard, Instant? shutOut, Span lapses, Instant now) =>
        shutOut is not null ? AgentState.ShutOut
        : now > EndOf(heard, lapses) ? AgentState.Lapsed
        : AgentState.Joined;
}
