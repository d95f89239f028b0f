using IronKeep.Core.Watching;

namespace IronKeep.Contracts;

/// <summary>
/// Somebody who would be told: through which channel and where that goes, the person and rota behind it, the route that says so, why, and
/// when; gathered with says by which name it waits for that time.
/// </summary>
public sealed record WhoRecipient(
    string Channel,
    string To,
    string? Person,
    string? Rota,
    string? Route,
    string Why,
    DateTimeOffset ToldAt,
    string? GatheredWith
);

/// <summary>Who would be told as well, had nobody seen the alert by then.</summary>
public sealed record WhoThen(string Route, DateTimeOffset At, IReadOnlyList<WhoRecipient> To);

/// <summary>Classes of alerts of one severity that are told to the same people.</summary>
public sealed record WhoCase(
    Severity Severity,
    IReadOnlyList<AlertClass> Classes,
    IReadOnlyList<WhoRecipient> To,
    IReadOnlyList<WhoThen> Then
);

/// <summary>Who would be told at an instant of what happens to a subject, the gravest first, and who of a run that goes well.</summary>
public sealed record WhoAnswer(
    DateTimeOffset At,
    string Zone,
    string Of,
    string? Maintenance,
    IReadOnlyList<WhoCase> Cases,
    IReadOnlyList<WhoRecipient> RunEnds
);

/// <summary>A person's turn on a rota; open ends are null. Why not: why the person would not be told as it begins.</summary>
public sealed record TurnAnswer(string Person, DateTimeOffset? From, DateTimeOffset? Until, string? WhyNot);

/// <summary>A rota with the turns of the coming weeks.</summary>
public sealed record RotaAnswer(string Name, string Zone, string Changes, string? StandIn, IReadOnlyList<TurnAnswer> Turns);

/// <summary>A time at which nobody whom a route tells is within their hours; whoever is on duty is told all the same.</summary>
public sealed record HoleAnswer(string Route, DateTimeOffset From, DateTimeOffset Until);

/// <summary>All rotas, and the times of the coming weeks at which routes would reach nobody.</summary>
public sealed record RotasAnswer(
    DateTimeOffset From,
    DateTimeOffset Until,
    IReadOnlyList<RotaAnswer> Rotas,
    IReadOnlyList<HoleAnswer> Holes
);

/// <summary>That a route works, and how many open alerts go its way.</summary>
public sealed record SignOfLifeAnswer(string Of, int Open);
