using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Reports;

/// <summary>What a report looks back on: whole weeks from Monday to Sunday, or whole months.</summary>
public enum ReportPeriod
{
    Week,
    Month,
}

/// <summary>
/// A report over the jobs that all of its conditions apply to (none: every job), made again and again and told to people, rotas and
/// channels. <see cref="When"/> null: <see cref="WhenOf"/>.
/// </summary>
public sealed record ReportDefinition(string Name, ReportPeriod Every)
{
    public ImmutableArray<string> Sites { get; init; } = [];
    public ImmutableArray<string> Owners { get; init; } = [];
    public ImmutableArray<string> Tags { get; init; } = [];
    public ImmutableArray<string> Machines { get; init; } = [];
    public ImmutableArray<string> Jobs { get; init; } = [];
    public Schedule? When { get; init; }
    public ImmutableArray<string> Tells { get; init; } = [];

    /// <summary>When it is made: as it says, or at six on the first day after the period.</summary>
    public Schedule WhenOf => When ?? (Every == ReportPeriod.Week ? Weekly : Monthly);

    private static readonly Schedule Weekly = ScheduleText.Read("mon at 06:00").Schedule!;
    private static readonly Schedule Monthly = ScheduleText.Read("day 1 of month at 06:00").Schedule!;

    /// <summary>Whether every condition applies to a job on its machine.</summary>
    public bool Takes(JobDefinition job, MachineDefinition? machine, string machineName) =>
        (Sites.IsEmpty || (machine?.Site is { } site && Sites.Contains(site)))
        && (Owners.IsEmpty || (machine?.Owner is { } owner && Owners.Contains(owner)))
        && (Tags.IsEmpty || job.Tags.Concat(machine?.Tags ?? []).Any(t => Tags.Contains(t)))
        && (Machines.IsEmpty || Machines.Contains(machineName))
        && (Jobs.IsEmpty || Jobs.Contains(job.Name));

    /// <summary>Over which jobs, in words: "site mainland, tag lab"; "all jobs" where it says nothing.</summary>
    public string Words
    {
        get
        {
            var parts = new List<string>();
            void Add(string what, ImmutableArray<string> names)
            {
                if (!names.IsEmpty)
                    parts.Add($"{what} {string.Join(" or ", names)}");
            }
            Add("site", Sites);
            Add("owner", Owners);
            Add("tag", Tags);
            Add("machine", Machines);
            Add("job", Jobs);
            return parts.Count == 0 ? "all jobs" : string.Join(", ", parts);
        }
    }

    /// <summary>The last whole period that was over at an instant: its first date, and the date after its last.</summary>
    public static (LocalDate From, LocalDate To) LastOver(ReportPeriod period, Instant at, DateTimeZone zone)
    {
        var today = at.InZone(zone).Date;
        var to = period == ReportPeriod.Week ? today.PlusDays(1 - (int)today.DayOfWeek) : new LocalDate(today.Year, today.Month, 1);
        return (period == ReportPeriod.Week ? to.PlusWeeks(-1) : to.PlusMonths(-1), to);
    }

    public bool Equals(ReportDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => HashCode.Combine(Name, Every);
}
