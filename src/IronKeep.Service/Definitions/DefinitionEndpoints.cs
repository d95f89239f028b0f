using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace IronKeep.Service.Definitions;

public static class DefinitionEndpoints
{
    public static void MapDefinitions(this IEndpointRouteBuilder api)
    {
        var definitions = api.MapGroup("/definitions");
        definitions
            .MapGet("", (DefinitionDesk desk) => TypedResults.Ok(desk.All()))
            .WithSummary("Every object of the charter in force, one by one");
        definitions
            .MapGet(
                "/{kind}/{name}",
                Results<Ok<DefinitionAnswer>, ProblemHttpResult> (string kind, string name, DefinitionDesk desk, HttpContext http) =>
                {
                    if (desk.Find(kind, name) is not { } found)
                        return Missing(kind, name);
                    http.Response.Headers.ETag = found.Tag;
                    return TypedResults.Ok(found);
                }
            )
            .WithSummary("One object of the charter; its ETag guards changes");
        definitions
            .MapPost(
                "/{kind}/{name}/preview",
                async Task<Results<Ok<PreviewAnswer>, ProblemHttpResult>> (
                    string kind,
                    string name,
                    DefinitionRequest request,
                    DateTimeOffset? on,
                    DefinitionDesk desk,
                    Effects effects,
                    TimeProvider clock,
                    CancellationToken cancel
                ) =>
                    BadKind(kind, name)
                    ?? TooFar(on, clock)
                    ?? (Results<Ok<PreviewAnswer>, ProblemHttpResult>)
                        TypedResults.Ok(
                            await effects.OfAsync(
                                kind,
                                name,
                                desk.With(kind, name, request),
                                on is { } later ? Instant.FromDateTimeOffset(later) : null,
                                cancel
                            )
                        )
            )
            .WithSummary("What saving these fields would mean, now or on a later date; nothing is changed");
        definitions
            .MapPut(
                "/{kind}/{name}",
                (
                    string kind,
                    string name,
                    DefinitionRequest request,
                    DefinitionDesk desk,
                    CharterDesk charter,
                    Consequences consequences,
                    CharterInForce inForce,
                    HttpContext http,
                    CancellationToken cancel,
                    bool confirm = false
                ) => SaveAsync(kind, name, request, confirm, desk, charter, consequences, inForce, http, cancel)
            )
            .WithSummary("Saves one object. If-Match with its ETag changes one that is there, If-None-Match: * makes a new one");
        definitions
            .MapDelete(
                "/{kind}/{name}",
                (
                    string kind,
                    string name,
                    DefinitionDesk desk,
                    CharterDesk charter,
                    Consequences consequences,
                    CharterInForce inForce,
                    HttpContext http,
                    CancellationToken cancel,
                    bool confirm = false
                ) => SaveAsync(kind, name, null, confirm, desk, charter, consequences, inForce, http, cancel)
            )
            .WithSummary("Takes one object out of the charter; needs If-Match. Copies stay where they are");
    }

    private static ProblemHttpResult Missing(string kind, string name) => Problems.NotThere(kind, name, "definitions", " in the charter");

    private static ProblemHttpResult? BadKind(string kind, string name)
    {
        if (kind == CharterFields.Settings)
            return name == DefinitionDesk.SettingsName
                ? null
                : Problems.NotFound($"the settings have the name '{DefinitionDesk.SettingsName}'");
        if (CharterFields.Sections.All(s => s.Kind != kind))
            return Problems.NotFound(
                $"'{kind}' is not a kind of object; use {string.Join(", ", CharterFields.Sections.Select(s => s.Kind))} or "
                    + $"{CharterFields.Settings}"
            );
        return CharterReader.IsName(name)
            ? null
            : Problems.Invalid($"'{name}' cannot be a name; use lower-case letters, digits and hyphens, at most 63");
    }

    private static ProblemHttpResult? TooFar(DateTimeOffset? on, TimeProvider clock) =>
        on is { } date && (date <= clock.GetUtcNow() || date > clock.GetUtcNow().AddDays(Effects.MostDaysAhead + 1))
            ? Problems.Of(
                StatusCodes.Status400BadRequest,
                "Not understood",
                $"the date {date:u} is not within the coming {Effects.MostDaysAhead} days",
                ProblemCodes.TooFarAhead,
                "POST /api/v1/forecast/copies looks further",
                (ProblemCodes.Days, $"{Effects.MostDaysAhead}")
            )
            : null;

    private static async Task<Results<Ok<CharterDiffAnswer>, ProblemHttpResult>> SaveAsync(
        string kind,
        string name,
        DefinitionRequest? request,
        bool confirm,
        DefinitionDesk desk,
        CharterDesk charter,
        Consequences consequences,
        CharterInForce inForce,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (BadKind(kind, name) is { } bad)
            return bad;
        if (request is null && kind == CharterFields.Settings)
            return Problems.Refused("the settings cannot be taken out; save them with the fields that they are to have");
        var revision = inForce.Revision;
        var there = desk.Find(kind, name);
        if (request is null && there is null)
            return Missing(kind, name);
        if (Guard(http, kind, name, there) is { } refused)
            return refused;
        var draft = desk.With(kind, name, request);
        if (draft.Reading.Charter is null)
            return Problems.Of(
                StatusCodes.Status400BadRequest,
                "Not understood",
                $"{kind} {name} cannot be {(request is null ? "taken out" : "saved")}: {draft.Mistakes[0].Message}",
                new Dictionary<string, object?>
                {
                    ["mistakes"] = draft
                        .Mistakes.Select(m => new MistakeAnswer(
                            0,
                            m.Position + 1,
                            m.Field is null ? m.About : $"{m.About}, {m.Field}",
                            m.Message
                        ))
                        .ToList(),
                    ["fields"] = draft.Mistakes,
                }
            );
        var changes = CharterAnswers.ToAnswers(charter.Compare(draft.Reading.Charter));
        var means = await consequences.OfAsync(draft.Reading.Charter, cancel);
        if (means.Count > 0 && !confirm)
            return CharterEndpoints.Unconfirmed(means);
        if ((await charter.ApplyAsync(draft.Reading, revision, http.User.Identity!.Name!, cancel)).Problem is { } problem)
            return Problems.Refused(problem);
        if (desk.Find(kind, name) is { } saved)
            http.Response.Headers.ETag = saved.Tag;
        return TypedResults.Ok(new CharterDiffAnswer(inForce.Revision, changes, means));
    }

    /// <summary>Whoever changes an object says which state of it he saw (RFC 9110, section 13; RFC 6585 for 428).</summary>
    private static ProblemHttpResult? Guard(HttpContext http, string kind, string name, DefinitionAnswer? there)
    {
        var match = http.Request.Headers.IfMatch.ToString();
        var isNew = http.Request.Headers.IfNoneMatch.ToString() == "*";
        if (there is null)
            return isNew
                ? null
                : Of(
                    match.Length > 0 ? StatusCodes.Status412PreconditionFailed : StatusCodes.Status428PreconditionRequired,
                    $"there is no {kind} {name} yet",
                    ProblemCodes.NotThere,
                    "make it with the header If-None-Match: *"
                );
        if (isNew)
            return Of(
                StatusCodes.Status412PreconditionFailed,
                $"there is a {kind} {name} already",
                ProblemCodes.ExistsAlready,
                $"look at it, and change it with the header If-Match: {there.Tag}"
            );
        if (match.Length == 0)
            return Of(
                StatusCodes.Status428PreconditionRequired,
                $"which state of {kind} {name} is to be changed was not said",
                ProblemCodes.ChangedMeanwhile,
                "send its ETag as If-Match"
            );
        return match == there.Tag
            ? null
            : Of(
                StatusCodes.Status412PreconditionFailed,
                $"{kind} {name} was changed by somebody since you looked at it",
                ProblemCodes.ChangedMeanwhile,
                $"read it again, and send its ETag as If-Match"
            );

        ProblemHttpResult Of(int status, string what, string code, string api) =>
            Problems.Of(status, "Refused", what, code, api, (ProblemCodes.Kind, kind), (ProblemCodes.Name, name));
    }
}
