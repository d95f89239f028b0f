using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Dated;

/// <summary>What a dated file holds: everything, what changed since the last full one, or what changed since the one before.</summary>
public enum CopyKind
{
    Full,
    Differential,
    Incremental,
}

/// <summary>
/// How files of a folder become copies by their names. <paramref name="Zone"/> null: the charter's. A file is a copy when it did not change
/// for
/// <paramref name="SettledAfter"/>. Source: docs/semantics.md, section 10 (Dated files).
/// </summary>
public sealed record DatedFiles(NamePattern Name, DateTimeZone? Zone, Span SettledAfter)
{
    public static readonly Span UsualSettledAfter = new(2, SpanUnit.Minutes);

    public bool Equals(DatedFiles? other) =>
        other is not null
        && Name.Text == other.Name.Text
        && Name.Kinds.SequenceEqual(other.Name.Kinds)
        && Equals(Zone, other.Zone)
        && SettledAfter == other.SettledAfter;

    public override int GetHashCode() => Name.Text.GetHashCode(StringComparison.Ordinal);
}

/// <summary>What a file's name says; the job and the machine null where it names none, the kind where it tells no kinds apart.</summary>
public sealed record DatedName(string? Job, string? Machine, CopyKind? Kind, LocalDateTime Time)
{
    /// <summary>
    /// The instant that the name means. In a gap the first instant after it; in a repeated hour the first, unless the file's own time is
    /// nearer to the second.
    /// </summary>
    public Instant TakenIn(DateTimeZone zone, Instant modified)
    {
        var mapping = zone.MapLocal(Time);
        return mapping.Count switch
        {
            1 => mapping.Single().ToInstant(),
            0 => mapping.LateInterval.Start,
            _ => mapping.First().ToInstant() is var first && mapping.Last().ToInstant() is var last && Away(last) < Away(first)
                ? last
                : first,
        };

        Duration Away(Instant at) => at > modified ? at - modified : modified - at;
    }
}
