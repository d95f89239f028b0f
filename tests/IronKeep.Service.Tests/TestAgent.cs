using System.Buffers.Binary;
using System.Net;
using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Service.Machines;
using IronKeep.Stores.Places;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>An agent as the service meets it: a key, and whatever it likes to say. It believes any service.</summary>
internal sealed class TestAgent : IDisposable
{
    private readonly HttpClient http;
    private readonly Bench bench;

    public TestAgent(Bench bench, ECDsa? key = null, bool shows = true)
    {
        this.bench = bench;
        Key = key ?? ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var own = AgentKey.Certificate(Key, "agent", DateTimeOffset.UtcNow);
        http = new HttpClient(
            new SocketsHttpHandler
            {
                Expect100ContinueTimeout = TimeSpan.FromSeconds(30),
                SslOptions = new SslClientAuthenticationOptions
                {
                    ClientCertificates = shows ? [own] : null,
                    LocalCertificateSelectionCallback = shows ? (_, _, _, _, _) => own : null,
                    RemoteCertificateValidationCallback = (_, shown, _, _) =>
                    {
                        ServicePrint = Core.Machines.KeyPrint.Of((X509Certificate2)shown!);
                        return ServicePrint.Length > 0;
                    },
                },
            }
        )
        {
            BaseAddress = new Uri(bench.Services.GetRequiredService<AgentListening>().Address!),
        };
    }

    public ECDsa Key { get; }

    /// <summary>The print of the key that the service showed.</summary>
    public byte[] ServicePrint { get; private set; } = [];

    /// <summary>A machine that joined.</summary>
    public static async Task<TestAgent> JoinedAsync(Bench bench, string machine)
    {
        var agent = new TestAgent(bench);
        await agent.SayAsync<AgentAnswer>("join", new JoinRequest(await SecretAsync(bench, machine), agent.Self()));
        return agent;
    }

    /// <summary>The secret of a new code for a machine, as the agent sends it.</summary>
    public static async Task<string> SecretAsync(Bench bench, string machine)
    {
        var answer = await bench.SendAsync<EnrolmentAnswer>(HttpMethod.Post, $"machines/{machine}/enrolment");
        Assert.True(Core.Machines.JoinCode.TryParse(answer.Code, out var code, out _));
        return Convert.ToHexStringLower(code.Secret.Span);
    }

    public AgentSelf Self(double ahead = 0) =>
        new("1.2.3", "Debian 12", bench.Clock.Now.AddSeconds(ahead), State: Stands, Services: Services);

    /// <summary>How its machine stands, as it says with each contact.</summary>
    public Core.Machines.MachineState? Stands { get; set; }
    public IReadOnlyList<Core.Machines.ServiceStanding>? Services { get; set; }

    /// <summary>An agent that answers for its store, and keeps copies that it is to make.</summary>
    public async Task AnswerAsync(
        ServedPlace served,
        CancellationToken stop,
        System.Collections.Concurrent.ConcurrentBag<CopyOrder>? copies = null
    )
    {
        var workers = new List<Task>();
        while (!stop.IsCancellationRequested)
        {
            var answer = await SayAsync<OrdersAnswer>("orders", Self() with { Instance = "one" });
            foreach (var copy in answer.Orders.Where(o => copies?.All(c => c.Token != o.Token) == true))
                copies!.Add(copy);
            foreach (var order in answer.Places!)
            {
                await SayAsync<CopyReportAnswer>($"places/{order.Token}/begin", new OrderBeginRequest("one"));
                workers.Add(WorkAsync(order));
            }
            await Task.Delay(20, CancellationToken.None);
        }

        async Task WorkAsync(PlaceOrder order)
        {
            var (number, said) = (0L, Array.Empty<byte>());
            while (!stop.IsCancellationRequested)
            {
                var (status, bytes) = await BytesAsync($"places/{order.Token}/work", Work(0, number, said));
                if (status == HttpStatusCode.Gone)
                    return;
                (number, said) =
                    bytes.Length < 8 ? (0, []) : (BinaryPrimitives.ReadInt64LittleEndian(bytes), served.Answer(bytes.AsSpan(8)));
            }
        }
    }

    /// <summary>The answer of a worker to a call of this number.</summary>
    public static byte[] Work(byte worker, long number, byte[] answer)
    {
        var body = new byte[9 + answer.Length];
        body[0] = worker;
        BinaryPrimitives.WriteInt64LittleEndian(body.AsSpan(1), number);
        answer.CopyTo(body, 9);
        return body;
    }

    public Task<AgentAnswer> HelloAsync(double ahead = 0) => SayAsync<AgentAnswer>("hello", Self(ahead));

    public async Task<T> SayAsync<T>(string path, object body)
    {
        var (status, text) = await RawAsync(path, JsonSerializer.Serialize(body, body.GetType(), ContractJson.Options));
        Assert.True(status == HttpStatusCode.OK, $"{path}: {status} {text}");
        return JsonSerializer.Deserialize<T>(text, ContractJson.Options)!;
    }

    /// <summary>Says something that is refused, and gives the words of the refusal.</summary>
    public async Task<string> RefusedAsync(string path, object body, HttpStatusCode expected = HttpStatusCode.Forbidden)
    {
        var (status, text) = await RawAsync(path, JsonSerializer.Serialize(body, body.GetType(), ContractJson.Options));
        Assert.True(status == expected, $"{path}: {status} {text}");
        return JsonDocument.Parse(text).RootElement.GetProperty("detail").GetString()!;
    }

    public async Task<(HttpStatusCode Status, string Text)> RawAsync(string path, string body, string method = "POST")
    {
        using var request = new HttpRequestMessage(new HttpMethod(method), path.StartsWith('/') ? path : $"/agent/v1/{path}");
        if (method != "GET")
            request.Content = new StringContent(body, Encoding.UTF8, "application/json");
        // What is too large is refused before it is sent; else the service hangs up in the middle of it.
        request.Headers.ExpectContinue = body.Length > 900_000;
        using var response = await http.SendAsync(request);
        return (response.StatusCode, await response.Content.ReadAsStringAsync());
    }

    /// <summary>Sends bytes and gives those of the answer.</summary>
    public async Task<(HttpStatusCode Status, byte[] Answer)> BytesAsync(string path, byte[] body)
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, $"/agent/v1/{path}") { Content = new ByteArrayContent(body) };
        request.Headers.ExpectContinue = body.Length > 900_000;
        using var response = await http.SendAsync(request);
        return (response.StatusCode, await response.Content.ReadAsByteArrayAsync());
    }

    public void Dispose() => http.Dispose();
}
