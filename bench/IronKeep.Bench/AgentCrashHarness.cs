using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using IronKeep.Contracts;
using Microsoft.Data.Sqlite;

namespace IronKeep.Bench;

/// <summary>
/// Kills the service and two agents at random moments, many times, while six jobs with minute schedules run over a line that breaks, each
/// with a step before that stops something and one that starts it again whatever happens. The law is that of <see cref="CrashJudge"/>, and:
/// what was stopped by a run was started again after it, by that run's own step.
/// </summary>
internal sealed class AgentCrashHarness(string daemon, string agentProgram, string work, int kills) : IDisposable
{
    private const int Jobs = 6,
        AgentPort = 7424,
        LinePort = 7425;
    private const string Address = "http://127.0.0.1:7426";
    private static readonly string[] Machines = ["curlew", "plover"];
    private readonly Random random = new();
    private readonly HttpClient http = new() { BaseAddress = new Uri(Address), Timeout = TimeSpan.FromSeconds(10) };
    private readonly Dictionary<string, Process> running = [];
    private readonly List<string> output = [];
    private readonly BreakingRelay line = new(LinePort, AgentPort);
    private int asked,
        cancelled;

    public void Dispose()
    {
        foreach (var process in running.Values)
            process.Kill();
        line.Dispose();
        http.Dispose();
    }

    public async Task RunAsync()
    {
        Shell.Run($"rm -rf '{work}' && mkdir -p '{work}'");
        for (var job = 0; job < Jobs; job++)
            Change(job);
        await File.WriteAllTextAsync(
            $"{work}/stop.sh",
            $"echo \"stop $IRONKEEP_RUN\" >> {work}/trace-$1; touch {work}/down-$1; sleep 0.$(( $IRONKEEP_RUN % 10 ))\n"
        );
        await File.WriteAllTextAsync($"{work}/start.sh", $"rm -f {work}/down-$1; echo \"start $IRONKEEP_RUN\" >> {work}/trace-$1\n");
        await File.WriteAllTextAsync(
            $"{work}/agent.yaml",
            $"allows:\n  stop: {{ command: [sh, {work}/stop.sh, '*'] }}\n  start: {{ command: [sh, {work}/start.sh, '*'] }}\n"
        );
        Shell.Run($"chmod 644 {work}/agent.yaml");
        await StartAsync("service");
        await SignInAsync();
        await SendAsync(HttpMethod.Put, "charter", new CharterText(Charter()));
        foreach (var machine in Machines)
        {
            var answer = await (
                await http.PostAsync($"/api/v1/machines/{machine}/enrolment", null)
            ).Content.ReadFromJsonAsync<EnrolmentAnswer>(ContractJson.Options);
            Shell.Run(
                $"dotnet {agentProgram} join https://127.0.0.1:{LinePort} --code {answer!.Code} --folder {work}/agent-{machine} > /dev/null"
            );
            await StartAsync(machine);
        }
        var watch = Stopwatch.StartNew();
        for (var kill = 1; kill <= kills; kill++)
        {
            await WorkAsync(TimeSpan.FromSeconds(1 + random.NextDouble() * 6));
            string[] victims = random.Next(10) switch
            {
                < 4 => ["service"],
                < 6 => ["curlew"],
                < 8 => ["plover"],
                8 => ["service", "curlew"],
                _ => ["curlew", "service", "plover"],
            };
            foreach (var victim in victims)
            {
                running[victim].Kill();
                await running[victim].WaitForExitAsync();
            }
            foreach (var victim in victims)
                await StartAsync(victim);
            if (kill % 20 == 0)
                Console.WriteLine($"{kill} kills, {line.Breaks} breaks, {watch.Elapsed.TotalSeconds:0} s");
        }
        Charters = "by hand";
        await SendAsync(HttpMethod.Put, "charter?confirm=true", new CharterText(Charter()));
        await IdleAsync();
        await SendAsync(HttpMethod.Post, "stores/cellar/checks?depth=deep", null);
        await IdleAsync();
        await Task.Delay(2000);
        foreach (var (_, process) in running)
        {
            Shell.Run($"kill -TERM {process.Id}");
            await process.WaitForExitAsync();
        }
        running.Clear();
        Judge(watch.Elapsed);
    }

    private string Charters = "every 1 minutes";

    private string Charter() =>
        $$"""
            charter: 1
            zone: UTC
            runs-at-once: 4
            machines: { curlew: {}, plover: {} }
            stores:
              cellar: { folder: {{work}}/cellar, bin: 1 minutes }
            policies:
              few: { keep: newest 4 }
            steps:
            {{string.Concat(
                Enumerable.Range(0, Jobs).Select(j =>
                    $"  stop-{j}: {{ command: [sh, {work}/stop.sh, '{j}'] }}\n  start-{j}: {{ command: [sh, {work}/start.sh, '{j}'] }}\n"
                )
            )}}
            jobs:
            {{string.Concat(
                Enumerable.Range(0, Jobs).Select(j =>
                    $"  job-{j}: {{ on: {Machines[j % 2]}, takes: {work}/source-{j}, into: cellar, policy: few, "
                    + (Charters == "by hand" ? "" : $"when: {Charters}, ")
                    + $"prune: after-success, before: stop-{j}, always-after: start-{j}, catch-up: once, wait-after-return: 0 minutes, catch-up-gap: 0 minutes }}\n"
                )
            )}}
            """;

    /// <summary>Every file says one number over and over, so that a torn or mixed one shows.</summary>
    private void Change(int job)
    {
        Directory.CreateDirectory($"{work}/source-{job}");
        var number = random.Next().ToString(CultureInfo.InvariantCulture);
        var file = $"{work}/source-{job}/{random.Next(6)}";
        File.WriteAllLines(file + ".new", Enumerable.Repeat(number, random.Next(1, 200_000)));
        File.Move(file + ".new", file, overwrite: true);
    }

    private async Task WorkAsync(TimeSpan time)
    {
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < time; )
        {
            Change(random.Next(Jobs));
            switch (random.Next(8))
            {
                case 0:
                    line.Break();
                    break;
                case 1:
                    var atWork = await http.GetFromJsonAsync<Page<RunAnswer>>("/api/v1/runs?state=running", ContractJson.Options);
                    if (atWork!.Items is [{ } run, ..])
                    {
                        await SendAsync(HttpMethod.Post, $"runs/{run.Id}/cancel", null);
                        cancelled++;
                    }
                    break;
                case 2:
                    await SendAsync(HttpMethod.Post, "stores/cellar/reclaims", null);
                    break;
                default:
                    await SendAsync(HttpMethod.Post, $"jobs/job-{random.Next(Jobs)}/runs", null);
                    asked++;
                    break;
            }
            await Task.Delay(random.Next(50, 800));
        }
    }

    private async Task StartAsync(string what)
    {
        string[] words =
            what == "service"
                ?
                [
                    daemon,
                    $"--IronKeep:DataFolder={work}/service",
                    $"--IronKeep:Listen={Address}",
                    $"--IronKeep:AgentListen=https://127.0.0.1:{AgentPort}",
                    "--IronKeep:Machine=heron",
                ]
                : [agentProgram, "work", "--folder", $"{work}/agent-{what}", "--allows", $"{work}/agent.yaml"];
        var process = running[what] = Process.Start(
            new ProcessStartInfo("dotnet", words) { RedirectStandardOutput = true, RedirectStandardError = true }
        )!;
        DataReceivedEventHandler keep = (_, e) =>
        {
            lock (output)
                output.Add($"{what}: {e.Data}");
        };
        process.OutputDataReceived += keep;
        process.ErrorDataReceived += keep;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        for (var tries = 0; what == "service"; tries++)
        {
            try
            {
                if ((await http.GetAsync("/health/live")).IsSuccessStatusCode)
                    return;
            }
            catch (Exception e) when (e is HttpRequestException or TaskCanceledException)
            {
                if (process.HasExited || tries > 1200)
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
                if (output.Find(l => l.Contains("one-time code:", StringComparison.Ordinal)) is { } found)
                {
                    code = found.Split("one-time code:")[1].Trim();
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
        for (var tries = 0; tries < 1500; tries++)
        {
            var atWork = await http.GetFromJsonAsync<Page<RunAnswer>>("/api/v1/runs?state=running", ContractJson.Options);
            var queued = await http.GetFromJsonAsync<Page<RunAnswer>>("/api/v1/runs?state=queued", ContractJson.Options);
            if (atWork!.Items.Count + queued!.Items.Count == 0)
                return;
            await Task.Delay(200);
        }
        throw new InvalidOperationException("runs are at work for ever: " + string.Join('\n', output.TakeLast(40)));
    }

    private void Judge(TimeSpan took)
    {
        using var db = new SqliteConnection($"Data Source={work}/service/catalogue.db;Mode=ReadOnly");
        db.Open();
        var planned = CrashJudge.Planned(db);
        var copies = CrashJudge.Copies(db, work, ["cellar"]);
        var stops = 0;
        for (var job = 0; job < Jobs; job++)
        {
            var trace = File.Exists($"{work}/trace-{job}") ? File.ReadAllLines($"{work}/trace-{job}") : [];
            foreach (var run in trace.Where(l => l.StartsWith("stop ", StringComparison.Ordinal)).Select(l => l[5..]).Distinct())
            {
                stops++;
                if (Array.LastIndexOf(trace, $"start {run}") < Array.IndexOf(trace, $"stop {run}"))
                    throw new InvalidOperationException($"what run {run} of job-{job} stopped was not started again");
            }
            if (File.Exists($"{work}/down-{job}"))
                throw new InvalidOperationException($"what job-{job} stops is down at the end");
        }
        var ends = string.Join(
            ", ",
            CrashJudge
                .Rows(db, "SELECT COALESCE(Failure, Outcome), COUNT(*) FROM Runs WHERE Kind = 'backup' GROUP BY 1 ORDER BY 2 DESC")
                .Select(r => $"{r[1]} {r[0]}")
        );
        Console.WriteLine(
            $"{kills} kills of service and agents, {line.Breaks} breaks of the line and {cancelled} cancelled runs in "
                + $"{took.TotalSeconds:0} s, {asked} runs asked for besides: {planned}; {copies}; "
                + $"{stops} runs stopped something and all of it was started again; "
                + $"runs ended as {ends}"
        );
        Shell.Run($"rm -rf '{work}'");
    }
}
