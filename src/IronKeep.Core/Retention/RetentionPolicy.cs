using System.Collections.Immutable;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Retention;

/// <summary>The period a counting rung looks at. Weeks are ISO 8601 weeks; hours are told apart by their offset from UTC.</summary>
public enum RungPeriod
{
    Hour,
    Day,
    Week,
    Month,
    Year,
}

/// <summary>One rung of a policy's ladder.</summary>
public abstract record Rung;

/// <summary>"newest N": the N newest counted copies.</summary>
public sealed record NewestRung(int Count) : Rung
{
    public override string ToString() => $"newest {Count}";
}

/// <summary>"N daily" and its like: the newest counted copy of each of the N most recent periods that have one.</summary>
public sealed record PeriodRung(int Count, RungPeriod Period) : Rung
{
    public override string ToString() => $"{Count} {Adjective(Period)}";

    internal static string Adjective(RungPeriod period) => period == RungPeriod.Day ? "daily" : period.ToString().ToLowerInvariant() + "ly";
}

/// <summary>"all within SPAN": every counted copy until the same wall-clock time SPAN after it was taken.</summary>
public sealed record WithinRung(Span Span) : Rung
{
    public override string ToString() => $"all within {Span}";
}

/// <summary>"forever": every counted copy, for good.</summary>
public sealed record ForeverRung : Rung
{
    public override string ToString() => "forever";
}

/// <summary>
/// How rungs join. With <see cref="And"/> each looks at all copies; with <see cref="Then"/> each skips what earlier rungs already
/// represent.
/// </summary>
public enum RungConnective
{
    And,
    Then,
}

/// <summary>
/// A retention sentence: rungs joined by "and" (or commas) or by "then", never both. Source: docs/semantics.md, section 3 (Retention).
/// </summary>
public sealed record RetentionPolicy(ImmutableArray<Rung> Rungs, RungConnective Connective)
{
    /// <summary>The sentence, in the form that <see cref="RetentionSentence.Read"/> reads back to an equal policy.</summary>
    public override string ToString() => string.Join(Connective == RungConnective.And ? " and " : " then ", Rungs);

    public bool Equals(RetentionPolicy? other) =>
        other is not null && Rungs.SequenceEqual(other.Rungs) && (Connective == other.Connective || Rungs.Length == 1);

    public override int GetHashCode() => Rungs.Aggregate(0, HashCode.Combine);
}
