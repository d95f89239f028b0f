using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Telling;

/// <summary>A time at which none of those who should be told is within their hours: [from, until).</summary>
public sealed record Hole(Instant From, Instant Until);

/// <summary>
/// Looks for times at which nobody is told. Whether anybody is changes only where hours begin or end, a day begins, or a rota changes, so
/// these are looked at and nothing between them.
/// </summary>
public static class Holes
{
    /// <summary>How far a charter is looked at, from the day on which the first of its rotas begins: over both clock changes.</summary>
    public static readonly Duration Year = Duration.FromDays(53 * 7);

    /// <summary>The first hole of a span for these names of people, rotas and channels; null when somebody is told at all times.</summary>
    public static Hole? First(Charter charter, IReadOnlyCollection<string> names, Instant from, Instant until)
    {
        if (names.Count == 0 || names.Any(charter.Channels.ContainsKey))
            return null;
        Instant? begins = null;
        foreach (var at in Edges(charter, names, from, until))
        {
            var reached = Addressees.ReachesAnybody(charter, names, at);
            if (!reached)
                begins ??= at;
            else if (begins is { } hole)
                return new Hole(hole, at);
        }
        return begins is { } open ? new Hole(open, until) : null;
    }

    /// <summary>From when on a charter is looked at for these names: where all of the rotas have begun.</summary>
    public static Instant Beginning(Charter charter, IEnumerable<string> names) =>
        names
            .Select(n => charter.Rotas.GetValueOrDefault(n)?.Begins(charter.Zone))
            .OfType<Instant>()
            .DefaultIfEmpty(RotaDefinition.Earliest.AtStartOfDayInZone(charter.Zone).ToInstant())
            .Max();

    /// <summary>The charter without the days on which people are away, which come and go: what holds in every week.</summary>
    public static Charter WithoutDaysAway(Charter charter) =>
        charter with
        {
            People = charter.People.Values.Aggregate(charter.People, (all, p) => all.SetItem(p.Name, p with { Away = null })),
        };

    private static SortedSet<Instant> Edges(Charter charter, IReadOnlyCollection<string> names, Instant from, Instant until)
    {
        var edges = new SortedSet<Instant> { from };
        var rotas = names.Select(n => charter.Rotas.GetValueOrDefault(n)).OfType<RotaDefinition>().ToList();
        foreach (var rota in rotas)
            edges.UnionWith(DueInstants.Between(rota.Changes, rota.Zone ?? charter.Zone, from, until));
        var people = names
            .Concat(rotas.SelectMany(r => r.StandIn is { } standIn ? r.Members.Add(standIn) : r.Members))
            .Distinct()
            .Select(n => charter.People.GetValueOrDefault(n))
            .OfType<PersonDefinition>();
        foreach (var person in people)
        {
            var zone = person.Zone ?? charter.Zone;
            var (first, last) = (from.InZone(zone).Date, until.InZone(zone).Date);
            for (var day = first; day <= last; day = day.PlusDays(1))
            {
                if (person.Away is not null)
                    edges.Add(day.AtStartOfDayInZone(zone).ToInstant());
                foreach (var hours in person.Hours)
                {
                    edges.Add((day + hours.From).InZoneLeniently(zone).ToInstant());
                    edges.Add((day + hours.To).InZoneLeniently(zone).ToInstant());
                }
            }
        }
        edges.RemoveWhere(e => e < from || e >= until);
        return edges;
    }
}
