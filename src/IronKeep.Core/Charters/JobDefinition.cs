using System.Collections.Immutable;
using IronKeep.Core.Chains;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>Whether missed runs are made up for by one run, or not at all.</summary>
public enum CatchUp
{
    Once,
    None,
}

/// <summary>What happens to a planned run while an earlier run of the job is at work: it is not needed, or one waits.</summary>
public enum Overlap
{
    Skip,
    Wait,
}

/// <summary>When a job is pruned: only by hand, or after each run that succeeds. Never by a clock offset.</summary>
public enum PruneTime
{
    ByHand,
    AfterSuccess,
}

/// <summary>What is told of a job: trouble only, or every end of a run.</summary>
public enum TellWhen
{
    Trouble,
    Always,
}

/// <summary>
/// What to take, when, into which stores, kept how long, told to whom. <see cref="When"/> and <see cref="After"/> null: only when
/// somebody asks. <see cref="Zone"/> null: the charter's. <see cref="FreshWithin"/> is the promised age of the newest good copy.
/// <see cref="RunLimit"/> null: a run is never ended, only told of. Defaults and rules: docs/semantics.md, section 2 (Planned runs,
/// lateness, catch-up).
/// </summary>
public record JobDefinition(string Name, ImmutableArray<string> Takes, ImmutableArray<string> Into, string Policy)
{
    public static readonly Span UsualStartLimit = new(30, SpanUnit.Minutes);
    public static readonly Span UsualWaitAfterReturn = new(10, SpanUnit.Minutes);
    public static readonly Span UsualCatchUpGap = new(2, SpanUnit.Hours);
    public static readonly Span UsualPatience = new(2, SpanUnit.Minutes);

    /// <summary>The most times a run is tried again.</summary>
    public const int MostRetries = 10;

    /// <summary>How long before it is due a run may take the copy that it leaves, when the job does not say.</summary>
    public static readonly Span UsualEarly = new(1, SpanUnit.Hours);

    /// <summary>The machines that it is on.</summary>
    public MachineSelection Selection { get; init; } = MachineSelection.Own;

    /// <summary>The group whose values it has where it says nothing itself; null: only those that all jobs have.</summary>
    public string? Like { get; init; }

    /// <summary>What its own text says; null: all of its values are its own.</summary>
    internal ImmutableArray<CharterField>? Said { get; init; }

    /// <summary>Where the values come from that are not the job's own, by key: "charter", "group NAME" or "variant NAME".</summary>
    public ImmutableDictionary<string, string> From { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>
    /// Something else carries it out; Iron Keep only watches what it leaves behind. It takes nothing. <see cref="Into"/> are the stores of
    /// dated files in which it leaves its copies; without one it has no policy (the empty name).
    /// </summary>
    public bool Watched { get; init; }

    /// <summary>How long before its due instant the copy that a watched run leaves may be taken.</summary>
    public Span Early { get; init; } = UsualEarly;

    /// <summary>By what a watched job is heard of; check-ins alone where it does not say.</summary>
    public ImmutableArray<EvidenceSource> HeardBy { get; init; } = [EvidenceSource.CheckIn];

    /// <summary>The log files that it writes, absolute paths with * and ? in their names.</summary>
    public ImmutableArray<string> Logs { get; init; } = [];

    /// <summary>
    /// The programs whose lines of syslog are its own, as NAME or NAME@HOST, and patterns of which one must match a line (none: all lines).
    /// </summary>
    public ImmutableArray<string> Syslog { get; init; } = [];
    public ImmutableArray<string> SyslogText { get; init; } = [];

    /// <summary>The set of rules by which its logs and exit codes are judged; null: 0 is ok, and every other code failed.</summary>
    public string? LogRules { get; init; }

    /// <summary>Anything worth knowing, such as the command that carries a watched job out.</summary>
    public string? Note { get; init; }
    public ImmutableArray<string> LeavesOut { get; init; } = [];

    /// <summary>Whether folders that carry a CACHEDIR.TAG are left out.</summary>
    public bool LeavesOutCaches { get; init; }

    /// <summary>Whether file systems mounted below a taken folder are taken with it.</summary>
    public bool OtherFileSystems { get; init; }

    /// <summary>What it makes between full copies where its store keeps plain archives; null: every copy is full.</summary>
    public PartialCopies? Partials { get; init; }

    /// <summary>The level of compression, 1 (fast) to 19 (small).</summary>
    public int Compression { get; init; } = 1;

    /// <summary>The steps whose output it takes, each as a file of its own, by name.</summary>
    public ImmutableArray<string> Streams { get; init; } = [];

    /// <summary>Where moments of what it takes are held still.</summary>
    public ImmutableArray<StillFolder> StillAt { get; init; } = [];

    /// <summary>
    /// The step that says whether the service is up that the job stops for its copies, the one that starts it again when it is down, and
    /// how often at most; null: it is not watched.
    /// </summary>
    public string? WatchesService { get; init; }
    public string? StartsService { get; init; }
    public StartCeiling StartsAtMost { get; init; } = StartCeiling.Usual;

    /// <summary>The steps around its copies, by name (<see cref="JobSteps"/>).</summary>
    public ImmutableArray<string> Before { get; init; } = [];
    public string? Until { get; init; }

    /// <summary>How long <see cref="Until"/> is asked again until it says so.</summary>
    public Span Patience { get; init; } = UsualPatience;
    public ImmutableArray<string> AfterSuccess { get; init; } = [];
    public ImmutableArray<string> AfterFailure { get; init; } = [];
    public ImmutableArray<string> AlwaysAfter { get; init; } = [];
    public Schedule? When { get; init; }
    public string? After { get; init; }
    public DateTimeZone? Zone { get; init; }

    /// <summary>The calendar of closed days; what a closed day does to a run is <see cref="WhenClosed"/> (null: nothing).</summary>
    public string? Calendar { get; init; }
    public WindowRule? WhenClosed { get; init; }

    /// <summary>Hours in which no run begins.</summary>
    public ImmutableArray<QuietHours> QuietHours { get; init; } = [];
    public WindowRule WhenQuiet { get; init; }

    /// <summary>The window over which jobs due at one instant are spread by a stable hash; null: not at all.</summary>
    public Span? Spread { get; init; }

    /// <summary>Orders runs that wait for each other, 1 to 5, 5 first; null: the machine's.</summary>
    public int? Importance { get; init; }

    /// <summary>Named things that only one run at a time may have.</summary>
    public ImmutableArray<string> Locks { get; init; } = [];

    /// <summary>How its machine must stand before it begins by itself, beside that it is heard of.</summary>
    public ImmutableArray<MachineNeed> Needs { get; init; } = [];
    public Span? FreshWithin { get; init; }
    public Span StartLimit { get; init; } = UsualStartLimit;
    public Span? RunLimit { get; init; }
    public CatchUp CatchUp { get; init; }
    public Span WaitAfterReturn { get; init; } = UsualWaitAfterReturn;

    /// <summary>A next due instant nearer than this serves in place of a catch-up run.</summary>
    public Span CatchUpGap { get; init; } = UsualCatchUpGap;
    public Overlap Overlap { get; init; }

    /// <summary>How often a run that failed for a passing cause is tried again.</summary>
    public int Retries { get; init; }
    public Band Band { get; init; } = Band.Usual;
    public PruneTime Prune { get; init; }

    /// <summary>Words by which routes and maintenance windows take the job, beside those of its machine.</summary>
    public ImmutableArray<string> Tags { get; init; } = [];

    /// <summary>Names of channels, people and rotas.</summary>
    public ImmutableArray<string> Tells { get; init; } = [];
    public TellWhen TellWhen { get; init; }

    /// <summary>How grave every alert of the job is; null where it follows from what is at stake.</summary>
    public Severity? Severity { get; init; }

    /// <summary>
    /// What a run is expected to take before any has told: bytes selected, bytes changed in a run, bytes grown in a day, and how long.
    /// </summary>
    public ByteSize? ExpectSize { get; init; }
    public ByteSize? ExpectChange { get; init; }
    public ByteSize? ExpectGrowth { get; init; }
    public Span? ExpectTime { get; init; }

    public virtual bool Equals(JobDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => HashCode.Combine(Name, Policy, FreshWithin);
}
