using System.Net;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Connections.Features;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.AspNetCore.Server.Kestrel.Https;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Machines;

/// <summary>
/// Where agents come: an address of their own, TLS only, apart from console and client, so that whoever reaches it can ask nothing else.
/// An agent shows its key with each connection; no name, password or token means anything here.
/// </summary>
public sealed class AgentListening(
    IOptions<ServiceSettings> settings,
    AgentDesk desk,
    TimeProvider clock,
    ILoggerFactory logs,
    ILogger<AgentListening> log
) : IHostedService
{
    private const int MostConnections = 10_000,
        MostBody = 1024 * 1024;
    private WebApplication? app;

    /// <summary>The address as agents are told to reach it; null where the service has none.</summary>
    public string? Address { get; private set; }

    /// <summary>The print of the service's key, which a code carries.</summary>
    public byte[] Print { get; private set; } = [];

    public async Task StartAsync(CancellationToken cancellationToken)
    {
        if (settings.Value.AgentListen.Length == 0)
            return;
        var certificate = AgentKey.Take(settings.Value, clock.GetUtcNow());
        Print = KeyPrint.Of(certificate);
        var builder = WebApplication.CreateEmptyBuilder(new WebApplicationOptions());
        builder.Services.AddSingleton(logs);
        builder.Services.AddLogging();
        builder.Services.AddRoutingCore();
        builder.Services.AddSingleton<IMemoryPoolFactory<byte>, WideBlocks.Factory>();
        builder.Services.ConfigureHttpJsonOptions(o => ContractJson.Apply(o.SerializerOptions));
        builder.Services.Configure<Microsoft.AspNetCore.Routing.RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        builder.WebHost.UseKestrelCore().UseKestrelHttpsConfiguration().UseUrls(settings.Value.AgentListen);
        builder.WebHost.ConfigureKestrel(k =>
        {
            k.AddServerHeader = false;
            k.Limits.MaxRequestBodySize = MostBody;
            k.Limits.MaxConcurrentConnections = MostConnections;
            k.ConfigureEndpointDefaults(listen => listen.Use(AdmitAsync));
            k.Limits.RequestHeadersTimeout = TimeSpan.FromSeconds(15);
            k.ConfigureHttpsDefaults(https =>
            {
                https.ServerCertificate = certificate;
                https.ClientCertificateMode = ClientCertificateMode.RequireCertificate;
                // Who it is says the key alone, which TLS has proven; the book knows whose it is.
                https.ClientCertificateValidation = (_, _, _) => true;
                https.HandshakeTimeout = TimeSpan.FromSeconds(15);
                // So the machine's own list of authorities need not be searched for it, which costs more than all the rest.
                https.OnAuthenticate = (_, tls) =>
                    tls.CertificateChainPolicy = new X509ChainPolicy
                    {
                        TrustMode = X509ChainTrustMode.CustomRootTrust,
                        RevocationMode = X509RevocationMode.NoCheck,
                        DisableCertificateDownloads = true,
                    };
            });
        });
        app = builder.Build();
        app.Use(AnswerAsync);
        app.UseRouting();
        app.MapAgents(desk, settings.Value, clock);
        await app.StartAsync(cancellationToken);
        Address = settings.Value.AgentAddress.Length > 0 ? settings.Value.AgentAddress.TrimEnd('/') : Reached();
        log.LogInformation("Agents come to {Address}; the service's key is {Print}", Address, KeyPrint.Show(Print));
    }

    public async Task StopAsync(CancellationToken cancellationToken)
    {
        if (app is null)
            return;
        await app.StopAsync(cancellationToken);
        await app.DisposeAsync();
        app = null;
    }

    /// <summary>The key that a request came with: that of its connection, which is looked at once.</summary>
    internal static byte[] KeyOf(HttpContext http)
    {
        var place = PlaceOf(http);
        if (place?.Print is { } known)
            return known;
        var print = http.Connection.ClientCertificate is { } certificate
            ? KeyPrint.Of(certificate)
            : throw new AgentRefusedException("an agent shows its key with each connection, and this one showed none");
        if (place is not null)
            place.Print = print;
        return print;
    }

    private static ConnectionGate.Place? PlaceOf(HttpContext http) =>
        http.Features.Get<IConnectionItemsFeature>()?.Items.TryGetValue(typeof(ConnectionGate.Place), out var place) == true
            ? (ConnectionGate.Place)place!
            : null;

    /// <summary>Who asks. Throws <see cref="AgentRefusedException"/> for one that may not speak, or not any more.</summary>
    internal static async Task<Agent> CallerAsync(HttpContext http, AgentDesk desk, CancellationToken cancel)
    {
        var known = await desk.Book.OfAsync(KeyOf(http), cancel);
        if (PlaceOf(http) is { } place)
            desk.Gate.Prove(place, known.Machine);
        return known;
    }

    private ConnectionDelegate AdmitAsync(ConnectionDelegate next) =>
        async connection =>
        {
            var from = (connection.RemoteEndPoint as IPEndPoint)?.Address.ToString() ?? "";
            var place = desk.Gate.Enter(from, () => connection.Abort(new ConnectionAbortedException("it makes room for another")));
            connection.Items[typeof(ConnectionGate.Place)] = place;
            try
            {
                await next(connection);
            }
            finally
            {
                desk.Gate.Leave(place);
            }
        };

    /// <summary>The address that is listened on; where that is any of this machine's, under the name of its host.</summary>
    private string Reached()
    {
        var listened = new Uri(app!.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First());
        var any = listened.Host is "0.0.0.0" or "[::]" or "*" or "+";
        return $"https://{(any ? System.Net.Dns.GetHostName() : listened.Host)}:{listened.Port}";
    }

    private async Task AnswerAsync(HttpContext http, RequestDelegate next)
    {
        try
        {
            await next(http);
            if (http.Response.StatusCode == StatusCodes.Status404NotFound && !http.Response.HasStarted)
                await Problems.NotFound($"{http.Request.Method} {http.Request.Path} is nothing that agents may ask").ExecuteAsync(http);
        }
        catch (AgentRefusedException e)
        {
            await Problems.Of(StatusCodes.Status403Forbidden, "Refused", e.Message).ExecuteAsync(http);
        }
        catch (OrderOverException e)
        {
            await Problems.Of(StatusCodes.Status410Gone, "Over", e.Message).ExecuteAsync(http);
        }
        catch (ArrivalRefusedException e)
        {
            var status = e.Fault == ArrivalFault.Absent ? StatusCodes.Status409Conflict : StatusCodes.Status400BadRequest;
            await Problems.Of(status, "Refused", e.Message).ExecuteAsync(http);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            // The store's fault, which the run hears of as well.
            await Problems.Of(StatusCodes.Status503ServiceUnavailable, "Failed", e.Message).ExecuteAsync(http);
        }
        catch (BadHttpRequestException e)
        {
            var what = e.InnerException is JsonException json ? json.Message.Split(" Path: ")[0] : e.Message;
            await Problems.Of(e.StatusCode, "Not understood", what).ExecuteAsync(http);
        }
        catch (OperationCanceledException) when (http.RequestAborted.IsCancellationRequested)
        {
            // It hung up.
        }
        catch (Exception e)
        {
            log.LogError(e, "An agent at {Address} could not be answered", http.Connection.RemoteIpAddress);
            if (!http.Response.HasStarted)
                await Problems
                    .Of(StatusCodes.Status500InternalServerError, "Failed", "the service failed to answer; the cause is in its log")
                    .ExecuteAsync(http);
        }
    }
}
