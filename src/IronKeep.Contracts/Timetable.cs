using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// One bar of the timetable: a planned run that ran, is at work or will run. Expected ends are told by the forecast. Outcome null:
/// still to come, at work or waiting for its turn; dropped is a due instant that the job's windows take away. Why says what shifted or
/// spread it.
/// </summary>
public sealed record TimetableBar(
    string Job,
    string Machine,
    IReadOnlyList<string> Stores,
    bool Watched,
    DateTimeOffset Due,
    DateTimeOffset Start,
    DateTimeOffset End,
    bool Past,
    Outcome? Outcome,
    bool Waits,
    bool Dropped,
    string? Why,
    long? RunId
);

/// <summary>Hours in which a job does not begin.</summary>
public sealed record QuietSpan(string Job, DateTimeOffset From, DateTimeOffset To, string Name);

/// <summary>A ceiling on runs at once: of what ("all", "machine heron", "store vault"), and how many.</summary>
public sealed record CeilingAnswer(string Of, int Most);

/// <summary>A stretch of the timetable with all that is drawn on it.</summary>
public sealed record TimetableAxis(
    DateTimeOffset From,
    DateTimeOffset To,
    DateTimeOffset Now,
    string Zone,
    IReadOnlyList<TimetableBar> Bars,
    IReadOnlyList<QuietSpan> Quiet,
    IReadOnlyList<CeilingAnswer> Ceilings
);

/// <summary>
/// A calendar address: what it is for, who made it when, when it was last read. The address itself is told once, when it is made.
/// </summary>
public sealed record CalendarAddressAnswer(long Id, string Label, string By, DateTimeOffset MadeAt, DateTimeOffset? LastReadAt);

/// <summary>What a new calendar address is for.</summary>
public sealed record CalendarAddressRequest(string Label);

/// <summary>A new calendar address. Whoever has it can read the timetable and nothing else; it is not shown again.</summary>
public sealed record NewCalendarAddressAnswer(CalendarAddressAnswer Address, string Path);
