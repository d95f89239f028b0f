using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Stores.Places;
using Microsoft.AspNetCore.Diagnostics;

namespace IronKeep.Service.Hosting;

/// <summary>What was thrown, as an answer.</summary>
internal static class Failures
{
    /// <summary>What was thrown becomes an answer: bad input 400 with the exact place, anything else 500 without inner details.</summary>
    public static async Task WriteAsync(HttpContext context)
    {
        var error = context.Features.Get<IExceptionHandlerFeature>()?.Error;
        var guard = context.RequestServices.GetRequiredService<CatalogueGuard>();
        var problem =
            error is BadHttpRequestException bad
                ? Problems.Of(bad.StatusCode, "Not understood", bad.InnerException is JsonException json ? Say(json) : bad.Message)
            : error is NotSupportedException or InvalidOperationException && context.Request.Body is not null && IsCharset(error)
                ? Problems.Of(
                    StatusCodes.Status415UnsupportedMediaType,
                    "Not understood",
                    "the body is in a character set that is not known here; send UTF-8"
                )
            : guard.Problem is { } catalogue && error is not null && CatalogueKinds.IsRefusal(error)
                ? Problems.Of(StatusCodes.Status503ServiceUnavailable, "Failed", $"nothing can be recorded now: {catalogue}")
            : error is PlaceException or IronKeep.Stores.StoreDamageException or IronKeep.Stores.Keys.StoreKeyException
                ? Problems.Refused(error.Message)
            : Problems.Of(
                StatusCodes.Status500InternalServerError,
                "Failed",
                "the service failed to answer; the cause is in its log under " + context.TraceIdentifier
            );
        await problem.ExecuteAsync(context);
    }

    private static bool IsCharset(Exception e) =>
        e.Message.Contains("charset", StringComparison.OrdinalIgnoreCase)
        || e.Message.Contains("encoding", StringComparison.OrdinalIgnoreCase);

    private static string Say(JsonException e)
    {
        var place = e.LineNumber is { } line ? $" (line {line + 1}, byte {e.BytePositionInLine + 1})" : "";
        var path = string.IsNullOrEmpty(e.Path) || e.Path == "$" ? "" : $" at {e.Path}";
        var message = e.Message.Split(" Path: ")[0].Replace("IronKeep.Contracts.", "", StringComparison.Ordinal);
        return $"the body cannot be read{path}{place}: {message}";
    }
}
