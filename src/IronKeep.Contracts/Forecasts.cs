using IronKeep.Core.Forecasts;

namespace IronKeep.Contracts;

/// <summary>A stretch of time in which nothing runs, to try what follows.</summary>
public sealed record OutageRequest(DateTimeOffset From, DateTimeOffset To);

/// <summary>
/// What to play: a charter's text (absent: the one in force), how many days, whether jobs that are pruned by hand only are played as
/// if pruned after every success, and an outage to try.
/// </summary>
public sealed record ForecastRequest(string? Yaml = null, int Days = 365, bool PrunesByHandToo = false, OutageRequest? Outage = null);

/// <summary>One thing that will go wrong: its kind, when first (null: from the start), about what, in words, with the way out.</summary>
public sealed record FindingAnswer(FindingKind Kind, DateTimeOffset? At, string Subject, string Message, string Remedy);

/// <summary>
/// A store over the days: bytes used now, bytes used and bytes that only the bin keeps at the end of each day; room and reserve in bytes.
/// </summary>
public sealed record StoreForecastAnswer(
    string Store,
    long UsedNow,
    IReadOnlyList<long> Used,
    IReadOnlyList<long> InBin,
    long? Room,
    long Reserve
);

/// <summary>One night of a rotation set. Protected until is null with a medium that is protected always.</summary>
public sealed record NightAnswer(
    string Date,
    DateTimeOffset Start,
    string? Group,
    string? Medium,
    bool Appends,
    DateTimeOffset? ProtectedUntil,
    bool Short,
    string Why
);

/// <summary>How many media a group has and how many would be enough (null: no number is), and how that was found.</summary>
public sealed record EnoughAnswer(string Group, int Has, int? Enough, string How);

/// <summary>A rotation set's nights.</summary>
public sealed record RotationAnswer(string Set, string Zone, IReadOnlyList<NightAnswer> Nights, IReadOnlyList<EnoughAnswer> Groups);

/// <summary>
/// What a job's runs are taken to be like (bytes as stored; from says whether history, the charter or nothing tells), how many runs
/// were played, how many of them began late or not at all, and its copies now and at the end.
/// </summary>
public sealed record JobForecastAnswer(
    string Job,
    string From,
    long WholeBytes,
    long ChangeBytes,
    long GrowthPerDay,
    double TakesSeconds,
    int Runs,
    int Late,
    int LeftOut,
    int CopiesNow,
    int CopiesAtEnd
);

/// <summary>A forecast. Dates are local dates of the zone, one for each value of the stores' rows.</summary>
public sealed record ForecastAnswer(
    DateTimeOffset AsOf,
    int Days,
    string Zone,
    int Runs,
    IReadOnlyList<string> Dates,
    IReadOnlyList<FindingAnswer> Findings,
    IReadOnlyList<StoreForecastAnswer> Stores,
    IReadOnlyList<RotationAnswer> Rotations,
    IReadOnlyList<JobForecastAnswer> Jobs
);

/// <summary>Which copies of a job in a store will exist on a date, under a charter's text (absent: the one in force).</summary>
public sealed record CopiesOnRequest(string Job, string? Store, DateTimeOffset On, string? Yaml = null, bool PrunesByHandToo = false);

/// <summary>
/// Two charters to compare: texts, or null for the one in force; and the dates to look at (absent: in a week, a month, three months and a
/// year).
/// </summary>
public sealed record CompareRequest(string? Before, string After, IReadOnlyList<DateTimeOffset>? Dates = null);

/// <summary>The copies of a job in a store on one date under both, and which exist only under one, by the start of capture.</summary>
public sealed record PlaceOnAnswer(
    string Job,
    string Store,
    int Before,
    int After,
    IReadOnlyList<DateTimeOffset> OnlyBefore,
    IReadOnlyList<DateTimeOffset> OnlyAfter
);

/// <summary>Bytes used of a store on one date under both.</summary>
public sealed record StoreOnAnswer(string Store, long? Before, long? After);

/// <summary>One date of a comparison; only jobs and stores that differ.</summary>
public sealed record ComparedDateAnswer(DateTimeOffset At, IReadOnlyList<PlaceOnAnswer> Places, IReadOnlyList<StoreOnAnswer> Stores);

/// <summary>A copy that the other charter's first prune would take, and today's would not.</summary>
public sealed record AtOnceAnswer(string Job, string Store, string CopyId, DateTimeOffset Taken, IReadOnlyList<string> Reasons);

/// <summary>Media written and nights short over the span, under both.</summary>
public sealed record MediaUseAnswer(string Set, int Before, int After, int ShortBefore, int ShortAfter);

/// <summary>What differs between two charters.</summary>
public sealed record ComparisonAnswer(
    DateTimeOffset AsOf,
    IReadOnlyList<CharterChangeAnswer> Changes,
    IReadOnlyList<ComparedDateAnswer> Dates,
    IReadOnlyList<AtOnceAnswer> AtOnce,
    IReadOnlyList<MediaUseAnswer> Media,
    IReadOnlyList<FindingAnswer> OnlyBefore,
    IReadOnlyList<FindingAnswer> OnlyAfter
);
