using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>All that is declared: stores, retention policies and jobs, in order of name. Equality is by meaning.</summary>
public sealed record Charter(
    DateTimeZone Zone,
    ImmutableSortedDictionary<string, StoreDeclaration> Stores,
    ImmutableSortedDictionary<string, PolicyDeclaration> Policies,
    ImmutableSortedDictionary<string, JobDeclaration> Jobs)
{
    /// <summary>The version of the charter's shape that this program reads and writes.</summary>
    public const int Version = 1;

    /// <summary>Nothing declared, in UTC: what a new service starts with.</summary>
    public static Charter Empty { get; } = new(
        DateTimeZone.Utc,
        ImmutableSortedDictionary<string, StoreDeclaration>.Empty,
        ImmutableSortedDictionary<string, PolicyDeclaration>.Empty,
        ImmutableSortedDictionary<string, JobDeclaration>.Empty);
}

/// <summary>
/// A store in a folder. <paramref name="Capacity"/> is what it may hold (null: what its file system holds);
/// <paramref name="Reserve"/> stays free; <paramref name="Bin"/> is how long expired copies wait before their bytes are reclaimed.
/// </summary>
public sealed record StoreDeclaration(string Name, string Folder, ByteSize? Capacity, ByteSize? Reserve, Span Bin)
{
    /// <summary>How long expired copies wait in the bin when the store does not say.</summary>
    public static readonly Span UsualBin = new(7, SpanUnit.Days);
}

/// <summary>A retention policy with its floor and the zone of its periods (null: the charter's).</summary>
public sealed record PolicyDeclaration(string Name, RetentionPolicy Keep, int AtLeast, DateTimeZone? Zone);

/// <summary>
/// What to take, when, into which store, kept how long. <paramref name="When"/> null means only when somebody asks;
/// <paramref name="Zone"/> null means the charter's; <paramref name="FreshWithin"/> is the promised age of the newest good copy.
/// </summary>
public sealed record JobDeclaration(
    string Name,
    ImmutableArray<string> Takes,
    ImmutableArray<string> LeavesOut,
    string Into,
    Schedule? When,
    DateTimeZone? Zone,
    string Policy,
    Span? FreshWithin)
{
    public bool Equals(JobDeclaration? other) =>
        other is not null && Name == other.Name && Takes.SequenceEqual(other.Takes) && LeavesOut.SequenceEqual(other.LeavesOut)
        && Into == other.Into && Equals(When, other.When) && Equals(Zone, other.Zone) && Policy == other.Policy && FreshWithin == other.FreshWithin;

    public override int GetHashCode() => HashCode.Combine(Name, Into, Policy, FreshWithin);
}
