using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Runtime.InteropServices;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Runs.Surroundings;
using IronKeep.Stores.Sessions;

namespace IronKeep.Agent;

/// <summary>How a contact went wrong.</summary>
internal enum LineFault
{
    /// <summary>Nobody answered, or the line broke; it may work again by itself.</summary>
    Away,

    /// <summary>Whoever answered has another key than the service that this machine joined.</summary>
    Stranger,

    /// <summary>The service does not let this machine speak.</summary>
    Refused,

    /// <summary>What was asked about is over.</summary>
    Over,

    /// <summary>What was sent counts on something that is not there.</summary>
    Absent,

    /// <summary>The service does not take what was sent; it will not take it later either.</summary>
    Wrong,
}

internal sealed class LineException(LineFault fault, string message) : Exception(message)
{
    public LineFault Fault => fault;
}

/// <summary>
/// The way to the service: TLS to the one key that was pinned, with the machine's own key shown. Names and dates of certificates say
/// nothing here; no redirect is followed.
/// </summary>
internal sealed class ServiceLine : IDisposable
{
    private const int MostAnswer = WireAsk.MostAnswer;

    /// <summary>Another with each start of the agent.</summary>
    public string Instance { get; } = Guid.NewGuid().ToString("n");
    private readonly HttpClient http;
    private readonly string address;
    private readonly MachineStanding? standing;
    private string? stranger;

    /// <param name="standing">How this machine stands, which is told with each contact; null: it is not told.</param>
    /// <param name="through">What lies on the way, for a line that is to be slower than it is; null: nothing.</param>
    public ServiceLine(
        string address,
        byte[] servicePrint,
        ECDsa key,
        MachineStanding? standing = null,
        Func<HttpMessageHandler, HttpMessageHandler>? through = null
    )
    {
        (this.address, this.standing) = (address, standing);
        var now = DateTimeOffset.UtcNow;
        var own = new CertificateRequest("CN=ironkeep-agent", key, HashAlgorithmName.SHA256).CreateSelfSigned(
            now.AddDays(-1),
            now.AddYears(1)
        );
        var handler = new SocketsHttpHandler
        {
            AllowAutoRedirect = false,
            UseCookies = false,
            ConnectTimeout = TimeSpan.FromSeconds(15),
            PooledConnectionLifetime = TimeSpan.FromHours(1),
            SslOptions = new SslClientAuthenticationOptions
            {
                ClientCertificates = [own],
                LocalCertificateSelectionCallback = (_, _, _, _, _) => own,
                RemoteCertificateValidationCallback = (_, shown, _, _) =>
                {
                    var print = shown is X509Certificate2 certificate ? KeyPrint.Of(certificate) : [];
                    var same = CryptographicOperations.FixedTimeEquals(print, servicePrint);
                    stranger = same ? null : KeyPrint.Show(print);
                    return same;
                },
            },
        };
        http = new HttpClient(through?.Invoke(handler) ?? handler)
        {
            BaseAddress = new Uri(address),
            // A batch takes its time on a narrow line.
            Timeout = TimeSpan.FromMinutes(5),
            MaxResponseContentBufferSize = MostAnswer,
        };
    }

    /// <summary>How the services stand that are kept up here, which is told with each contact.</summary>
    public Func<IReadOnlyList<ServiceStanding>>? Services { get; set; }

    /// <summary>The mark of what this machine does on its own, which is told with each contact; null: it knows of nothing.</summary>
    public string? Standing { get; set; }

    /// <summary>The mark of the watched jobs that are heard of here, which is told with each contact; null: it knows of none.</summary>
    public string? Hears { get; set; }

    public Task<AgentAnswer> JoinAsync(JoinCode code, CancellationToken cancel) =>
        PostAsync<JoinRequest, AgentAnswer>("join", new JoinRequest(Convert.ToHexStringLower(code.Secret.Span), Self()), cancel);

    /// <summary>Waits for something to do, for some seconds.</summary>
    public Task<OrdersAnswer> OrdersAsync(CancellationToken cancel) => PostAsync<AgentSelf, OrdersAnswer>("orders", Self(), cancel);

    public void Dispose() => http.Dispose();

    private AgentSelf Self() =>
        new(
            Root.Version,
            $"{RuntimeInformation.OSDescription} {RuntimeInformation.OSArchitecture}",
            DateTimeOffset.UtcNow,
            Instance,
            standing?.Now,
            Services?.Invoke(),
            Standing,
            Hears
        );

    /// <summary>Says something in JSON and reads the answer.</summary>
    public async Task<TAnswer> PostAsync<TBody, TAnswer>(string path, TBody body, CancellationToken cancel)
    {
        using var content = new StringContent(AgentJson.Write(body), Encoding.UTF8, new MediaTypeHeaderValue("application/json"));
        var answer = await SendAsync(path, content, cancel);
        try
        {
            return AgentJson.Read<TAnswer>(Encoding.UTF8.GetString(answer));
        }
        catch (JsonException e)
        {
            throw new LineException(LineFault.Away, $"the service at {address} did not answer as it should: {e.Message}");
        }
    }

    /// <summary>Sends bytes at a pace and gives those of the answer.</summary>
    public async Task<byte[]> PostBytesAsync(string path, ReadOnlyMemory<byte> body, LinePace pace, CancellationToken cancel)
    {
        using var content = pace.Body(body);
        content.Headers.ContentType = new MediaTypeHeaderValue("application/octet-stream");
        return await SendAsync(path, content, cancel);
    }

    private async Task<byte[]> SendAsync(string path, HttpContent content, CancellationToken cancel)
    {
        try
        {
            using var response = await http.PostAsync(new Uri("agent/v1/" + path, UriKind.Relative), content, cancel);
            var answer = await response.Content.ReadAsByteArrayAsync(cancel);
            if (response.IsSuccessStatusCode)
                return answer;
            throw new LineException(
                response.StatusCode switch
                {
                    HttpStatusCode.Forbidden => LineFault.Refused,
                    HttpStatusCode.Gone => LineFault.Over,
                    HttpStatusCode.Conflict => LineFault.Absent,
                    HttpStatusCode.BadRequest or HttpStatusCode.NotFound or HttpStatusCode.RequestEntityTooLarge => LineFault.Wrong,
                    _ => LineFault.Away,
                },
                Detail(Encoding.UTF8.GetString(answer)) ?? $"the service at {address} answered {(int)response.StatusCode}"
            );
        }
        catch (HttpRequestException e) when (e.InnerException is AuthenticationException && stranger is { } print)
        {
            throw new LineException(
                LineFault.Stranger,
                $"whoever answers at {address} is not the service that the code is of: its key is {print}. Nothing was told to it. Look "
                    + $"whether the address is right; if the service's key was replaced, join again with a new code"
            );
        }
        catch (HttpRequestException e)
        {
            throw new LineException(LineFault.Away, $"the service at {address} cannot be reached: {Innermost(e).Message}");
        }
        catch (IOException e)
        {
            throw new LineException(LineFault.Away, $"the service at {address} did not answer as it should: {e.Message}");
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new LineException(LineFault.Away, $"the service at {address} did not answer within {http.Timeout.TotalSeconds:0} s");
        }
    }

    private static Exception Innermost(Exception e)
    {
        while (e.InnerException is { } inner)
            e = inner;
        return e;
    }

    private static string? Detail(string text)
    {
        try
        {
            return AgentJson.Read<Refusal>(text).Detail;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
