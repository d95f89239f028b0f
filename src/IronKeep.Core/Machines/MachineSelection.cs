using System.Collections.Immutable;
using IronKeep.Core.Charters;

namespace IronKeep.Core.Machines;

/// <summary>How a job says on which machines it is.</summary>
public enum SelectionKind
{
    /// <summary>It does not say: on the service's own.</summary>
    Own,

    /// <summary>By name.</summary>
    Named,

    /// <summary>By an expression, so that a machine that is declared later is taken too.</summary>
    Expressed,

    /// <summary>Every machine that no other job of its kind takes.</summary>
    Rest,
}

/// <summary>
/// The machines that a job is on. <see cref="Except"/> and <see cref="ExceptWhere"/> are left out of what an expression or the rest takes.
/// </summary>
public sealed record MachineSelection(SelectionKind Kind)
{
    /// <summary>The words for <see cref="SelectionKind.Rest"/> and for every machine, which no machine can have as its name.</summary>
    public const string RestWord = "rest",
        AllWord = "all";

    public static MachineSelection Own { get; } = new(SelectionKind.Own);

    /// <summary>One machine by its name; null: the service's own.</summary>
    public static MachineSelection Of(string? machine) =>
        machine is null ? Own : new MachineSelection(SelectionKind.Named) { Names = [machine] };

    public ImmutableArray<string> Names { get; init; } = [];
    public MachineExpression? Where { get; init; }
    public ImmutableArray<string> Except { get; init; } = [];
    public MachineExpression? ExceptWhere { get; init; }

    /// <summary>Whether an expression or the rest may take a machine: it is described, and no exception.</summary>
    public bool Takes(MachineDefinition machine) => Where?.Takes(machine) != false && !Excepts(machine);

    /// <summary>Whether a machine is named or described as an exception.</summary>
    public bool Excepts(MachineDefinition machine) => Except.Contains(machine.Name) || ExceptWhere?.Takes(machine) == true;

    /// <summary>What stands under <c>on</c>: empty for the service's own machine.</summary>
    public ImmutableArray<string> On =>
        Kind switch
        {
            SelectionKind.Named => Names,
            SelectionKind.Expressed => [Where!.Words],
            SelectionKind.Rest => [RestWord],
            _ => [],
        };

    /// <summary>What stands under <c>except</c>.</summary>
    public ImmutableArray<string> ExceptWords => ExceptWhere is { } where ? [where.Words] : Except;

    /// <summary>The one machine that it is on by name; null: it is on the service's own, or says it otherwise.</summary>
    public string? One => Kind == SelectionKind.Named && Names.Length == 1 ? Names[0] : null;

    /// <summary>For people: "curlew", "machines that site = lighthouse", "every machine that no other job takes".</summary>
    public string Words(string own) =>
        Kind switch
        {
            SelectionKind.Own => own,
            SelectionKind.Named => string.Join(", ", Names),
            SelectionKind.Expressed => Where!.Words + Without,
            _ => "every machine that no other job takes" + Without,
        };

    private string Without => ExceptWords.IsEmpty ? "" : $", except {string.Join(", ", ExceptWords)}";

    public bool Equals(MachineSelection? other) =>
        other is not null && Kind == other.Kind && On.SequenceEqual(other.On) && ExceptWords.SequenceEqual(other.ExceptWords);

    public override int GetHashCode() => HashCode.Combine(Kind, On.Length);
}
