using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Mvc;

namespace IronKeep.Service.Basics;

/// <summary>
/// Refusals on the wire: RFC 9457 problem details whose detail names the thing and the cause for everybody. Where the way out depends on
/// what one asks with, a code and facts go along, by which each client words its own (see <see cref="ProblemCodes"/>), and
/// <c>api</c> says it for whoever calls the API directly.
/// </summary>
public static class Problems
{
    public static ProblemHttpResult NotFound(string what) => Of(StatusCodes.Status404NotFound, "Not found", what);

    /// <summary>There is nothing of that kind by that name; <paramref name="listedAt"/> is the path that lists what there is.</summary>
    public static ProblemHttpResult NotThere(string kind, string name, string listedAt, string where = "", string? words = null) =>
        Of(
            StatusCodes.Status404NotFound,
            "Not found",
            words ?? $"there is no {kind} '{name}'{where}",
            ProblemCodes.NotThere,
            $"GET /api/v1/{listedAt} lists what there is",
            (ProblemCodes.Kind, kind),
            (ProblemCodes.Name, name)
        );

    public static ProblemHttpResult Invalid(string what) => Of(StatusCodes.Status400BadRequest, "Not understood", what);

    public static ProblemHttpResult Refused(string what) => Of(StatusCodes.Status409Conflict, "Refused", what);

    public static ProblemHttpResult Of(int status, string title, string detail, IDictionary<string, object?>? more = null) =>
        TypedResults.Problem(
            new ProblemDetails
            {
                Status = status,
                Title = title,
                Detail = Sentence.Begin(detail),
                Extensions = more ?? new Dictionary<string, object?>(),
            }
        );

    /// <summary>A refusal whose way out is worded by the client.</summary>
    public static ProblemHttpResult Of(
        int status,
        string title,
        string detail,
        string code,
        string api,
        params (string Name, string Value)[] facts
    ) =>
        Of(
            status,
            title,
            detail,
            new Dictionary<string, object?>
            {
                ["code"] = code,
                ["facts"] = facts.ToDictionary(f => f.Name, f => f.Value),
                ["api"] = Sentence.Begin(api),
            }
        );
}
