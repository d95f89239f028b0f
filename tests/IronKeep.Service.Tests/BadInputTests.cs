using System.Net;
using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

public sealed class BadInputTests
{
    /// <summary>With a console, and where none was built.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Every_bad_request_gets_problem_details_that_say_what_is_wrong(bool console)
    {
        await using var bench = await Bench.StartAsync();
        var pages = Directory.CreateDirectory(bench.Root + "/pages").FullName;
        if (console)
            await File.WriteAllTextAsync(pages + "/index.html", "<title>Iron Keep</title>");
        bench.More = [$"--IronKeep:ConsoleFolder={pages}"];
        await bench.RestartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        var copy = (await bench.CopiesAsync())[0].Id;
        (string Method, string Path, string? Body, int Status, string Says)[] table =
        [
            ("PUT", "charter", "{", 400, "the body cannot be read"),
            ("PUT", "charter", "[]", 400, "the body cannot be read"),
            ("PUT", "charter", "{\"yaml\":5}", 400, "at $.yaml"),
            ("PUT", "charter", "{\"yml\":\"\"}", 400, "yml"),
            ("PUT", "charter", "{}", 400, "yaml"),
            ("PUT", "charter", "{\"yaml\":null}", 400, "yaml"),
            ("PUT", "charter", "{\"yaml\":\"\"}", 400, "the text is empty"),
            ("POST", "tokens", "{\"name\":\"mira\",\"password\":\"x\",\"label\":\"\"}", 400, "label"),
            ("GET", "timetable?hours=0", null, 400, "use 1 to"),
            ("GET", "timetable?hours=many", null, 400, "hours"),
            ("GET", "runs?limit=100000", null, 400, "limit"),
            ("GET", "runs?cursor=xyz", null, 400, "cursor 'xyz'"),
            ("GET", "runs?kind=dream", null, 400, "kind 'dream'"),
            ("GET", "alerts?state=ajar", null, 400, "state 'ajar'"),
            ("GET", "runs/99", null, 404, "there is no run 99"),
            ("GET", "runs?outcome=fine", null, 400, "outcome 'fine'"),
            ("GET", "runs/1/log?severity=loud", null, 400, "severity 'loud'"),
            ("GET", "alerts?class=odd", null, 400, "class 'odd'"),
            ("POST", "runs/1/confirm", null, 409, "is not suspect"),
            ("GET", "copies/versions?job=none&path=/x", null, 404, "has no copies"),
            ("GET", "copies/versions?job=register&path=%5Cx", null, 400, "must be doubled"),
            ("PUT", "jobs/none/pause", "{\"reason\":\"why\",\"until\":\"2030-01-01T00:00:00Z\"}", 404, "there is no job 'none'"),
            ("PUT", $"copies/{copy}/hold", "{\"reason\":\"why\",\"until\":\"tomorrow\"}", 400, "the body cannot be read"),
            ("PUT", "definitions/job/x", "{\"fields\":{\"takes\":\"x\"}}", 400, "the body cannot be read"),
            ("POST", "definitions/nothing/x/preview", "{\"fields\":{}}", 404, "is not a kind of object"),
            ("POST", "prune-plans/0000/apply?confirm=because", null, 404, "there is no prune plan"),
            ("GET", "jobs/none", null, 404, "there is no job 'none'"),
            ("POST", "jobs/none/runs", null, 404, "there is no job 'none'"),
            ("POST", "stores/none/checks", null, 404, "there is no store 'none'"),
            ("GET", "copies/none", null, 404, "there is no copy 'none'"),
            ("GET", $"copies/{copy}/entries?path=/no/such", null, 404, "holds no '/no/such'"),
            ("GET", $"copies/{copy}/entries?path=%5Cx4", null, 400, "must be doubled"),
            ("POST", $"copies/{copy}/restores", "{\"paths\":[],\"to\":\"relative\"}", 400, "not an absolute path"),
            ("POST", $"copies/{copy}/restores", $"{{\"paths\":[],\"to\":\"{bench.StoreFolder}/x\"}}", 409, "inside store cellar"),
            ("POST", "alerts/7/acknowledge", null, 404, "no open alert 7"),
            ("POST", "runs/1/cancel", null, 409, "has ended already"),
            ("GET", "nonsense", null, 404, "not part of the API"),
            ("DELETE", "jobs", null, 404, "not part of the API"),
        ];
        foreach (var (method, path, body, status, says) in table)
        {
            using var request = new HttpRequestMessage(new HttpMethod(method), "/api/v1/" + path);
            if (body is not null)
                request.Content = new StringContent(body, Encoding.UTF8, "application/json");
            using var response = await bench.Http.SendAsync(request);
            var text = await response.Content.ReadAsStringAsync();
            Assert.True(
                (int)response.StatusCode == status && text.Contains(says, StringComparison.OrdinalIgnoreCase),
                $"{method} {path} {body}: {(int)response.StatusCode} {text}"
            );
            Assert.Equal("application/problem+json", response.Content.Headers.ContentType?.MediaType);
            Assert.DoesNotContain("   at ", text);
        }
    }

    /// <summary>A client words the way out itself, by what a refusal carries besides its sentence.</summary>
    [Fact]
    public async Task A_refusal_carries_its_code_its_facts_and_the_way_out_of_the_api()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        (string Method, string Path, object? Body, string Code, string Facts, string Way)[] table =
        [
            ("GET", "jobs/none", null, "not-there", "kind=job, name=none", "GET /api/v1/jobs lists what there is"),
            ("POST", "stores/none/checks", null, "not-there", "kind=store, name=none", "GET /api/v1/stores lists what there is"),
            ("POST", "jobs/register/check-ins", new CheckInRequest(CheckInState.Ended), "not-watched", "kind=job, name=register", "done"),
        ];
        foreach (var (method, path, body, code, facts, way) in table)
        {
            using var response = await bench.RawAsync(new HttpMethod(method), path, body);
            var problem = JsonElement.Parse(await response.Content.ReadAsStringAsync());
            Assert.True(problem.TryGetProperty("code", out var said), $"{method} {path}: {problem}");
            Assert.Equal(code, said.GetString());
            var told = problem.GetProperty("facts").EnumerateObject().Select(f => $"{f.Name}={f.Value.GetString()}");
            Assert.Equal(facts, string.Join(", ", told));
            Assert.Contains(way, problem.GetProperty("api").GetString());
        }
        using var unknown = await bench.Anonymous().GetAsync("/api/v1/jobs");
        Assert.Equal("sign-in-needed", JsonElement.Parse(await unknown.Content.ReadAsStringAsync()).GetProperty("code").GetString());
    }

    [Fact]
    public async Task Bodies_of_noise_never_make_the_service_fail()
    {
        await using var bench = await Bench.StartAsync();
        var random = new Random(23);
        string[] paths =
        [
            "charter/check",
            "charter/diff",
            "tokens",
            "copies/x/restores",
            "jobs/x/runs",
            "alerts/1/acknowledge",
            "first-person",
        ];
        for (var i = 0; i < 300; i++)
        {
            var noise = new byte[random.Next(0, 200)];
            random.NextBytes(noise);
            if (i % 3 == 0 && noise.Length > 2)
                (noise[0], noise[^1]) = ((byte)'{', (byte)'}');
            using var content = new ByteArrayContent(noise);
            content.Headers.ContentType = new(i % 5 == 0 ? "text/plain" : "application/json");
            using var response = await bench.Http.PostAsync("/api/v1/" + paths[i % paths.Length], content);
            Assert.InRange((int)response.StatusCode, 400, 499);
        }
        Assert.Equal(HttpStatusCode.OK, (await bench.Http.GetAsync("/api/v1/duty")).StatusCode);
    }
}
