using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Telling;

/// <summary>
/// Somebody who is told: through which channels, at which address those that carry mail find them, and when. Hours and days away are local
/// in <see cref="Zone"/> (null: the charter's); no hours mean any hour. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed record PersonDefinition(string Name)
{
    /// <summary>Channels, in the order in which they are told.</summary>
    public ImmutableArray<string> ToldBy { get; init; } = [];

    /// <summary>Where mail goes in place of a channel's own addresses; null: to those.</summary>
    public string? Mail { get; init; }
    public ImmutableArray<QuietHours> Hours { get; init; } = [];
    public ClosedDays? Away { get; init; }
    public DateTimeZone? Zone { get; init; }

    /// <summary>Why the person is not to be told at an instant, in words that go on after the name; null: they are.</summary>
    public string? WhyNot(Instant at, DateTimeZone usual)
    {
        var zone = Zone ?? usual;
        if (Away?.IsClosed(at.InZone(zone).Date) == true)
            return "is away";
        return Hours.IsEmpty || Hours.Any(h => h.Around(at, zone) is not null) ? null : "is outside their hours";
    }

    public bool Equals(PersonDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>
/// People who take turns. The first is on duty until the second time that <see cref="Changes"/> comes after the beginning of
/// <see cref="First"/>; with each later one the next takes over, and after the last the first again. Local in <see cref="Zone"/> (null: the
/// charter's), so a duty is an hour longer or shorter where the clock changes amid it. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed record RotaDefinition(string Name, ImmutableArray<string> Members, Schedule Changes, LocalDate First)
{
    /// <summary>Who is told while the one on duty is away or outside their hours; null: nobody.</summary>
    public string? StandIn { get; init; }
    public DateTimeZone? Zone { get; init; }

    /// <summary>The earliest day on which a rota can begin; turns are counted from there.</summary>
    public static readonly LocalDate Earliest = new(2020, 1, 1);
    private Known? known;

    /// <summary>The turn found last; turns come in order, and counting them from the beginning takes its time.</summary>
    private sealed record Known(RotaDefinition Of, DateTimeZone Usual, int Count, Turn Turn);

    /// <summary>Whose turn it is at an instant, and from when until when.</summary>
    public Turn TurnAt(Instant at, DateTimeZone usual)
    {
        var last = known is { } k && ReferenceEquals(k.Of, this) && k.Usual.Equals(usual) && at >= k.Turn.From ? k : null;
        if (last is not null && at < last.Turn.Until)
            return last.Turn;
        var zone = Zone ?? usual;
        var start = First.AtStartOfDayInZone(zone).ToInstant();
        var upTo = Instant.Max(at, start);
        // What falls on the beginning itself is counted too. Whoever asks for later turns goes on from the one found last.
        var (count, from, after) = last is { Count: > 0 }
            ? (last.Count, last.Turn.From, last.Turn.Until - Duration.Epsilon)
            : (0, Instant.MinValue, start - Duration.Epsilon);
        foreach (var change in DueInstants.Between(Changes, zone, after, upTo))
            (count, from) = (count + 1, count == 0 ? Instant.MinValue : change);
        var until = DueInstants.Next(Changes, zone, upTo);
        // The first turn begins with the rota, so the first change ends none.
        if (count == 0 && until is { } first)
            until = DueInstants.Next(Changes, zone, first);
        var turn = new Turn(Members[Math.Max(count - 1, 0) % Members.Length], from, until ?? Instant.MaxValue);
        known = new Known(this, usual, count, turn);
        return turn;
    }

    /// <summary>When the first change comes, with which the first takes over.</summary>
    public Instant Begins(DateTimeZone usual)
    {
        var zone = Zone ?? usual;
        var start = First.AtStartOfDayInZone(zone).ToInstant();
        return DueInstants.Next(Changes, zone, start - Duration.Epsilon) ?? start;
    }

    /// <summary>The turns that touch a span of time, in order.</summary>
    public IEnumerable<Turn> Turns(Instant from, Instant until, DateTimeZone usual)
    {
        for (var turn = TurnAt(from, usual); ; turn = TurnAt(turn.Until, usual))
        {
            yield return turn;
            if (turn.Until >= until)
                yield break;
        }
    }

    public bool Equals(RotaDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>A person's turn on a rota, [from, until); the first has no beginning, and one that nothing ends has no end.</summary>
public sealed record Turn(string Person, Instant From, Instant Until);

/// <summary>
/// Who is told of what: all alerts to which every condition applies that the route names (one that names none takes every alert), told to
/// people, rotas and channels. Several routes may take one alert. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed record RouteDefinition(string Name)
{
    public ImmutableArray<Severity> Severities { get; init; } = [];
    public ImmutableArray<AlertClass> Classes { get; init; } = [];
    public ImmutableArray<string> Tags { get; init; } = [];
    public ImmutableArray<string> Jobs { get; init; } = [];
    public ImmutableArray<string> Machines { get; init; } = [];
    public ImmutableArray<string> Stores { get; init; } = [];

    /// <summary>Names of people, rotas and channels.</summary>
    public ImmutableArray<string> Tells { get; init; } = [];

    /// <summary>Whether the end of every run that the route takes is told too.</summary>
    public TellWhen TellWhen { get; init; }

    /// <summary>When what was gathered is told, in the charter's zone; null: each at once.</summary>
    public Schedule? Digest { get; init; }

    /// <summary>After how long an alert that nobody has seen is told to <see cref="ThenTells"/> as well; null: never.</summary>
    public Span? UnseenFor { get; init; }
    public ImmutableArray<string> ThenTells { get; init; } = [];

    public bool Equals(RouteDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>
/// Hours of planned work, in which alerts of what it covers are written down and not told; afterwards one message sums them up. Begins with
/// each time of <see cref="When"/>, in the charter's zone. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed record MaintenanceWindow(string Name, Schedule When, Span Lasts)
{
    /// <summary>Whether it covers everything; otherwise what any of the lists names.</summary>
    public bool Everything { get; init; }
    public ImmutableArray<string> Tags { get; init; } = [];
    public ImmutableArray<string> Machines { get; init; } = [];
    public ImmutableArray<string> Stores { get; init; } = [];
    public string? Note { get; init; }

    /// <summary>A window that lasted longer than this would be no window.</summary>
    public static readonly Duration Longest = Duration.FromDays(14);

    /// <summary>When the window that an instant lies in ends; null when it lies in none.</summary>
    public Instant? EndAround(Instant at, DateTimeZone zone)
    {
        Instant? end = null;
        foreach (var begins in DueInstants.Between(When, zone, at - Lasts.ToDuration() - Duration.FromHours(2), at))
            if (Lasts.After(begins, zone) is var over && over > at)
                end = over;
        return end;
    }

    public bool Equals(MaintenanceWindow? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}
