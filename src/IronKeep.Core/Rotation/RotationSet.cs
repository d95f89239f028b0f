using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>
/// Media that take turns on certain nights. <paramref name="ProtectedFor"/> null: always. A run that starts within
/// <paramref name="FillWindow"/> of a medium's first write may append. <paramref name="RunLength"/> is how long a night's run is
/// taken to last.
/// </summary>
public sealed record MediaGroup(string Name, DayRule Serves, ImmutableArray<string> Media, Span? ProtectedFor)
{
    public static readonly Span UsualFillWindow = new(12, SpanUnit.Hours);
    public static readonly Span UsualRunLength = new(3, SpanUnit.Hours);

    public Span FillWindow { get; init; } = UsualFillWindow;
    public Span RunLength { get; init; } = UsualRunLength;

    public bool Equals(MediaGroup? other) =>
        other is not null
        && Name == other.Name
        && Serves == other.Serves
        && Media.SequenceEqual(other.Media)
        && ProtectedFor == other.ProtectedFor
        && FillWindow == other.FillWindow
        && RunLength == other.RunLength;

    public override int GetHashCode() => HashCode.Combine(Name, Serves, Media.Length);
}

/// <summary>
/// A rotation set: groups in order; the first that serves a night takes it. Runs begin at <paramref name="Start"/>, local time.
/// </summary>
public sealed record RotationSet(LocalTime Start, ImmutableArray<MediaGroup> Groups);

/// <summary>
/// What is known of a medium. <paramref name="FirstWrite"/> is the start of the first run on it since it was last begun anew,
/// <paramref name="LastEnd"/> the end of the last; both null for one never used. <paramref name="Unusable"/> says why it cannot be
/// taken whatever the clock says (held, needed by a chain, in a bad state, not at hand), or null.
/// </summary>
public sealed record MediumFacts(string Label, Instant? FirstWrite = null, Instant? LastEnd = null, string? Unusable = null);

/// <summary>Why no medium can be taken: the one that will be free first and when; both null when none ever will be.</summary>
public sealed record Shortage(string? FirstFree, Instant? At);

/// <summary>
/// One night's choice: the group that serves it (null: none does), its medium (null: none, or a shortage), whether the run appends,
/// until when the medium is protected after it (null with a medium: always), and why this medium, in words.
/// </summary>
public sealed record RotationNight(
    LocalDate Date,
    Instant Start,
    string? Group,
    string? Medium,
    bool Appends,
    Instant? ProtectedUntil,
    Shortage? Shortage,
    string Why
);
