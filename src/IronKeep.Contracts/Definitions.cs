using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Contracts;

/// <summary>
/// One declared object. Kind is machine, store, calendar, policy, media-group, rotation-set, channel or job, or settings (name "charter")
/// for what stands at the top. Fields are those of the charter's text, those at their defaults absent; a single value is a list of one. The
/// answer's ETag guards changes.
/// </summary>
public sealed record DefinitionAnswer(
    string Kind,
    string Name,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Fields,
    string Yaml,
    string Tag
);

/// <summary>The fields that an object is to have; what is absent takes its default.</summary>
public sealed record DefinitionRequest(IReadOnlyDictionary<string, IReadOnlyList<string>> Fields);

/// <summary>
/// One mistake: in which field (null: the object as a whole, or another object that this one affects), which of its values, and from which
/// character on.
/// </summary>
public sealed record FieldMistakeAnswer(string? Field, int Item, int Position, string About, string Message);

/// <summary>A path of a job as it is now: what it holds, counted for a moment; counted is false when there is more.</summary>
public sealed record PathAnswer(string Path, bool Exists, long Items, long Bytes, bool Counted);

/// <summary>What a policy would do to the copies that a job has in a store now.</summary>
public sealed record PolicyEffectAnswer(string Job, string Store, int Keeps, int Expires, IReadOnlyList<VerdictAnswer> Copies);

/// <summary>
/// What saving would mean: mistakes (then nothing else), the difference, the object's text, and its effect: the next five due
/// instants, how many copies come to be kept, what the paths hold, what the policy does now, the room of a store's folder in bytes.
/// </summary>
public sealed record PreviewAnswer(
    IReadOnlyList<FieldMistakeAnswer> Mistakes,
    IReadOnlyList<CharterChangeAnswer> Changes,
    string Yaml,
    IReadOnlyList<DueAnswer> NextDue,
    string? SteadyState,
    IReadOnlyList<PathAnswer> Paths,
    IReadOnlyList<PolicyEffectAnswer> Policies,
    long? RoomBytes
)
{
    /// <summary>What saving means for copies that are there; where there is any, saving asks for confirm=true.</summary>
    public required IReadOnlyList<string> Consequences { get; init; }

    /// <summary>Which jobs change on which machines.</summary>
    public IReadOnlyList<ReachAnswer> Reach { get; init; } = [];

    /// <summary>The machines that a job, a variant or a line then is on, in order of name; null where the object is on none.</summary>
    public IReadOnlyList<string>? Machines { get; init; }

    /// <summary>The schedule in plain words, whatever form it was given in.</summary>
    public string? When { get; init; }

    /// <summary>What the words of the schedule do not say, such as how many months have no day 31.</summary>
    public IReadOnlyList<string> Remarks { get; init; } = [];
}

/// <summary>
/// A log on which rules that are being written are tried: their fields as in a form (examples are left aside), the log's text, the exit
/// code of its last run, and the zone of times without an offset (null: the charter's).
/// </summary>
public sealed record LogTryRequest(
    IReadOnlyDictionary<string, IReadOnlyList<string>> Fields,
    string Log,
    int? ExitCode = null,
    string? Zone = null
);

/// <summary>What one rule made of a line, with the values that it read by their names.</summary>
public sealed record TriedMark(LogList List, string Pattern, IReadOnlyDictionary<string, string> Values);

/// <summary>A line that at least one rule matches, counted from 1.</summary>
public sealed record TriedLine(int Line, IReadOnlyList<TriedMark> Marks);

/// <summary>A run that the rules find, from line to line, with its outcome and the lines that decided it.</summary>
public sealed record TriedRun(
    long FirstLine,
    long LastLine,
    DateTimeOffset? Began,
    DateTimeOffset? Ended,
    Outcome Outcome,
    FailureClass? Class,
    string Sentence,
    CheckInFigures Figures,
    int? ExitCode,
    IReadOnlyList<EvidenceLine> Evidence
);

/// <summary>What rules make of a log; with mistakes there is nothing else.</summary>
public sealed record LogTryAnswer(
    IReadOnlyList<FieldMistakeAnswer> Mistakes,
    IReadOnlyList<TriedRun> Runs,
    IReadOnlyList<TriedLine> Lines,
    long LineCount
);
