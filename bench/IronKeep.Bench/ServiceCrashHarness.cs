using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using Microsoft.Data.Sqlite;

namespace IronKeep.Bench;

/// <summary>
/// Kills the whole service at a random moment, many times, while eight jobs with minute schedules, prunes, checks and reclaims run on two
/// stores. The law: every due minute is one planned run that was served once or ended by name; catalogue and stores agree; every copy in
/// force is whole and comes back as it was taken.
/// </summary>
internal sealed class ServiceCrashHarness(string program, string work, int kills) : IDisposable
{
    private const int Jobs = 8;
    private const string Address = "http://127.0.0.1:7429";
    private readonly Random random = new();
    private readonly HttpClient http = new() { BaseAddress = new Uri(Address), Timeout = TimeSpan.FromSeconds(10) };
    private readonly List<string> output = [];
    private Process? service;
    private int asked;

    public void Dispose() => http.Dispose();

    public async Task RunAsync()
    {
        Shell.Run($"rm -rf '{work}' && mkdir -p '{work}'");
        for (var job = 0; job < Jobs; job++)
            Change(job);
        await StartAsync();
        await SignInAsync();
        await SendAsync(HttpMethod.Put, "charter", new CharterText(Charter()));
        var watch = Stopwatch.StartNew();
        for (var kill = 1; kill <= kills; kill++)
        {
            await WorkAsync(TimeSpan.FromSeconds(2 + random.NextDouble() * 10));
            service!.Kill();
            await service.WaitForExitAsync();
            await StartAsync();
        }
        // What waits comes to its end, and the stores are compared once more.
        await WorkAsync(TimeSpan.FromSeconds(3));
        await IdleAsync();
        foreach (var store in new[] { "one", "two" })
            await SendAsync(HttpMethod.Post, $"stores/{store}/checks?depth=deep", null);
        await IdleAsync();
        service!.CloseMainWindow();
        Shell.Run($"kill -TERM {service.Id}");
        await service.WaitForExitAsync();
        Judge(watch.Elapsed);
    }

    private string Charter() =>
        $$"""
            charter: 1
            zone: UTC
            runs-at-once: 4
            stores:
              one: { folder: {{work}}/one, bin: 1 minutes }
              two: { folder: {{work}}/two, bin: 1 minutes }
            policies:
              few: { keep: newest 4 }
            jobs:
            {{string.Concat(
                Enumerable.Range(0, Jobs).Select(j =>
                    $"  job-{j}: {{ takes: {work}/source-{j}, into: {(j % 3 == 0 ? "[one, two]" : j % 2 == 0 ? "one" : "two")}, policy: few, when: every 1 minutes, prune: after-success, catch-up: once, wait-after-return: 0 minutes, catch-up-gap: 0 minutes }}\n"
                )
            )}}
            """;

    /// <summary>Every file says one number over and over, so that a torn or mixed one shows.</summary>
    private void Change(int job)
    {
        Directory.CreateDirectory($"{work}/source-{job}");
        var number = random.Next().ToString(CultureInfo.InvariantCulture);
        var file = $"{work}/source-{job}/{random.Next(6)}";
        File.WriteAllLines(file + ".new", Enumerable.Repeat(number, random.Next(1, 40_000)));
        File.Move(file + ".new", file, overwrite: true);
    }

    private async Task WorkAsync(TimeSpan time)
    {
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < time; )
        {
            Change(random.Next(Jobs));
            var store = random.Next(2) == 0 ? "one" : "two";
            var path = random.Next(6) switch
            {
                0 => $"stores/{store}/checks",
                1 => $"stores/{store}/reclaims",
                2 => $"stores/{store}/checks?depth=presence",
                _ => $"jobs/job-{random.Next(Jobs)}/runs",
            };
            await SendAsync(HttpMethod.Post, path, null);
            asked++;
            await Task.Delay(random.Next(20, 500));
        }
    }

    private async Task StartAsync()
    {
        service = Process.Start(
            new ProcessStartInfo(
                "dotnet",
                [program, $"--IronKeep:DataFolder={work}/service", $"--IronKeep:Listen={Address}", "--IronKeep:Machine=heron"]
            )
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        service.OutputDataReceived += (_, e) =>
        {
            lock (output)
                output.Add(e.Data ?? "");
        };
        service.ErrorDataReceived += (_, e) =>
        {
            lock (output)
                output.Add(e.Data ?? "");
        };
        service.BeginOutputReadLine();
        service.BeginErrorReadLine();
        for (var tries = 0; ; tries++)
        {
            try
            {
                if ((await http.GetAsync("/health/live")).IsSuccessStatusCode)
                    return;
            }
            catch (Exception e) when (e is HttpRequestException or TaskCanceledException)
            {
                if (service.HasExited || tries > 600)
                    throw new InvalidOperationException("the service does not start: " + string.Join('\n', output.TakeLast(20)));
            }
            await Task.Delay(50);
        }
    }

    private async Task SignInAsync()
    {
        string code;
        while (true)
        {
            lock (output)
                if (output.Find(l => l.Contains("one-time code:", StringComparison.Ordinal)) is { } line)
                {
                    code = line.Split("one-time code:")[1].Trim();
                    break;
                }
            await Task.Delay(50);
        }
        await SendAsync(HttpMethod.Post, "first-person", new FirstPersonRequest(code, "mira", "a long sentence"));
        var token = await (
            await http.PostAsJsonAsync("/api/v1/tokens", new TokenRequest("mira", "a long sentence", "harness"), ContractJson.Options)
        ).Content.ReadFromJsonAsync<TokenAnswer>(ContractJson.Options);
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token!.Token);
    }

    private async Task SendAsync(HttpMethod method, string path, object? body)
    {
        using var request = new HttpRequestMessage(method, "/api/v1/" + path);
        if (body is not null)
            request.Content = JsonContent.Create(body, body.GetType(), options: ContractJson.Options);
        using var answer = await http.SendAsync(request);
        if ((int)answer.StatusCode is >= 500 or 400 or 401)
            throw new InvalidOperationException($"{method} {path}: {(int)answer.StatusCode} {await answer.Content.ReadAsStringAsync()}");
    }

    private async Task IdleAsync()
    {
        for (var tries = 0; tries < 600; tries++)
        {
            var running = await http.GetFromJsonAsync<Page<RunAnswer>>("/api/v1/runs?state=running", ContractJson.Options);
            var queued = await http.GetFromJsonAsync<Page<RunAnswer>>("/api/v1/runs?state=queued", ContractJson.Options);
            if (running!.Items.Count + queued!.Items.Count == 0)
                return;
            await Task.Delay(200);
        }
        throw new InvalidOperationException("runs are at work for ever");
    }

    private void Judge(TimeSpan took)
    {
        using var db = new SqliteConnection($"Data Source={work}/service/catalogue.db;Mode=ReadOnly");
        db.Open();
        var planned = CrashJudge.Planned(db);
        CrashJudge.Need(
            db,
            "SELECT COUNT(*) FROM Runs WHERE Kind = 'check' AND Outcome NOT IN ('ok','cancelled') AND Failure <> 'interrupted'",
            "checks found something"
        );
        var copies = CrashJudge.Copies(db, work, ["one", "two"]);
        Console.WriteLine($"{kills} kills of the service in {took.TotalSeconds:0} s, {asked} runs asked for besides: {planned}; {copies}");
        Shell.Run($"rm -rf '{work}'");
    }
}
