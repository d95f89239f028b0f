using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using IronKeep.Service.Tests;
using Npgsql;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// Several services on one PostgreSQL, each a process of its own with a data folder and a way to the database of its own.
/// </summary>
internal sealed class SharedServices : IDisposable
{
    private static readonly string Program = Environment.GetEnvironmentVariable("IRONKEEP_PROGRAM")
        ?? Path.Combine(
            Root(),
            "src/IronKeep.Service/bin",
            new DirectoryInfo(AppContext.BaseDirectory).Parent!.Name,
            "net10.0/ironkeepd.dll"
        );
    private readonly List<string> output = [];
    private readonly Process?[] processes;
    private readonly Cuttable[] ways;
    private readonly int[] ports;

    public SharedServices(int count)
    {
        Folder = Directory.CreateTempSubdirectory("shared-").FullName;
        Catalogue = PostgresServer.NewDatabase();
        processes = new Process?[count];
        var at = new NpgsqlConnectionStringBuilder(Catalogue);
        ways = [.. Enumerable.Range(0, count).Select(_ => new Cuttable(at.Port))];
        ports = [.. Enumerable.Range(0, count).Select(_ => Free())];
        Http =
        [
            .. ports.Select(p => new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{p}"), Timeout = TimeSpan.FromSeconds(20) }),
        ];
    }

    public string Folder { get; }
    public string Catalogue { get; }
    public HttpClient[] Http { get; }

    public Cuttable WayOf(int service) => ways[service];

    public bool IsUp(int service) => processes[service] is { HasExited: false };

    public int ProcessOf(int service) => processes[service]!.Id;

    public static string Root()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "IronKeep.slnx")))
            at = Path.GetDirectoryName(at)!;
        return at;
    }

    private static int Free()
    {
        using var listener = new System.Net.Sockets.TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    public void Begin(int service)
    {
        var catalogue = new NpgsqlConnectionStringBuilder(Catalogue) { Port = ways[service].Port }.ConnectionString;
        var process = Process.Start(
            new ProcessStartInfo(
                "dotnet",
                [
                    Program,
                    $"--IronKeep:DataFolder={Folder}/service-{service}",
                    $"--IronKeep:Listen=http://127.0.0.1:{ports[service]}",
                    "--IronKeep:Machine=heron",
                    $"--IronKeep:Catalogue={catalogue}",
                ]
            )
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        void Take(object sender, DataReceivedEventArgs e)
        {
            if (e.Data is not null)
                lock (output)
                    output.Add($"[{service}] {e.Data}");
        }
        process.OutputDataReceived += Take;
        process.ErrorDataReceived += Take;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        processes[service] = process;
    }

    /// <summary>
    /// Waits until a service answers. One that refused to start, because its way to the catalogue was cut just then, is started anew, as a
    /// service manager would.
    /// </summary>
    public async Task ReadyAsync(int service)
    {
        for (var tries = 0; ; tries++)
        {
            if (processes[service] is { HasExited: true, ExitCode: 3 } && tries < 1800)
                Begin(service);
            try
            {
                if ((await Http[service].GetAsync("/health/live")).IsSuccessStatusCode)
                    return;
            }
            catch (Exception e) when (e is HttpRequestException or TaskCanceledException)
            {
                if (processes[service] is { HasExited: true, ExitCode: not 3 } || tries > 1800)
                    throw new InvalidOperationException($"service {service} does not start: {Said(40)}");
            }
            await Task.Delay(100);
        }
    }

    public string Said(int lines)
    {
        lock (output)
            return string.Join('\n', output.TakeLast(lines));
    }

    /// <summary>Signs in at the first service; the token holds at all of them.</summary>
    public async Task SignInAsync()
    {
        string code;
        for (; ; await Task.Delay(50))
        {
            lock (output)
                if (
                    output.Find(l =>
                        l.StartsWith("[0]", StringComparison.Ordinal) && l.Contains("one-time code:", StringComparison.Ordinal)
                    ) is
                    { } line
                )
                {
                    code = line.Split("one-time code:")[1].Trim();
                    break;
                }
        }
        await SendAsync(
            0,
            HttpMethod.Post,
            "first-person",
            new
            {
                code,
                name = "mira",
                password = "a long sentence",
            }
        );
        var token = (
            await SendAsync(
                0,
                HttpMethod.Post,
                "tokens",
                new
                {
                    name = "mira",
                    password = "a long sentence",
                    label = "test",
                }
            )
        ).GetProperty("token").GetString();
        foreach (var http in Http)
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
    }

    public async Task<JsonElement> SendAsync(int service, HttpMethod method, string path, object? body = null)
    {
        using var request = new HttpRequestMessage(method, "/api/v1/" + path);
        if (body is not null)
            request.Content = JsonContent.Create(body, body.GetType());
        using var answer = await Http[service].SendAsync(request);
        var text = await answer.Content.ReadAsStringAsync();
        if (!answer.IsSuccessStatusCode)
            throw new InvalidOperationException($"{method} {path} at service {service}: {(int)answer.StatusCode} {text}");
        return text.Length == 0 ? default : JsonSerializer.Deserialize<JsonElement>(text);
    }

    public void Signal(int service, string signal)
    {
        using var kill = Process.Start("kill", [$"-{signal}", processes[service]!.Id.ToString(CultureInfo.InvariantCulture)]);
        kill.WaitForExit();
        if (signal == "KILL")
            processes[service]!.WaitForExit();
    }

    public List<object[]> Rows(string sql)
    {
        using var connection = new NpgsqlConnection(Catalogue);
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        using var reader = command.ExecuteReader();
        var rows = new List<object[]>();
        while (reader.Read())
        {
            var row = new object[reader.FieldCount];
            reader.GetValues(row);
            rows.Add(row);
        }
        return rows;
    }

    public long One(string sql) => Convert.ToInt64(Rows(sql)[0][0], CultureInfo.InvariantCulture);

    /// <summary>Which of the services leads; null while none does.</summary>
    public int? Leader()
    {
        if (
            Rows("SELECT w.\"ProcessId\" FROM \"Leases\" l JOIN \"Workers\" w ON w.\"Id\" = l.\"Worker\" AND NOT w.\"Gone\"")
            is not [[int process]]
        )
            return null;
        var found = Array.FindIndex(processes, p => p is { HasExited: false } && p.Id == process);
        return found < 0 ? null : found;
    }

    public void Dispose()
    {
        foreach (var process in processes.OfType<Process>().Where(p => !p.HasExited))
            process.Kill();
        foreach (var way in ways)
            way.Dispose();
        foreach (var http in Http)
            http.Dispose();
        PostgresServer.Drop(Catalogue);
        using var remove = Process.Start("rm", ["-rf", Folder]);
        remove.WaitForExit();
    }
}
