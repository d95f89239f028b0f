using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Service.Catalogue;
using IronKeep.Stores.Places;
using Microsoft.AspNetCore.Diagnostics;
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
        TypedResults.Problem(new ProblemDetails { Status = status, Title = title, Detail = detail, Extensions = more ?? new Dictionary<string, object?>() });

    /// <summary>What was thrown becomes an answer: bad input 400 with the exact place, anything else 500 without inner details.</summary>
    public static async Task WriteAsync(HttpContext context)
    {
        var error = context.Features.Get<IExceptionHandlerFeature>()?.Error;
        var guard = context.RequestServices.GetRequiredService<CatalogueGuard>();
        var problem = error is BadHttpRequestException bad
            ? Of(bad.StatusCode, "Not understood", bad.InnerException is JsonException json ? Say(json) : bad.Message)
            : error is NotSupportedException or InvalidOperationException && context.Request.Body is not null && IsCharset(error)
            ? Of(StatusCodes.Status415UnsupportedMediaType, "Not understood", "the body is in a character set that is not known here; send UTF-8")
            : guard.Problem is { } catalogue && error is not null && CatalogueKinds.IsRefusal(error)
            ? Of(StatusCodes.Status503ServiceUnavailable, "Failed", $"nothing can be recorded now: {catalogue}")
            : error is PlaceException or IronKeep.Stores.StoreDamageException or IronKeep.Stores.Keys.StoreKeyException
            ? Refused(error.Message)
            : Of(StatusCodes.Status500InternalServerError, "Failed", "the service failed to answer; the cause is in its log under " + context.TraceIdentifier);
        await problem.ExecuteAsync(context);
    }

    private static bool IsCharset(Exception e) => e.Message.Contains("charset", StringComparison.OrdinalIgnoreCase) || e.Message.Contains("encoding", StringComparison.OrdinalIgnoreCase);

    private static string Say(JsonException e)
    {
        var place = e.LineNumber is { } line ? $" (line {line + 1}, byte {e.BytePositionInLine + 1})" : "";
        var path = string.IsNullOrEmpty(e.Path) || e.Path == "$" ? "" : $" at {e.Path}";
        var message = e.Message.Split(" Path: ")[0].Replace("IronKeep.Contracts.", "", StringComparison.Ordinal);
        return $"the body cannot be read{path}{place}: {message}";
    }
}
