using System.Collections.Immutable;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Charters;

/// <summary>
/// A command that jobs run around their copies, as its words one by one: no shell reads them. It runs on the machine of the job, where the
/// machine itself allows it.
/// </summary>
public sealed record StepDefinition(string Name, ImmutableArray<string> Command)
{
    public static readonly Span UsualLimit = new(10, SpanUnit.Minutes);

    /// <summary>The user that it runs as; null: the one that the agent runs as.</summary>
    public string? As { get; init; }

    /// <summary>After how long it is ended, and has failed.</summary>
    public Span Limit { get; init; } = UsualLimit;
    public string? Note { get; init; }

    /// <summary>The name of the file as which its output is kept by jobs that take it as a stream; null: it is no stream.</summary>
    public string? KeepsAs { get; init; }

    public bool Equals(StepDefinition? other) =>
        other is not null
        && Name == other.Name
        && Command.SequenceEqual(other.Command)
        && As == other.As
        && Limit == other.Limit
        && KeepsAs == other.KeepsAs
        && Note == other.Note;

    public override int GetHashCode() => HashCode.Combine(Name, Command.Length, As, Limit);
}

/// <summary>
/// What a job does around its copies, in order: before, until a check says that this took hold, and after, whatever came of it.
/// </summary>
public sealed record JobSteps(
    ImmutableArray<StepDefinition> Before,
    StepDefinition? Until,
    Span Patience,
    ImmutableArray<StepDefinition> AfterSuccess,
    ImmutableArray<StepDefinition> AfterFailure,
    ImmutableArray<StepDefinition> AlwaysAfter
)
{
    public bool IsEmpty => Before.IsEmpty && Until is null && AfterSuccess.IsEmpty && AfterFailure.IsEmpty && AlwaysAfter.IsEmpty;
}
