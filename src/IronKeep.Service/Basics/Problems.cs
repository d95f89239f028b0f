using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Mvc;

namespace IronKeep.Service.Basics;

/// <summary>Refusals on the wire: RFC 9457 problem details whose detail names the thing, the cause and the way out.</summary>
public static class Problems
{
    public static ProblemHttpResult NotFound(string what) => Of(StatusCodes.Status404NotFound, "Not found", what);

    public static ProblemHttpResult Invalid(string what) => Of(StatusCodes.Status400BadRequest, "Not understood", what);

    public static ProblemHttpResult Refused(string what) => Of(StatusCodes.Status409Conflict, "Refused", what);

    public static ProblemHttpResult Of(int status, string title, string detail, IDictionary<string, object?>? more = null) =>
        TypedResults.Problem(
            new ProblemDetails
            {
                Status = status,
                Title = title,
                Detail = detail,
                Extensions = more ?? new Dictionary<string, object?>(),
            }
        );
}
