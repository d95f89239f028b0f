using System.Security.Cryptography;
using System.Text;
using IronKeep.Service.Basics;
using IronKeep.Service.Telling;
using Microsoft.Extensions.Options;
using Prometheus;

namespace IronKeep.Service.Health;

/// <summary>The figures at <c>/metrics</c>, for the bearer of a token of their own, which opens nothing else.</summary>
public static class MetricsEndpoint
{
    private const string Bearer = "Bearer ";

    public static void MapMetrics(this WebApplication app) =>
        app.MapGet("/metrics", AnswerAsync).AllowAnonymous().RequireRateLimiting(SignIn.SignInRules.CalendarReads).ExcludeFromDescription();

    private static async Task<IResult> AnswerAsync(
        HttpContext http,
        KeepMetrics metrics,
        IOptions<ServiceSettings> settings,
        ILogger<KeepMetrics> log,
        CancellationToken cancel
    )
    {
        if (settings.Value.MetricsTokenFile is not { Length: > 0 } file)
            return Problems.NotFound(
                "figures are not given out; name a file with a token for them in the setting IronKeep:MetricsTokenFile"
            );
        string token;
        try
        {
            token = Mails.ReadSecret(file).Trim();
        }
        catch (ChannelFailedException e)
        {
            log.LogWarning("The token for figures cannot be read: {Problem}", e.Message);
            token = "";
        }
        var header = http.Request.Headers.Authorization.ToString();
        var given = header.StartsWith(Bearer, StringComparison.OrdinalIgnoreCase) ? header[Bearer.Length..].Trim() : "";
        // A file without a token opens nothing, whatever is given.
        if (token.Length == 0 || !CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(token), Encoding.UTF8.GetBytes(given)))
        {
            http.Response.Headers.WWWAuthenticate = "Bearer";
            return Problems.Of(
                StatusCodes.Status401Unauthorized,
                "Not signed in",
                "figures are given to the bearer of their own token; send it as 'Authorization: Bearer …'"
            );
        }
        var open = http.Request.Headers.Accept.ToString().Contains("application/openmetrics-text", StringComparison.Ordinal);
        http.Response.Headers.CacheControl = "no-store";
        return Results.Bytes(
            await metrics.WriteAsync(open ? ExpositionFormat.OpenMetricsText : ExpositionFormat.PrometheusText, cancel),
            open ? "application/openmetrics-text; version=1.0.0; charset=utf-8" : "text/plain; version=0.0.4; charset=utf-8"
        );
    }
}
