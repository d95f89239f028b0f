using IronKeep.Core.Machines;
using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// A machine that the charter declares, that jobs name, or that has an agent. Declared says whether the charter has it, own whether the
/// service runs on it. Times are UTC; clock-ahead is in seconds, and null where it was not heard of. Away: it will come back,
/// and is heard of at no service at present. Stands is what its agent says of it at present, null where that is not known to this
/// service. Read-over is the server by which the service reads it itself, without an agent. Nights are the worst outcomes of its jobs in
/// its last nights, oldest first, the one in progress last (null: nothing ended). Came-as is the name under which a machine with its key
/// wanted to join, until a person has said what that is.
/// </summary>
public sealed record MachineAnswer(
    string Name,
    string? Site,
    string? Owner,
    IReadOnlyList<string> Tags,
    bool Declared,
    bool Own,
    int Jobs,
    AgentState State,
    DateTimeOffset? CodeUntil,
    string? EnrolledBy,
    DateTimeOffset? JoinedAt,
    DateTimeOffset? HeardAt,
    DateTimeOffset? RightUntil,
    string? Version,
    string? System,
    string? Address,
    double? ClockAhead,
    DateTimeOffset? ShutOutAt,
    string? ShutOutBy,
    string? ShutOutWhy,
    bool Away,
    MachineState? Stands,
    IReadOnlyList<ServiceStanding> Services,
    string? ReadOver,
    CoverageAnswer Coverage,
    RetiredCopies? Retired,
    IReadOnlyList<string> ExceptedFrom,
    IReadOnlyList<Outcome?> Nights,
    string? CameAs
);

/// <summary>Whether a machine that came with another's key is that machine, under a new name from now on.</summary>
public sealed record CameBackRequest(bool Renamed);

/// <summary>A machine with the key of another wanted to join under a name of its own (UTC).</summary>
public sealed record CameBack(string Machine, string CameAs, DateTimeOffset At);

/// <summary>
/// How a machine is protected, why (the end of a sentence about it), and since when it is so (UTC; null: it was seen just now).
/// </summary>
public sealed record CoverageAnswer(Coverage Class, string Why, DateTimeOffset? Since);

/// <summary>
/// The copies of a machine that is retired: who decides about them, by which day, and until which they are kept; over is whether that day
/// has passed. Days are in the charter's zone (2027-12-01).
/// </summary>
public sealed record RetiredCopies(string Machine, string CopiesOwner, string DecideBy, string CopiesUntil, bool Over);

/// <summary>
/// How the machines are protected: how many are in each class; those that have come into one that somebody should look at within the last
/// day (the first of them, and how many there are); those that a job has taken by itself within the last day; the retired ones about
/// whose copies it is time to decide; and those that came back under another name.
/// </summary>
public sealed record DutyCoverage(
    IReadOnlyDictionary<string, int> Classes,
    IReadOnlyList<CoverageNews> News,
    int NewsCount,
    IReadOnlyList<MachineTaken> Taken,
    int TakenCount,
    IReadOnlyList<RetiredCopies> Decisions,
    IReadOnlyList<CameBack> CameBack
);

/// <summary>
/// A machine that has come into a class, why, since when (UTC), and the one that it was in before (null: it was not known).
/// </summary>
public sealed record CoverageNews(string Machine, Coverage Class, string Why, DateTimeOffset Since, Coverage? Before);

/// <summary>A machine that a job has taken by its expression, or as one of the rest (UTC).</summary>
public sealed record MachineTaken(string Job, string Machine, DateTimeOffset Since);

/// <summary>All machines in order of name; agents-at is the address at which agents come, null where this service has none.</summary>
public sealed record MachinesAnswer(string? AgentsAt, IReadOnlyList<MachineAnswer> Machines);

/// <summary>
/// A code with which a machine joins, good once and until then. The command is to be given on the machine; replaces says that another agent
/// of that name loses its right when it is.
/// </summary>
public sealed record EnrolmentAnswer(string Machine, string Code, DateTimeOffset Until, string Command, bool Replaces);

/// <summary>Why a machine's agent loses its right.</summary>
public sealed record ShutOutRequest(string Reason);

/// <summary>
/// What an agent says of itself with each contact; time is by its own clock, instance another with each start of the agent. State is how
/// its machine stands, services how those stand that it keeps up, standing the mark of what it
/// would do on its own, hears that of the watched jobs whose logs it follows.
/// </summary>
public sealed record AgentSelf(
    string Version,
    string System,
    DateTimeOffset Time,
    string? Instance = null,
    MachineState? State = null,
    IReadOnlyList<ServiceStanding>? Services = null,
    string? Standing = null,
    string? Hears = null
);

/// <summary>
/// A service that the agent keeps up: the step that says whether it is, the one that starts it, and how often within how many seconds.
/// </summary>
public sealed record KeptServiceWords(string Job, StepWords Up, StepWords Start, int Times, double WithinSeconds);

/// <summary>When a job of the agent's machine is due next (UTC).</summary>
public sealed record NextDue(string Job, DateTimeOffset Due);

/// <summary>
/// What an agent does on its own while the service is away: a job that goes into stores on its own disk alone, its copies (without a
/// token), the steps around them (null: none), what the job needs, when it is due (UTC, soonest first), how many seconds late it may
/// begin, and how many the machine is to be awake before it makes up for what it missed.
/// </summary>
public sealed record StandingOrder(
    string Job,
    IReadOnlyList<CopyOrder> Copies,
    StepsOrder? Steps,
    IReadOnlyList<string> Needs,
    IReadOnlyList<DateTimeOffset> Dues,
    double StartSeconds,
    double WaitSeconds
);

/// <summary>All that an agent does on its own, and a mark by which the same is known.</summary>
public sealed record StandingOrders(string Mark, IReadOnlyList<StandingOrder> Orders);

/// <summary>A copy by its store and its id.</summary>
public sealed record CopyThere(string Store, string CopyId);

/// <summary>
/// What an agent did on its own: times are by its own clock, due is the service's. Outcome is ok, warned or failed; of a failure its class.
/// </summary>
public sealed record JournalEntry(
    string Id,
    string Job,
    DateTimeOffset Due,
    DateTimeOffset Began,
    DateTimeOffset? Ended,
    double Seconds,
    Outcome Outcome,
    FailureClass? Failure,
    string Sentence,
    IReadOnlyList<CopyThere> Copies,
    CopyFigures Figures,
    IReadOnlyList<CopyLine> Lines
);

/// <summary>What an agent did on its own since it was in contact; now is its clock.</summary>
public sealed record JournalRequest(DateTimeOffset Now, IReadOnlyList<JournalEntry> Entries);

/// <summary>
/// A watched job of the agent's machine: the paths of its logs there (none: its command tells by itself), its rules as they stand in a file
/// for 'try log' (empty: none), the zone of its times, and until when the service has heard of it (UTC): what was over by then is known.
/// </summary>
public sealed record HeardJob(string Job, IReadOnlyList<string> Logs, string Rules, string Zone, DateTimeOffset? HeardUntil);

/// <summary>The watched jobs of the agent's machine, and a mark by which the same are known.</summary>
public sealed record HeardJobs(string Mark, IReadOnlyList<HeardJob> Jobs);

/// <summary>What was heard of a watched job on the agent's machine, by a log there or by its wrapped command.</summary>
public sealed record HeardReport(string Job, EvidenceSource Source, CheckInRequest Said);

/// <summary>Why a job's log is not heard on its machine; null: it is heard.</summary>
public sealed record HeardProblem(string Job, string? Problem);

/// <summary>What an agent heard since it was told last, in its order; now is its clock.</summary>
public sealed record HeardRequest(DateTimeOffset Now, IReadOnlyList<HeardReport> Reports, IReadOnlyList<HeardProblem> Problems);

/// <summary>A machine joins: the secret of its code, as hex.</summary>
public sealed record JoinRequest(string Secret, AgentSelf Self);

/// <summary>
/// What an agent is to do now: make a copy of a job's paths into a store, by the token that ends with it. Leaves-out are patterns of the
/// charter, and so is still-at; compression is a level of Zstandard; runs is the number of the run, for its log.
/// </summary>
public sealed record CopyOrder(
    string Token,
    long Run,
    string Job,
    string Store,
    string CopyId,
    IReadOnlyList<string> Takes,
    IReadOnlyList<string> LeavesOut,
    bool LeavesOutCaches,
    bool OtherFileSystems,
    int Compression,
    IReadOnlyList<StreamWords>? Streams = null,
    IReadOnlyList<string>? StillAt = null,
    LocalStore? Local = null
);

/// <summary>
/// A store on the machine's own disk, into which the agent writes by itself: its folder, under which names the copy is made, and with which
/// copy it compares (null: the first).
/// </summary>
public sealed record LocalStore(string Folder, string Machine, string? Previous);

/// <summary>A copy was made in a store of the machine itself.</summary>
public sealed record CopyMadeRequest(CopyReportRequest Report, string CopyId);

/// <summary>The agent is to answer for a store on its own disk, until it hears that this is over.</summary>
public sealed record PlaceOrder(string Token, string Store, string Folder);

/// <summary>A command whose output is taken as a file of this name.</summary>
public sealed record StreamWords(StepWords Step, string KeepsAs);

/// <summary>
/// What an agent is to give back: paths of a copy (all when there are none) below a folder of its machine, by the token that ends with it.
/// Of is the machine that the copy is of, by who asked for it; reason is why, where the copy is of another machine. The root is as this
/// machine may name it.
/// </summary>
public sealed record RestoreOnMachine(
    string Token,
    long Run,
    string CopyId,
    string Job,
    string Of,
    DateTimeOffset Taken,
    IReadOnlyList<string> Takes,
    long Items,
    long Bytes,
    int Depth,
    IReadOnlyList<string> Root,
    IReadOnlyList<string> Paths,
    string To,
    string Existing,
    string By,
    string? Reason
);

/// <summary>
/// A command as its words one by one, the user that it runs as (null: the agent's), and after how many seconds it is ended.
/// </summary>
public sealed record StepWords(string Name, IReadOnlyList<string> Command, string? As, double LimitSeconds);

/// <summary>
/// What an agent is to run around the copies of a run, where its machine allows it: before at once, until says that it took hold, and the
/// rest when the service says how the copies went, or is not heard of any more.
/// </summary>
public sealed record StepsOrder(
    string Token,
    long Run,
    string Job,
    IReadOnlyList<StepWords> Before,
    StepWords? Until,
    double PatienceSeconds,
    IReadOnlyList<StepWords> AfterSuccess,
    IReadOnlyList<StepWords> AfterFailure,
    IReadOnlyList<StepWords> AlwaysAfter
);

/// <summary>
/// What an agent is told with each contact, and what it is to do, which is nothing new where the lists are empty: copies to make, and to
/// give back, and steps around them. Next is when its jobs are due next, keeps-up the services that
/// are to be up there, places the stores on its disks that it is to answer for, standing what it does
/// on its own while the service is away, hears the watched jobs of its machine (each null: as before).
/// </summary>
public sealed record OrdersAnswer(
    AgentAnswer Agent,
    IReadOnlyList<CopyOrder> Orders,
    IReadOnlyList<RestoreOnMachine>? Restores = null,
    IReadOnlyList<StepsOrder>? Steps = null,
    IReadOnlyList<NextDue>? Next = null,
    IReadOnlyList<KeptServiceWords>? KeepsUp = null,
    IReadOnlyList<PlaceOrder>? Places = null,
    StandingOrders? Standing = null,
    HeardJobs? Hears = null
);

/// <summary>The steps before took hold, or why not.</summary>
public sealed record StepsReadyRequest(CopyReportRequest Report, FailureClass? Failure, string? Message);

/// <summary>Whether the agent is to end what it runs, and how the copies went (null: they are being made).</summary>
public sealed record StepsReportAnswer(bool Stop, bool? Success);

/// <summary>The steps after were run: what went wrong with them, and for how many seconds what the steps before stopped was down.</summary>
public sealed record StepsEndRequest(CopyReportRequest Report, string? Problem, string? AfterSuccessProblem, double? DownSeconds);

/// <summary>What an agent ran after a run that was interrupted, once it was started anew.</summary>
public sealed record StepsOwedRequest(long Run, IReadOnlyList<CopyLine> Lines);

/// <summary>An agent has a restore or steps in hand; instance is that start of it.</summary>
public sealed record OrderBeginRequest(string? Instance = null);

/// <summary>
/// The end of a restore: what was made, and how much of what was wanted could not be, with the first of that in words; all of it is in the
/// log.
/// </summary>
public sealed record RestoreEndRequest(
    CopyReportRequest Report,
    long Files,
    long Folders,
    long Links,
    long Bytes,
    long Overwritten,
    long Beside,
    long Problems,
    string? FirstProblem
);

/// <summary>
/// The copies that the machine remembers, and which start of its agent this is; the answer says which are in force. Holds still: the agent
/// knows what to do with moments that are held still, which older ones do not.
/// </summary>
public sealed record CopyBeginRequest(IReadOnlyList<string> Copies, string? Instance = null, bool HoldsStill = false);

/// <summary>Which copies are in force, and how many bytes a second may travel at present (null: any).</summary>
public sealed record CopyBeginAnswer(IReadOnlyList<string> InForce, long? PerSecond = null);

/// <summary>
/// Figures of a copy while it is made, or of a restore, which says items and bytes alone: as in the figures of a run, and what became of
/// the files of the copy before.
/// </summary>
public sealed record CopyFigures(
    long Items,
    long SelectedBytes,
    long ReadBytes,
    long Skipped,
    long FilesRead,
    long Known,
    long Altered,
    long Gone,
    long Added,
    long Moving
);

/// <summary>A line of the log of a copy that is made on another machine.</summary>
public sealed record CopyLine(LogSeverity Severity, string Text);

/// <summary>How a copy goes on: its figures, and the lines of its log since the last report, which are numbered from first.</summary>
public sealed record CopyReportRequest(CopyFigures Figures, long First, IReadOnlyList<CopyLine> Lines);

/// <summary>Whether the agent is to give the copy up, and how many bytes a second may travel at present (null: any).</summary>
public sealed record CopyReportAnswer(bool Stop, long? PerSecond = null);

/// <summary>
/// The end of a copy: what it holds, the root as the machine names it, and the copy that it was compared with (null: none). Times are not
/// asked for: the service has its own.
/// </summary>
public sealed record CopyCommitRequest(
    CopyReportRequest Report,
    IReadOnlyList<string> Takes,
    long Items,
    long Bytes,
    long Skipped,
    int Depth,
    IReadOnlyList<string> Root,
    string? Before
);

public sealed record CopyCommitAnswer(string CopyId, long NewBytes, long StoredBytes);

/// <summary>Why a copy could not be made.</summary>
public sealed record CopyFailRequest(CopyReportRequest Report, FailureClass Failure, string Message);

/// <summary>
/// What an agent is told of itself with each contact: which machine it is, by the name of the service's own machine whom it serves, the
/// service's time, and until when its right holds if it is not heard of again.
/// </summary>
public sealed record AgentAnswer(string Machine, string Service, DateTimeOffset Time, DateTimeOffset RightUntil);

/// <summary>
/// A list of machines to bring into the charter: CSV with a header, or a JSON array of objects. Source names where it is from: machines
/// that it brought before and has no more are those that go. Columns: which column has which key ("name", "site"), where it is called
/// otherwise. Retire: what is said of those that go (null: they stay as they are).
/// </summary>
public sealed record ImportRequest(
    string Text,
    string Source,
    IReadOnlyDictionary<string, string>? Columns = null,
    RetireWords? Retire = null
);

/// <summary>What is said of a machine that is retired; days as 2027-12-01.</summary>
public sealed record RetireWords(string Since, string CopiesUntil, string CopiesOwner, string DecideBy);

/// <summary>What is to change of a machine that is declared.</summary>
public sealed record ImportChangeAnswer(string Machine, IReadOnlyList<FieldChangeAnswer> Fields);

/// <summary>
/// What a list means for the charter of that revision: how many machines it has, which come, change and go, which it has although they are
/// retired, the columns of which nothing is made, its mistakes (then nothing else; lines of a CSV file, entries of JSON), which jobs reach
/// which machines then, and what it means for copies.
/// </summary>
public sealed record ImportAnswer(
    long Revision,
    int Listed,
    IReadOnlyList<string> Comes,
    IReadOnlyList<ImportChangeAnswer> Changes,
    IReadOnlyList<string> Goes,
    IReadOnlyList<string> Retired,
    IReadOnlyList<string> NotUsed,
    IReadOnlyList<MistakeAnswer> Mistakes,
    IReadOnlyList<ReachAnswer> Reach,
    IReadOnlyList<string> Consequences
);
