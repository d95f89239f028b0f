using System.Collections.Immutable;
using System.Runtime.CompilerServices;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// All that is declared, each kind in order of name. Equality is by meaning. <see cref="Tells"/> names the channels that hear of
/// everything whose job names none; <see cref="DutyMail"/> is when the duty report goes to them, in <see cref="Zone"/> (null:
/// never); <see cref="RunsAtOnce"/> is the ceiling over all machines and stores (null: the service's own).
/// </summary>
public sealed record Charter(DateTimeZone Zone)
{
    /// <summary>The version of the charter's shape that this program reads and writes.</summary>
    public const int Version = 1;

    /// <summary>Nothing declared, in UTC: what a new service starts with.</summary>
    public static Charter Empty { get; } = new(DateTimeZone.Utc);

    /// <summary>The machine of the service that goes by it, where the jobs are that do not say otherwise.</summary>
    public string Own { get; init; } = "";

    public Schedule? DutyMail { get; init; }

    /// <summary>When each route says that it works, in <see cref="Zone"/>; null: never.</summary>
    public Schedule? SignOfLife { get; init; }
    public ImmutableArray<string> Tells { get; init; } = [];
    public int? RunsAtOnce { get; init; }

    /// <summary>The file with the outside address that is fetched while the service is well; null: none is.</summary>
    public string? HeartbeatFile { get; init; }
    public Span HeartbeatEvery { get; init; } = UsualHeartbeat;
    public static readonly Span UsualHeartbeat = new(5, SpanUnit.Minutes);

    /// <summary>After how long without contact an agent's right to speak for its machine ends.</summary>
    public Span AgentLapses { get; init; } = AgentRight.UsualLapse;
    public ImmutableSortedDictionary<string, MachineDefinition> Machines { get; init; } = None<MachineDefinition>();
    public ImmutableSortedDictionary<string, LineDefinition> Lines { get; init; } = None<LineDefinition>();
    public ImmutableSortedDictionary<string, StoreDefinition> Stores { get; init; } = None<StoreDefinition>();
    public ImmutableSortedDictionary<string, CalendarDefinition> Calendars { get; init; } = None<CalendarDefinition>();
    public ImmutableSortedDictionary<string, PolicyDefinition> Policies { get; init; } = None<PolicyDefinition>();
    public ImmutableSortedDictionary<string, MediaGroup> MediaGroups { get; init; } = None<MediaGroup>();
    public ImmutableSortedDictionary<string, RotationSetDefinition> RotationSets { get; init; } = None<RotationSetDefinition>();
    public ImmutableSortedDictionary<string, ChannelDefinition> Channels { get; init; } = None<ChannelDefinition>();
    public ImmutableSortedDictionary<string, PersonDefinition> People { get; init; } = None<PersonDefinition>();
    public ImmutableSortedDictionary<string, RotaDefinition> Rotas { get; init; } = None<RotaDefinition>();
    public ImmutableSortedDictionary<string, RouteDefinition> Routes { get; init; } = None<RouteDefinition>();
    public ImmutableSortedDictionary<string, MaintenanceWindow> MaintenanceWindows { get; init; } = None<MaintenanceWindow>();
    public ImmutableSortedDictionary<string, CauseDefinition> Causes { get; init; } = None<CauseDefinition>();
    public ImmutableSortedDictionary<string, ReportDefinition> Reports { get; init; } = None<ReportDefinition>();
    public ImmutableSortedDictionary<string, LogRules> LogRules { get; init; } = None<LogRules>();
    public ImmutableSortedDictionary<string, StepDefinition> Steps { get; init; } = None<StepDefinition>();

    /// <summary>The group that all jobs are like; null: none is declared.</summary>
    public string? JobsLike { get; init; }
    public ImmutableSortedDictionary<string, JobGroupDefinition> JobGroups { get; init; } = None<JobGroupDefinition>();

    /// <summary>
    /// The jobs as they are declared, with what their groups say. What holds on a machine is in <see cref="Placed"/>.
    /// </summary>
    public ImmutableSortedDictionary<string, JobDefinition> Jobs { get; init; } = None<JobDefinition>();
    public ImmutableSortedDictionary<string, VariantDefinition> Variants { get; init; } = None<VariantDefinition>();

    /// <summary>The jobs whose values differ on a machine from those that they have elsewhere.</summary>
    internal ImmutableDictionary<(string Job, string Machine), JobDefinition> Varied { get; init; } =
        ImmutableDictionary<(string Job, string Machine), JobDefinition>.Empty;

    private static ImmutableSortedDictionary<string, T> None<T>() => ImmutableSortedDictionary.Create<string, T>(StringComparer.Ordinal);

    /// <summary>The zone of a job's schedule.</summary>
    public DateTimeZone ZoneOf(JobDefinition job) => job.Zone ?? Zone;

    /// <summary>Every job on every machine that it is on.</summary>
    public PlacedJobs Placed => placed.GetValue(this, c => new PlacedJobs(c));

    private static readonly ConditionalWeakTable<Charter, PlacedJobs> placed = new();

    /// <summary>
    /// The same with a job of its own, under the name of <see cref="PlacedJob.Words"/>, for each machine of one that is on several: for
    /// what is reckoned job by job.
    /// </summary>
    public Charter Flat() =>
        Placed.All.Any(j => j.IsOnSeveral)
            ? this with
            {
                Jobs = Jobs.Clear().AddRange(Placed.All.Select(j => KeyValuePair.Create(j.Words, (JobDefinition)Flat(j)))),
                Variants = Variants.Clear(),
                Varied = Varied.Clear(),
            }
            : this;

    private PlacedJob Flat(PlacedJob job) =>
        !job.IsOnSeveral
            ? job
            : job with
            {
                Name = job.Words,
                After = job.After is { } before ? Placed.Find(before, job.Machine)?.Words ?? before : null,
                Selection = MachineSelection.Of(job.Machine),
            };

    /// <summary>What a job does around its copies.</summary>
    public JobSteps StepsOf(JobDefinition job) =>
        new(
            [.. job.Before.Select(s => Steps[s])],
            job.Until is { } until ? Steps[until] : null,
            job.Patience,
            [.. job.AfterSuccess.Select(s => Steps[s])],
            [.. job.AfterFailure.Select(s => Steps[s])],
            [.. job.AlwaysAfter.Select(s => Steps[s])]
        );

    /// <summary>What to do about a failure: the site's own words, else the usual ones.</summary>
    public string RemedyOf(FailureClass failure) => Causes.GetValueOrDefault(Kebab.Of(failure))?.Remedy ?? FailureWords.Remedy(failure);

    /// <summary>The plain cause of a failure: the site's own words, else the usual ones.</summary>
    public string CauseOf(FailureClass failure) => Causes.GetValueOrDefault(Kebab.Of(failure))?.Cause ?? FailureWords.Cause(failure);

    /// <summary>
    /// The job whose schedule makes this one due: itself, or the first of the jobs that it follows on its machine. The reader refuses
    /// circles.
    /// </summary>
    public PlacedJob HeadOf(PlacedJob job)
    {
        while (job.After is { } before && Placed.Find(before, job.Machine) is { } head)
            job = head;
        return job;
    }

    /// <summary>
    /// The job that a file of a store of dated files belongs to, given the job and the machine that its name says (empty: none); null when
    /// no job leaves copies there.
    /// </summary>
    public PlacedJob? LeavesIn(string store, string named, string machine = "") =>
        (named.Length > 0 ? Placed.Named(named) : Placed.All.Where(j => j.Watched && j.Into.Contains(store))).FirstOrDefault(j =>
            machine.Length == 0 || !j.IsOnSeveral || j.Machine == machine
        );

    /// <summary>
    /// Until how long after it is due something must have been heard of a watched run. One that is heard by its copy alone has its run
    /// limit too, and the time in which files settle.
    /// </summary>
    public Duration HeardWithin(JobDefinition job)
    {
        if (job.HeardBy is not [EvidenceSource.Folder])
            return job.StartLimit.ToDuration();
        return LimitOf(job) + job.Into.Select(s => Stores[s].Dated?.SettledAfter.ToDuration() ?? Duration.Zero).Max() + LooksLate;
    }

    /// <summary>Until how long after it is due the copy of a watched run is taken.</summary>
    public static Duration LimitOf(JobDefinition job) => job.StartLimit.ToDuration() + (job.RunLimit?.ToDuration() ?? Duration.Zero);

    /// <summary>What has settled is seen this much later, at the latest.</summary>
    public static readonly Duration LooksLate = Duration.FromMinutes(2);

    /// <summary>The importance by which a job's runs are ordered, 5 first: its own, else its machine's.</summary>
    public int ImportanceOf(PlacedJob job) =>
        job.Importance ?? Machines.GetValueOrDefault(job.Machine)?.Importance ?? MachineDefinition.UsualImportance;

    /// <summary>
    /// When a job is due in the end, with its zone, calendar, windows and spread; null when it runs by hand only. A job that follows
    /// others is due with the first of them.
    /// </summary>
    public DueTimes? DueTimesOf(PlacedJob job)
    {
        var head = HeadOf(job);
        if (head.When is not { } schedule)
            return null;
        return new DueTimes(schedule, ZoneOf(head))
        {
            Closed = head.Calendar is { } calendar ? Calendars[calendar].Closed : null,
            WhenClosed = head.WhenClosed,
            Quiet = head.QuietHours,
            WhenQuiet = head.WhenQuiet,
            Spread = DueTimes.SpreadOf(head.Name, head.Machine, head.Spread),
        };
    }

    /// <summary>The set with its groups and zone, as the rules take it.</summary>
    public (RotationSet Set, DateTimeZone Zone, ClosedDays? Closed) RotationOf(RotationSetDefinition set) =>
        (
            new RotationSet(set.Start, [.. set.Groups.Select(g => MediaGroups[g])]),
            set.Zone ?? Zone,
            set.Calendar is { } calendar ? Calendars[calendar].Closed : null
        );
}
