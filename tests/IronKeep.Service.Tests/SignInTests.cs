using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.RegularExpressions;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

public sealed partial class SignInTests
{
    [Fact]
    public async Task Nothing_but_the_sign_in_page_and_health_answers_without_a_sign_in()
    {
        await using var bench = await Bench.StartAsync();
        var open = new HashSet<string>
        {
            "GET /health",
            "GET /health/live",
            "GET /health/ready",
            "GET /sign-in",
            "POST /sign-in",
            "GET /first-person",
            "POST /first-person",
            "POST /api/v1/first-person",
            "POST /api/v1/tokens",
            "GET /calendar/1.ics",
            "GET /check-in/1/1",
            // Opens with a token of its own alone; see MetricsTests.
            "GET /metrics",
        };
        var endpoints = bench.Services.GetRequiredService<EndpointDataSource>().Endpoints.OfType<RouteEndpoint>().ToList();
        Assert.InRange(endpoints.Count, 30, 200);
        foreach (var wrong in new[] { null, "Bearer ironkeep_0000", "Bearer x", "Basic bWlyYTp4" })
        {
            using var http = bench.Anonymous();
            if (wrong is not null)
                http.DefaultRequestHeaders.Authorization = AuthenticationHeaderValue.Parse(wrong);
            foreach (var endpoint in endpoints)
            {
                var method = endpoint.Metadata.GetMetadata<HttpMethodMetadata>()?.HttpMethods[0] ?? "GET";
                var path = "/" + Parameters().Replace(endpoint.RoutePattern.RawText!.TrimStart('/'), "1");
                if (open.Contains($"{method} {path}"))
                    continue;
                using var response = await http.SendAsync(new HttpRequestMessage(new HttpMethod(method), path));
                Assert.True(
                    response.StatusCode == HttpStatusCode.Unauthorized,
                    $"{method} {path} answers {(int)response.StatusCode} to {wrong ?? "nobody"}"
                );
            }
        }
        using var anybody = bench.Anonymous();
        Assert.Equal("ok", await anybody.GetStringAsync("/health"));
        // A calendar address, and a check-in address, open with their own secrets alone, which is other tests' matter.
        foreach (var address in new[] { "/calendar/1.ics", "/check-in/1/1" })
            Assert.Equal(HttpStatusCode.NotFound, (await anybody.GetAsync(address)).StatusCode);
        // A browser that asks for a page is led to the sign-in page; a client is told what to do.
        using var page = new HttpRequestMessage(HttpMethod.Get, "/jobs");
        page.Headers.Accept.ParseAdd("text/html");
        using var led = await anybody.SendAsync(page);
        Assert.Equal("/sign-in", led.Headers.Location?.OriginalString);
        using var told = await anybody.GetAsync("/api/v1/jobs");
        Assert.Contains("\"code\":\"sign-in-needed\"", await told.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task The_first_person_comes_in_with_the_code_and_nobody_after_him()
    {
        await using var bench = await Bench.StartAsync(withPerson: false);
        using var http = bench.Anonymous();
        Assert.Equal("/first-person", (await http.GetAsync("/sign-in")).Headers.Location?.OriginalString);
        var right = new FirstPersonRequest(bench.Code!, "mira", "a long sentence");
        Assert.Equal(
            HttpStatusCode.Conflict,
            (await http.PostAsJsonAsync("/api/v1/first-person", right with { Code = "aaaabbbbcccc" })).StatusCode
        );
        Assert.Equal(
            HttpStatusCode.Conflict,
            (await http.PostAsJsonAsync("/api/v1/first-person", right with { Password = "short" })).StatusCode
        );
        var file = bench.Root + "/service/first-code";
        Assert.Equal(bench.Code, (await File.ReadAllTextAsync(file)).Trim());
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        Assert.Equal(HttpStatusCode.NoContent, (await http.PostAsJsonAsync("/api/v1/first-person", right)).StatusCode);
        Assert.Equal(HttpStatusCode.Conflict, (await http.PostAsJsonAsync("/api/v1/first-person", right with { Name = "eve" })).StatusCode);
        Assert.False(File.Exists(file));
        await bench.RestartAsync();
        Assert.Null(bench.Code);
    }

    [Fact]
    public async Task A_cookie_changes_nothing_without_the_antiforgery_value()
    {
        await using var bench = await Bench.StartAsync();
        using var http = bench.Anonymous();
        var form = Hidden().Match(await http.GetStringAsync("/sign-in"));
        async Task<HttpResponseMessage> Enter(string password, string forgery) =>
            await http.PostAsync(
                "/sign-in",
                new FormUrlEncodedContent(
                    new Dictionary<string, string>
                    {
                        ["name"] = Bench.Name,
                        ["password"] = password,
                        [form.Groups[1].Value] = forgery,
                    }
                )
            );
        Assert.Equal(HttpStatusCode.Unauthorized, (await Enter("wrong password", form.Groups[2].Value)).StatusCode);
        Assert.Equal(HttpStatusCode.OK, (await Enter(Bench.Password, "made-up")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await http.GetAsync("/api/v1/jobs")).StatusCode);
        Assert.Equal("/", (await Enter(Bench.Password, form.Groups[2].Value)).Headers.Location?.OriginalString);

        var session = await http.GetFromJsonAsync<SessionAnswer>("/api/v1/session", ContractJson.Options);
        Assert.Equal("mira", session!.Person);
        var charter = JsonContent.Create(new CharterText(bench.Charter()), options: ContractJson.Options);
        Assert.Equal(HttpStatusCode.BadRequest, (await http.PutAsync("/api/v1/charter", charter)).StatusCode);
        Assert.Equal(0, (await bench.GetAsync<CharterAnswer>("charter")).Revision);
        using var proper = new HttpRequestMessage(HttpMethod.Put, "/api/v1/charter")
        {
            Content = JsonContent.Create(new CharterText(bench.Charter()), options: ContractJson.Options),
        };
        proper.Headers.Add("X-Ironkeep-Antiforgery", session.Antiforgery);
        Assert.Equal(HttpStatusCode.OK, (await http.SendAsync(proper)).StatusCode);
    }

    [Fact]
    public async Task Guessing_is_slowed_down_and_a_token_taken_back_is_useless()
    {
        await using var bench = await Bench.StartAsync();
        var tokens = await bench.GetAsync<List<TokenSummary>>("tokens");
        using var http = bench.Anonymous();
        var answers = new List<HttpStatusCode>();
        for (var i = 0; i < 12; i++)
            answers.Add((await http.PostAsJsonAsync("/api/v1/tokens", new TokenRequest("mira", $"guess {i}", "x"))).StatusCode);
        Assert.Equal(5, answers.Count(a => a == HttpStatusCode.Unauthorized));
        Assert.Equal(HttpStatusCode.TooManyRequests, answers[^1]);
        using var gone = await bench.RawAsync(HttpMethod.Delete, $"tokens/{tokens[0].Id}");
        Assert.Equal(HttpStatusCode.NoContent, gone.StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await bench.RawAsync(HttpMethod.Get, "jobs")).StatusCode);
    }

    [GeneratedRegex(@"\{[^}]*\}")]
    private static partial Regex Parameters();

    [GeneratedRegex("name=\"(__[^\"]+)\" value=\"([^\"]+)\"")]
    private static partial Regex Hidden();
}
