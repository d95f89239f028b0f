using System.Net;
using System.Security.Cryptography.X509Certificates;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.HostFiltering;
using Microsoft.AspNetCore.HttpOverrides;
using Microsoft.AspNetCore.Server.Kestrel.Https;

namespace IronKeep.Service.Hosting;

/// <summary>
/// How the service is reached: address, TLS, proxies before it, names under which it may be called, and how much anybody may open at once.
/// </summary>
internal static class Listening
{
    private const int MostBody = 16 * 1024 * 1024;

    /// <summary>Descriptors that connections leave to everything else: stores, the catalogue, logs.</summary>
    private const int Reserve = 512,
        MostConnections = 2000,
        LeastConnections = 64;

    public static void Configure(WebApplicationBuilder builder, ServiceSettings settings)
    {
        builder.WebHost.UseUrls(settings.Listen);
        builder.WebHost.ConfigureKestrel(k =>
        {
            k.AddServerHeader = false;
            k.Limits.MaxRequestBodySize = MostBody;
            k.Limits.MaxConcurrentConnections = Connections();
            k.Limits.RequestHeadersTimeout = TimeSpan.FromSeconds(15);
            k.Limits.KeepAliveTimeout = TimeSpan.FromSeconds(60);
            if (settings.CertificateFile.Length > 0)
            {
                var certificate = new ReloadedCertificate(settings.CertificateFile, settings.CertificateKeyFile);
                k.ConfigureHttpsDefaults(https => https.ServerCertificateSelector = (_, _) => certificate.Current());
            }
        });
        builder.Services.Configure<ForwardedHeadersOptions>(o =>
        {
            o.ForwardedHeaders =
                settings.Proxies.Length == 0
                    ? ForwardedHeaders.None
                    : ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto | ForwardedHeaders.XForwardedHost;
            o.KnownIPNetworks.Clear();
            o.KnownProxies.Clear();
            foreach (var proxy in settings.Proxies)
                o.KnownProxies.Add(IPAddress.Parse(proxy));
        });
        builder.Services.AddHsts(o => o.MaxAge = TimeSpan.FromDays(180));
        builder.Services.Configure<HostFilteringOptions>(o =>
        {
            o.AllowedHosts = [.. Names(settings)];
            o.IncludeFailureMessage = false;
        });
        builder.Services.AddHostFiltering(_ => { });
    }

    public static void Use(WebApplication app)
    {
        app.UseForwardedHeaders();
        app.UseHostFiltering();
        // HSTS is sent where the request came over TLS, here or at the proxy.
        app.UseHsts();
    }

    /// <summary>
    /// On loopback nobody but this machine's own names: another site must not make a browser call the service under a name of its choosing.
    /// </summary>
    private static IEnumerable<string> Names(ServiceSettings settings)
    {
        var given = settings.Hosts.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (given.Length > 0)
            return given.Append("localhost").Append("127.0.0.1").Append("[::1]");
        if (!settings.IsLoopback)
            return ["*"];
        return ["localhost", "127.0.0.1", "[::1]", new Uri(settings.Listen).Host];
    }

    private static int Connections()
    {
        try
        {
            var line = File.ReadLines("/proc/self/limits").First(l => l.StartsWith("Max open files", StringComparison.Ordinal));
            var soft = line.Split(' ', StringSplitOptions.RemoveEmptyEntries)[3];
            return long.TryParse(soft, out var most)
                ? (int)Math.Clamp((most - Reserve) / 2, LeastConnections, MostConnections)
                : MostConnections;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or InvalidOperationException)
        {
            return LeastConnections;
        }
    }

    /// <summary>A certificate that is read anew when its file changes; one that cannot be read leaves the last in use.</summary>
    private sealed class ReloadedCertificate(string file, string key)
    {
        private static readonly TimeSpan LooksEvery = TimeSpan.FromSeconds(10);
        private readonly Lock gate = new();
        private X509Certificate2? current;
        private DateTime read;
        private long looked;

        public X509Certificate2? Current()
        {
            lock (gate)
            {
                if (current is not null && System.Diagnostics.Stopwatch.GetElapsedTime(looked) < LooksEvery)
                    return current;
                looked = System.Diagnostics.Stopwatch.GetTimestamp();
                try
                {
                    var changed = new[] { File.GetLastWriteTimeUtc(file), File.GetLastWriteTimeUtc(key) }.Max();
                    if (current is null || changed != read)
                        (current, read) = (X509Certificate2.CreateFromPemFile(file, key), changed);
                }
                catch (Exception e)
                    when (e
                            is IOException
                                or UnauthorizedAccessException
                                or System.Security.Cryptography.CryptographicException
                                or ArgumentException
                    )
                {
                    if (current is null)
                        throw;
                    Serilog.Log.Warning(
                        "The certificate {File} cannot be read anew: {Problem}; the one before stays in use",
                        file,
                        e.Message
                    );
                }
                return current;
            }
        }
    }
}
