using System.Collections.Immutable;
using IronKeep.Core.Charters;
using NodaTime;

namespace IronKeep.Core.Telling;

/// <summary>
/// Where something is told: a channel, the address that mail goes to (null: the channel's own), the person and the rota by which that came
/// to be, and why, as words that follow "because".
/// </summary>
public sealed record Addressee(string Channel, string? Mail, string? Person, string? Rota, string Why)
{
    /// <summary>What makes two of them one message.</summary>
    public (string, string?) Place => (Channel, Mail);
}

/// <summary>Turns names of people, rotas and channels into where they are told at an instant.</summary>
public static class Addressees
{
    /// <summary>
    /// Each place once, in the order of the names. Somebody is told where there is anybody to tell: when all who are named are away or
    /// outside their hours, those on duty are told all the same.
    /// </summary>
    public static ImmutableArray<Addressee> Of(Charter charter, IEnumerable<string> names, Instant at)
    {
        var all = names as IReadOnlyCollection<string> ?? [.. names];
        var told = Each(charter, all, at, late: false).DistinctBy(a => a.Place).ToImmutableArray();
        return told.IsEmpty ? [.. Each(charter, all, at, late: true).DistinctBy(a => a.Place)] : told;
    }

    /// <summary>Whether anybody is within their hours, so that nobody need be disturbed.</summary>
    public static bool ReachesAnybody(Charter charter, IEnumerable<string> names, Instant at) =>
        Each(charter, names, at, late: false).Any();

    /// <summary>
    /// Whether these names lead to ticket desks and nowhere else, so that nothing but alerts is told; not where there are none.
    /// </summary>
    public static bool TakeAlertsAlone(Charter charter, IReadOnlyCollection<string> names) =>
        names.Count > 0 && names.SelectMany(n => ChannelsOf(charter, n)).All(c => charter.Channels[c].Kind == ChannelKind.Desk);

    private static IEnumerable<string> ChannelsOf(Charter charter, string name) =>
        charter.Channels.ContainsKey(name) ? [name]
        : charter.People.TryGetValue(name, out var person) ? person.ToldBy
        : charter.Rotas.TryGetValue(name, out var rota) ? rota.Members.SelectMany(m => ChannelsOf(charter, m))
        : [];

    private static IEnumerable<Addressee> Each(Charter charter, IEnumerable<string> names, Instant at, bool late)
    {
        foreach (var name in names)
        {
            if (charter.Channels.ContainsKey(name))
                yield return new Addressee(name, null, null, null, $"channel {name} is named");
            else if (charter.People.TryGetValue(name, out var person))
                foreach (var place in Person(charter, person, at, late, null, $"{name} is named"))
                    yield return place;
            else if (charter.Rotas.TryGetValue(name, out var rota))
                foreach (var place in Rota(charter, rota, at, late))
                    yield return place;
        }
    }

    private static IEnumerable<Addressee> Rota(Charter charter, RotaDefinition rota, Instant at, bool late)
    {
        var turn = rota.TurnAt(at, charter.Zone);
        var onDuty = charter.People.GetValueOrDefault(turn.Person);
        var whyNot = onDuty?.WhyNot(at, charter.Zone);
        if (
            whyNot is not null
            && rota.StandIn is { } name
            && charter.People.TryGetValue(name, out var standIn)
            && standIn.WhyNot(at, charter.Zone) is null
        )
            return Person(charter, standIn, at, late, rota.Name, $"{name} stands in on rota {rota.Name} while {turn.Person} {whyNot}");
        return onDuty is null ? [] : Person(charter, onDuty, at, late, rota.Name, $"{turn.Person} is on duty on rota {rota.Name}");
    }

    private static IEnumerable<Addressee> Person(Charter charter, PersonDefinition person, Instant at, bool late, string? rota, string why)
    {
        var whyNot = person.WhyNot(at, charter.Zone);
        if (whyNot is not null && !late)
            yield break;
        if (whyNot is not null)
            why += $", who {whyNot}, and there is nobody else";
        foreach (var channel in person.ToldBy)
            if (charter.Channels.TryGetValue(channel, out var way))
                yield return new Addressee(channel, way.CarriesMail ? person.Mail : null, person.Name, rota, why);
    }
}
