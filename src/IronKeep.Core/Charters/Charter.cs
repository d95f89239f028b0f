using System.Collections.Immutable;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// All that is declared: stores, retention policies, channels and jobs, in order of name. Equality is by meaning.
/// <paramref name="Tells"/> names the channels that hear of everything whose job names none; <paramref name="DutyMail"/> is when
/// the duty report goes to them, in <paramref name="Zone"/> (null: never).
/// </summary>
public sealed record Charter(
    DateTimeZone Zone,
    Schedule? DutyMail,
    ImmutableArray<string> Tells,
    ImmutableSortedDictionary<string, StoreDeclaration> Stores,
    ImmutableSortedDictionary<string, PolicyDeclaration> Policies,
    ImmutableSortedDictionary<string, ChannelDeclaration> Channels,
    ImmutableSortedDictionary<string, JobDeclaration> Jobs)
{
    /// <summary>The version of the charter's shape that this program reads and writes.</summary>
    public const int Version = 1;

    /// <summary>Nothing declared, in UTC: what a new service starts with.</summary>
    public static Charter Empty { get; } = new(
        DateTimeZone.Utc, null, [],
        ImmutableSortedDictionary<string, StoreDeclaration>.Empty,
        ImmutableSortedDictionary<string, PolicyDeclaration>.Empty,
        ImmutableSortedDictionary<string, ChannelDeclaration>.Empty,
        ImmutableSortedDictionary<string, JobDeclaration>.Empty);

    /// <summary>The zone of a job's schedule.</summary>
    public DateTimeZone ZoneOf(JobDeclaration job) => job.Zone ?? Zone;

    /// <summary>The channels that hear of a job.</summary>
    public ImmutableArray<string> TellsOf(JobDeclaration job) => job.Tells.Length > 0 ? job.Tells : Tells;

    /// <summary>The job whose schedule makes this one due: itself, or the first of the jobs that it follows. The reader refuses circles.</summary>
    public JobDeclaration HeadOf(JobDeclaration job)
    {
        while (job.After is { } before && Jobs.TryGetValue(before, out var head)) job = head;
        return job;
    }
}
