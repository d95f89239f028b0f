using System.Globalization;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>Who would be told of what, and when, before anything happens.</summary>
public static class WhoEndpoints
{
    private const int MostWeeks = 53;
    private const int MostTurns = 500;
    private const int MostHoles = 20;
    private static readonly AlertClass[] OfJobs =
    [
        AlertClass.Stale,
        AlertClass.Failed,
        AlertClass.Missed,
        AlertClass.Overdue,
        AlertClass.Suspect,
        AlertClass.BrakedPrune,
    ];
    private static readonly AlertClass[] OfStores = [AlertClass.Unsound, AlertClass.Failed, AlertClass.Unread, AlertClass.NearlyFull];

    public static void MapWho(this IEndpointRouteBuilder api)
    {
        api.MapGet("/telling/who", Who)
            .WithSummary("Who would be told at an instant of what happens to a job, a store, a machine or the service, and why");
        api.MapGet("/telling/rotas", Rotas).WithSummary("Whose turn it is in the coming weeks, and when a route would reach nobody");
    }

    private static Results<Ok<WhoAnswer>, ProblemHttpResult> Who(
        CharterInForce inForce,
        TimeProvider clock,
        DateTimeOffset? at = null,
        string? job = null,
        string? store = null,
        string? machine = null
    )
    {
        var charter = inForce.Charter;
        if ((store is null ? 0 : 1) + (job is null && machine is null ? 0 : 1) > 1)
            return Problems.Invalid("name one of job, store and machine; with a job the machine says on which it is meant");
        PlacedJob? declared = null;
        if (job is not null && (declared = WhichJob.Of(charter, job, machine, out var problem)) is null)
            return problem!;
        if (store is not null && !charter.Stores.ContainsKey(store))
            return Problems.NotThere("store", store, "stores", " in the charter");
        var instant = at is { } given ? Instant.FromDateTimeOffset(given) : clock.Now();
        if (instant < clock.Now() - Duration.FromDays(3660) || instant > clock.Now() + Duration.FromDays(3660))
            return Problems.Invalid("'at' lies further than ten years away; give a time nearer than that");
        var where = declared is not null ? declared.Machine : machine;
        Told Matter(AlertClass kind) => new(kind, Severities.Of(kind, said: declared?.Severity), job, where, store);
        var classes =
            declared is not null ? OfJobs
            : store is not null ? OfStores
            : Enum.GetValues<AlertClass>();
        var cases = classes
            .Select(kind => (Kind: kind, Matter: Matter(kind), To: Routing.Of(charter, Matter(kind), instant)))
            .GroupBy(c => (c.Matter.Severity, Key(c.To), Key(Routing.Escalations(charter, c.Matter, instant))))
            .OrderByDescending(g => g.Key.Severity)
            .Select(g => new WhoCase(
                g.Key.Severity,
                [.. g.Select(c => c.Kind)],
                [.. g.First().To.Select(t => ToAnswer(charter, t, instant))],
                [
                    .. Routing
                        .Escalations(charter, g.First().Matter, instant)
                        .Select(e => new WhoThen(
                            e.Route,
                            e.At.ToDateTimeOffset(),
                            [.. e.To.Select(t => ToAnswer(charter, new Recipient(t, e.Route, t.Why), e.At))]
                        )),
                ]
            ));
        return TypedResults.Ok(
            new WhoAnswer(
                instant.ToDateTimeOffset(),
                charter.Zone.Id,
                declared is not null ? $"job {job} on {where}"
                    : store is not null ? $"store {store}"
                    : machine is not null ? $"machine {machine}"
                    : "anything else",
                Routing.Maintenance(charter, Matter(classes[0]), instant) is { } window
                    ? $"{window.Name} until {window.At.Local(charter.Zone)}"
                    : null,
                [.. cases],
                declared is null
                    ? []
                    : [.. Routing.OfRunEnd(charter, declared, where!, false, instant).Select(t => ToAnswer(charter, t, instant))]
            )
        );
    }

    private static string Key(IEnumerable<Recipient> to) =>
        string.Join('\n', to.Select(t => $"{t.To.Channel} {t.To.Mail} {t.Route} {t.Gathered?.Name}"));

    private static string Key(IEnumerable<Escalation> then) => string.Join('\n', then.Select(e => e.Route));

    private static WhoRecipient ToAnswer(Charter charter, Recipient to, Instant at) =>
        new(
            to.To.Channel,
            to.To.Mail ?? ChannelEndpoints.ToOf(charter.Channels[to.To.Channel]),
            to.To.Person,
            to.To.Rota,
            to.Route,
            to.Why,
            (to.Gathered?.At ?? at).ToDateTimeOffset(),
            to.Gathered?.Name
        );

    private static Results<Ok<RotasAnswer>, ProblemHttpResult> Rotas(
        CharterInForce inForce,
        TimeProvider clock,
        DateTimeOffset? from = null,
        int weeks = 5
    )
    {
        if (weeks is < 1 or > MostWeeks)
            return Problems.Invalid($"'weeks' goes from 1 to {MostWeeks}");
        var charter = inForce.Charter;
        var begin = from is { } given ? Instant.FromDateTimeOffset(given) : clock.Now();
        if (begin < clock.Now() - Duration.FromDays(3660) || begin > clock.Now() + Duration.FromDays(3660))
            return Problems.Invalid("'from' lies further than ten years away; give a time nearer than that");
        var end = begin + Duration.FromDays(7 * weeks);
        var rotas = charter.Rotas.Values.Select(rota => new RotaAnswer(
            rota.Name,
            (rota.Zone ?? charter.Zone).Id,
            rota.Changes.ToSentence(),
            rota.StandIn,
            [
                .. rota.Turns(begin, end, charter.Zone)
                    .Take(MostTurns)
                    .Select(t => new TurnAnswer(
                        t.Person,
                        t.From == Instant.MinValue ? null : t.From.ToDateTimeOffset(),
                        t.Until == Instant.MaxValue ? null : t.Until.ToDateTimeOffset(),
                        charter.People[t.Person].WhyNot(Instant.Max(t.From, begin), charter.Zone)
                    )),
            ]
        ));
        return TypedResults.Ok(
            new RotasAnswer(begin.ToDateTimeOffset(), end.ToDateTimeOffset(), [.. rotas], [.. HolesOf(charter, begin, end).Take(MostHoles)])
        );
    }

    private static IEnumerable<HoleAnswer> HolesOf(Charter charter, Instant from, Instant until)
    {
        foreach (var route in charter.Routes.Values)
            for (var begin = from; Holes.First(charter, route.Tells, begin, until) is { } hole; begin = hole.Until)
            {
                yield return new HoleAnswer(route.Name, hole.From.ToDateTimeOffset(), hole.Until.ToDateTimeOffset());
                if (hole.Until >= until)
                    break;
            }
    }
}
