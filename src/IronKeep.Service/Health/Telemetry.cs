using System.Net.Http.Headers;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Service.Telling;
using Microsoft.Extensions.Options;
using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;

namespace IronKeep.Service.Health;

/// <summary>
/// Traces and figures sent to a collector over OTLP, where <see cref="ServiceSettings.TelemetryTo"/> names one. What cannot be sent is
/// dropped and holds up nothing; that it is dropped is logged once, and is a finding of the self-check.
/// </summary>
public static class Telemetry
{
    /// <summary>How often figures are sent.</summary>
    private static readonly TimeSpan Every = TimeSpan.FromMinutes(1);

    /// <summary>The collector has so long for an answer.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    public static void AddTelemetry(this IServiceCollection services, ServiceSettings settings)
    {
        services.AddSingleton<TelemetryLink>();
        if (settings.TelemetryTo.Length == 0)
            return;
        services.AddSingleton<SentFigures>();
        var to = settings.TelemetryTo.TrimEnd('/');
        services
            .AddOpenTelemetry()
            .ConfigureResource(r =>
                r.Clear()
                    .AddService("ironkeep", serviceVersion: SelfCheck.Version, autoGenerateServiceInstanceId: false)
                    .AddDetector(s => new OwnName(s.GetRequiredService<IOptions<ServiceSettings>>()))
            )
            .WithTracing(t =>
                t.AddSource(Traces.Name)
                    .AddProcessor(s => new BatchActivityExportProcessor(new OtlpTraceExporter(Options(s, to + "/v1/traces"))))
            )
            .WithMetrics(m =>
                m.AddMeter(Traces.Name)
                    .AddMeter("System.Runtime")
                    .AddReader(s =>
                    {
                        s.GetRequiredService<SentFigures>();
                        return new PeriodicExportingMetricReader(
                            new OtlpMetricExporter(Options(s, to + "/v1/metrics")),
                            (int)Every.TotalMilliseconds
                        );
                    })
            );
    }

    private static OtlpExporterOptions Options(IServiceProvider services, string to) =>
        new()
        {
            Endpoint = new Uri(to),
            Protocol = OtlpExportProtocol.HttpProtobuf,
            TimeoutMilliseconds = (int)Patience.TotalMilliseconds,
            // What the environment says for others is not said to this collector.
            Headers = "",
            HttpClientFactory = () =>
                new HttpClient(
                    new Envelope(
                        services.GetRequiredService<TelemetryLink>(),
                        services.GetRequiredService<IOptions<ServiceSettings>>().Value.TelemetryTokenFile
                    )
                )
                {
                    Timeout = Patience,
                },
        };

    /// <summary>The machine under the name that the catalogue keeps, which is known when the service has been prepared.</summary>
    private sealed class OwnName(IOptions<ServiceSettings> settings) : IResourceDetector
    {
        public Resource Detect() => new([new("host.name", settings.Value.Machine)]);
    }

    /// <summary>
    /// A trace of each request: its method, its route and how it was answered, never its address, in which codes of check-ins and
    /// calendars may stand.
    /// </summary>
    public static async Task TraceAsync(HttpContext http, RequestDelegate next)
    {
        if (!Traces.Source.HasListeners() || http.GetEndpoint() is not RouteEndpoint { RoutePattern.RawText: { } route })
        {
            await next(http);
            return;
        }
        var method = http.GetEndpoint()!.Metadata.GetMetadata<IHttpMethodMetadata>()?.HttpMethods is [var only] ? only : "any";
        var trace = Traces.Begin($"{method} /{route.TrimStart('/')}");
        var status = StatusCodes.Status500InternalServerError;
        try
        {
            await next(http);
            status = http.Response.StatusCode;
        }
        finally
        {
            trace.End(status >= 500 ? "failed" : null, ("status", status));
        }
    }

    /// <summary>Puts the token on what is sent, read anew each time, and notes how the sending ended.</summary>
    private sealed class Envelope(TelemetryLink link, string tokenFile)
        : DelegatingHandler(new SocketsHttpHandler { AllowAutoRedirect = false })
    {
        protected override HttpResponseMessage Send(HttpRequestMessage request, CancellationToken cancel)
        {
            try
            {
                Sign(request);
                return Judged(base.Send(request, cancel));
            }
            catch (Exception e)
            {
                link.Note(Sentence(e));
                throw;
            }
        }

        // The exporter sends from a thread of its own, which may wait.
        protected override Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken cancel) =>
            Task.FromResult(Send(request, cancel));

        private void Sign(HttpRequestMessage request)
        {
            if (tokenFile.Length > 0)
                request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", Mails.ReadSecret(tokenFile).Trim());
        }

        private HttpResponseMessage Judged(HttpResponseMessage response)
        {
            link.Note(response.IsSuccessStatusCode ? null : $"it answered {(int)response.StatusCode}");
            return response;
        }

        private static string Sentence(Exception e) =>
            e is OperationCanceledException ? $"it did not answer within {Patience.TotalSeconds:0} s" : e.Message;
    }
}

/// <summary>How the sending of traces and figures goes.</summary>
public sealed class TelemetryLink(IOptions<ServiceSettings> settings, ILogger<TelemetryLink> log)
{
    private readonly Lock gate = new();
    private bool isSent;
    private string? problem;

    /// <summary>What the self-check says of it; null: nothing is to be sent.</summary>
    public (FindingState State, string Sentence)? Finding
    {
        get
        {
            var to = settings.Value.TelemetryTo;
            if (to.Length == 0)
                return null;
            lock (gate)
                return problem is { } p
                        ? (
                            FindingState.Warned,
                            $"traces and figures do not reach {to} and are dropped: {p}; mend the collector, or correct "
                                + "IronKeep:TelemetryTo"
                        )
                    : isSent ? (FindingState.Well, $"traces and figures go to {to}")
                    : (FindingState.Well, $"nothing was sent to {to} yet");
        }
    }

    /// <summary>Notes how a sending ended; null: well.</summary>
    public void Note(string? trouble)
    {
        lock (gate)
        {
            if (trouble is not null && problem is null)
                log.LogWarning(
                    "Traces and figures do not reach {Collector} and are dropped: {Problem}",
                    settings.Value.TelemetryTo,
                    trouble
                );
            else if (trouble is null && problem is not null)
                log.LogInformation("Traces and figures reach {Collector} again", settings.Value.TelemetryTo);
            (isSent, problem) = (isSent || trouble is null, trouble);
        }
    }
}
