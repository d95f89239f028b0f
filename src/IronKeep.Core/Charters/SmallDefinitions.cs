using System.Collections.Immutable;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// A machine whose jobs are declared here. <paramref name="RunsAtOnce"/> is its ceiling (null: none of its own);
/// <paramref name="Importance"/> orders its runs where they wait for each other, 5 first (null: <see cref="UsualImportance"/>).
/// </summary>
public sealed record MachineDefinition(string Name, int? RunsAtOnce, int? Importance)
{
    public const int UsualImportance = 3;

    /// <summary>Words by which routes and maintenance windows take the machine with its jobs.</summary>
    public ImmutableArray<string> Tags { get; init; } = [];

    /// <summary>Where it stands and whose it is, by which reports are made; null: nobody has said.</summary>
    public string? Site { get; init; }
    public string? Owner { get; init; }

    /// <summary>How much of its line copies may take; empty: all of it.</summary>
    public ImmutableArray<LineCeiling> Line { get; init; } = [];

    /// <summary>Not heard of for so long, its agent's silence is told.</summary>
    public Span SilentAfter { get; init; } = UsualSilence;

    public static Span UsualSilence { get; } = new(1, SpanUnit.Days);

    /// <summary>The SSH server over which the service reads the machine itself, which has no agent then; null: it does not.</summary>
    public RemoteFolder? ReadOver { get; init; }

    /// <summary>The inventory that lists it, by the name of that source; null: a person declared it.</summary>
    public string? ListedIn { get; init; }

    /// <summary>What becomes of its copies, where it is retired; null: it is at work.</summary>
    public RetiredMachine? Retired { get; init; }

    public bool Equals(MachineDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>
/// What a site says of a failure class in place of the usual words: the plain cause, what to do, or both. Its name is the class.
/// </summary>
public sealed record CauseDefinition(string Name, string? Cause, string? Remedy);

/// <summary>A calendar of closed days that jobs and rotation sets name.</summary>
public sealed record CalendarDefinition(string Name, ClosedDays Closed);

/// <summary>
/// A rotation set: its media groups by name, in order; the first that serves a night takes it. Played from the night
/// <paramref name="First"/> on, with runs that begin at <paramref name="Start"/> in <paramref name="Zone"/> (null: the charter's).
/// </summary>
public sealed record RotationSetDefinition(
    string Name,
    LocalTime Start,
    LocalDate First,
    ImmutableArray<string> Groups,
    DateTimeZone? Zone,
    string? Calendar
)
{
    public bool Equals(RotationSetDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}
