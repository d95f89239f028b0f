using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// Many machines at once: a fleet of real agents in one program, over TLS on loopback, and a service that is killed meanwhile.
/// </summary>
public sealed class FleetTests : IDisposable
{
    private const int Many = 8;
    private readonly Programs programs = new();
    private Process? fleet;

    public void Dispose()
    {
        if (fleet is { HasExited: false })
            fleet.Kill();
        programs.Dispose();
    }

    private string Folder => programs.Root + "/fleet";

    private static string Name(int number) => $"tern-{number}";

    private HttpClient Api()
    {
        var saved = JsonDocument.Parse(File.ReadAllText(programs.Root + "/config/ironkeep/client.json")).RootElement;
        var token = saved.EnumerateObject().Single(p => p.Name.Equals("token", StringComparison.OrdinalIgnoreCase)).Value.GetString();
        var http = new HttpClient { BaseAddress = new Uri(programs.Address + "/api/v1/") };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        return http;
    }

    private async Task ApplyAsync(string when)
    {
        await File.WriteAllTextAsync(
            programs.Root + "/charter.yaml",
            $$"""
            charter: 1
            zone: UTC
            machines:
            {{string.Concat(Enumerable.Range(1, Many).Select(i => $"  {Name(i)}: {{ site: hides }}\n"))}}
            lines:
              ferry-link: { machines: site = hides, runs-at-once: 2, bandwidth: 200 Mbit/s }
            stores:
              cellar: { folder: {{programs.StoreFolder}} }
            policies:
              few: { keep: newest 4 }
            jobs:
              counts: { on: site = hides, takes: "{{Folder}}/data/{machine}", into: cellar, policy: few, when: "{{when}}", retries: 3 }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", programs.Root + "/charter.yaml", "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
    }

    private async Task<List<(string Machine, int Planned, string? Outcome)>> NightAsync()
    {
        using var http = Api();
        return
        [
            .. (await http.GetFromJsonAsync<JsonElement>("jobs?job=counts"))
                .EnumerateArray()
                .Select(j => (Job: j, Night: j.GetProperty("nights").EnumerateArray().Last()))
                .Select(j =>
                    (
                        j.Job.GetProperty("machine").GetString()!,
                        j.Night.GetProperty("planned").GetInt32(),
                        j.Night.GetProperty("outcome").GetString()
                    )
                ),
        ];
    }

    [Fact]
    public async Task Every_planned_run_of_every_machine_is_served_once_though_the_service_is_killed()
    {
        await programs.BeginAsync();
        await ApplyAsync("0 0 1 1 *");
        using (var http = Api())
        {
            var codes = new List<string>();
            string? address = null;
            for (var i = 1; i <= Many; i++)
            {
                var made = await http.PostAsync(new Uri($"machines/{Name(i)}/enrolment", UriKind.Relative), null);
                var answer = await made.Content.ReadFromJsonAsync<JsonElement>();
                codes.Add($"{Name(i)} {answer.GetProperty("code").GetString()}");
                address = answer.GetProperty("command").GetString()!.Split(' ')[2];
            }
            Directory.CreateDirectory(Folder);
            await File.WriteAllLinesAsync(Folder + "/codes", codes);
            var joined = await programs.RunAsync(
                "ironkeep-fleet",
                null,
                "join",
                address!,
                "--codes",
                Folder + "/codes",
                "--folder",
                Folder
            );
            Assert.True(joined.ExitCode == 0, joined.ToString());
        }
        fleet = programs.StartFleet(Folder, "--seed", "23", "--slow-share", "0.3");
        var due = DateTime.UtcNow.AddSeconds(75);
        await ApplyAsync(string.Create(CultureInfo.InvariantCulture, $"{due.Minute} {due.Hour} {due.Day} {due.Month} *"));
        await UntilAsync(async () => (await RunsAsync()).Any(r => r.State == "running"), 180);
        programs.Kill();
        await programs.StartServiceAsync();
        await UntilAsync(async () => (await NightAsync()) is { Count: Many } all && all.TrueForAll(m => m.Outcome is "ok"), 300);
        Assert.All(await NightAsync(), m => Assert.Equal(1, m.Planned));
        // Nothing was done twice: each machine has one run that came off, whatever was tried before.
        var runs = await RunsAsync();
        Assert.Equal(Enumerable.Range(1, Many).Select(Name), runs.Where(r => r.Outcome == "ok").Select(r => r.Machine).Order());
        using var api = Api();
        var machines = (await api.GetFromJsonAsync<JsonElement>("machines?coverage=covered")).GetProperty("machines").EnumerateArray();
        Assert.Equal(Many, machines.Count());
    }

    private async Task<List<(string Machine, string State, string? Outcome)>> RunsAsync()
    {
        using var http = Api();
        return
        [
            .. (await http.GetFromJsonAsync<JsonElement>("runs?job=counts&limit=200"))
                .GetProperty("items")
                .EnumerateArray()
                .Select(r =>
                    (r.GetProperty("machine").GetString()!, r.GetProperty("state").GetString()!, r.GetProperty("outcome").GetString())
                ),
        ];
    }

    private static async Task UntilAsync(Func<Task<bool>> holds, int seconds)
    {
        for (var began = Stopwatch.StartNew(); !await holds(); await Task.Delay(300))
            Assert.True(began.Elapsed.TotalSeconds < seconds, "it did not come to that in time");
    }
}
