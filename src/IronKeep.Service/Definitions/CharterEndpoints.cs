using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Definitions;

public static class CharterEndpoints
{
    public static void MapCharter(this IEndpointRouteBuilder api)
    {
        var charter = api.MapGroup("/charter");
        charter
            .MapGet("", async (CharterInForce inForce, KeepContext db, HttpContext http, CancellationToken cancel) =>
            {
                var row = await db.CharterRevisions.AsNoTracking().FirstOrDefaultAsync(r => r.Id == inForce.Revision, cancel);
                http.Response.Headers.ETag = Tag(inForce.Revision);
                return TypedResults.Ok(
                    new CharterAnswer(inForce.Revision, row?.AppliedAt.ToDateTimeOffset(), row?.By, CharterWriter.Write(inForce.Charter))
                );
            })
            .WithSummary("The charter in force, as YAML; its ETag is the revision");
        charter
            .MapGet("/language", () =>
                TypedResults.Ok<IReadOnlyList<CharterKindAnswer>>([
                    Language(CharterFields.Settings, null),
                    .. CharterFields.Sections.Select(s => Language(s.Kind, s.Section)),
                ])
            )
            .WithSummary("The keys that a charter may have, by kind of object: what its readers know");
        charter
            .MapPost("/check", (CharterText text, CharterDesk desk) =>
            {
                var reading = CharterDesk.Check(text.Yaml, desk.Machine);
                return TypedResults.Ok(
                    new CharterCheckAnswer(reading.Charter is not null, CharterAnswers.ToAnswers(reading.Mistakes))
                    {
                        Notes = CharterAnswers.ToAnswers([.. PlaceRules.Notes(reading)]),
                    }
                );
            })
            .WithSummary("Finds every mistake in a charter; nothing is changed");
        charter
            .MapPost(
                "/diff",
                async Task<Results<Ok<CharterDiffAnswer>, ProblemHttpResult>> (
                    CharterText text,
                    CharterDesk desk,
                    Consequences consequences,
                    Reach reach,
                    CharterInForce inForce,
                    CancellationToken cancel
                ) =>
                {
                    var reading = CharterDesk.Check(text.Yaml, desk.Machine);
                    return reading.Charter is null
                        ? CharterAnswers.Mistaken(reading)
                        : TypedResults.Ok(
                            new CharterDiffAnswer(
                                inForce.Revision,
                                CharterAnswers.ToAnswers(desk.Compare(reading.Charter)),
                                await consequences.OfAsync(reading.Charter, cancel)
                            )
                            {
                                Reach = await reach.OfAsync(reading.Charter, cancel),
                            }
                        );
                }
            )
            .WithSummary("What a charter would change; nothing is changed");
        charter
            .MapPut("", ApplyAsync)
            .WithSummary(
                "Puts a charter in force, whole or not at all; If-Match with the ETag refuses to overwrite what another applied since"
            );
    }

    private static async Task<Results<Ok<CharterDiffAnswer>, ProblemHttpResult>> ApplyAsync(
        CharterText text,
        CharterDesk desk,
        Consequences consequences,
        CharterInForce inForce,
        HttpContext http,
        CancellationToken cancel,
        bool confirm = false
    )
    {
        long? expected = null;
        if (http.Request.Headers.IfMatch.ToString() is { Length: > 0 } match)
        {
            if (!match.StartsWith("\"r", StringComparison.Ordinal) || !long.TryParse(match.Trim('"').AsSpan(1), out var revision))
                return Problems.Invalid($"If-Match {match} is not an ETag of the charter; it looks like {Tag(inForce.Revision)}");
            expected = revision;
        }
        var reading = CharterDesk.Check(text.Yaml, desk.Machine);
        if (reading.Charter is null)
            return CharterAnswers.Mistaken(reading);
        var changes = desk.Compare(reading.Charter);
        var means = await consequences.OfAsync(reading.Charter, cancel);
        if (means.Count > 0 && !confirm)
            return Unconfirmed(means);
        if ((await desk.ApplyAsync(reading, expected, http.User.Identity!.Name!, cancel)).Problem is { } problem)
            return Problems.Refused(problem);
        http.Response.Headers.ETag = Tag(inForce.Revision);
        return TypedResults.Ok(new CharterDiffAnswer(inForce.Revision, CharterAnswers.ToAnswers(changes), means));
    }

    internal static ProblemHttpResult Unconfirmed(IReadOnlyList<string> means) =>
        Problems.Of(
            StatusCodes.Status409Conflict,
            "Refused",
            $"this changes what becomes of copies: {string.Join("; ", means)}. If that is meant, say so: '--confirm' with the client, "
                + $"confirm=true in a request",
            new Dictionary<string, object?> { ["consequences"] = means }
        );

    private static CharterKindAnswer Language(string kind, string? section) =>
        new(kind, section, [.. CharterLanguage.Of(kind).Select(k => new CharterKeyAnswer(k.Key, k.IsList, k.Of, k.Choices))]);

    private static string Tag(long revision) => $"\"r{revision}\"";
}
