using System.Globalization;
using System.Net;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;

namespace IronKeep.Service.Tests;

/// <summary>
/// The whole API by its own description, with values that nobody expects: never an answer of 500 and up, never a stack trace.
/// IRONKEEP_API_FUZZ sets how many requests, IRONKEEP_API_SEED repeats a run.
/// </summary>
public sealed class ApiFuzzTests
{
    private sealed record Operation(HttpMethod Method, string Path, JsonObject Description);

    private static readonly string[] Odd =
    [
        "",
        " ",
        "x",
        "register",
        "cellar",
        "few",
        "0",
        "-1",
        "9223372036854775807",
        "9223372036854775808",
        "1e400",
        "NaN",
        "null",
        "true",
        "\u0000",
        "\u202e",
        "é",
        "\ud83d\ude00",
        "../../etc/passwd",
        "%00",
        "a b",
        "0001-01-01T00:00:00Z",
        "9999-12-31T23:59:59Z",
        "2026-02-30",
        "2026-11-24T10:00:00+14:00",
        "P1D",
        "daily at 10:00",
        "every 1 minutes",
        "newest 2",
        "[",
        "[^]",
        "[a-[b]]",
        "*",
        "\\",
        "';DROP TABLE Runs;--",
        "{}",
        "open",
        "backup",
        "job",
        "store",
        "settings",
        "the-settings",
    ];

    private Random random = null!;
    private string root = "";

    [Fact]
    public async Task No_request_is_answered_with_a_failure_of_the_service()
    {
        var count = int.Parse(Environment.GetEnvironmentVariable("IRONKEEP_API_FUZZ") ?? "2500", CultureInfo.InvariantCulture);
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("IRONKEEP_API_SEED") ?? $"{Environment.TickCount}",
            CultureInfo.InvariantCulture
        );
        random = new Random(seed);
        await using var bench = await Bench.StartAsync();
        root = bench.Root;
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        var copy = (await bench.CopiesAsync())[0].Id;
        var document = JsonNode.Parse(File.ReadAllText(Documents()))!.AsObject();
        var operations = document["paths"]!
            .AsObject()
            .SelectMany(p =>
                p.Value!.AsObject()
                    .Where(m => m.Value is JsonObject && m.Key is "get" or "post" or "put" or "delete")
                    .Select(m => new Operation(new HttpMethod(m.Key.ToUpperInvariant()), p.Key, m.Value!.AsObject()))
            )
            // A stream does not end; taking the token back, or renaming, ends the test and not the service.
            .Where(o => o.Path is not ("/api/v1/events" or "/api/v1/tokens/{id}" or "/api/v1/service/rename-machine"))
            .ToList();
        Assert.True(operations.Count > 50);
        var statuses = new Dictionary<int, int>();
        for (var i = 0; i < count; i++)
        {
            var operation = operations[random.Next(operations.Count)];
            using var request = Make(operation, document, copy, out var sent);
            var said = $"seed {seed}, request {i}: {request.Method} {request.RequestUri} {sent}";
            using var within = new CancellationTokenSource(TimeSpan.FromMinutes(4));
            using var answer = await bench.Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, within.Token);
            var text =
                answer.Content.Headers.ContentType?.MediaType?.Contains("json", StringComparison.Ordinal) == true
                    ? await answer.Content.ReadAsStringAsync(within.Token)
                    : "";
            Assert.True((int)answer.StatusCode < 500, $"{said}: {(int)answer.StatusCode} {text}");
            Assert.DoesNotContain("   at IronKeep", text);
            statuses[(int)answer.StatusCode] = statuses.GetValueOrDefault((int)answer.StatusCode) + 1;
        }
        // It got past the door: some were understood, some not.
        Assert.True(
            statuses.GetValueOrDefault(200) > count / 20 && statuses.GetValueOrDefault(400) > count / 20,
            $"seed {seed}: {string.Join(", ", statuses)}"
        );
    }

    private HttpRequestMessage Make(Operation operation, JsonObject document, string copy, out string sent)
    {
        sent = "";
        var path = operation.Path;
        var query = new List<string>();
        foreach (var parameter in operation.Description["parameters"]?.AsArray().Select(p => p!.AsObject()) ?? [])
        {
            var (name, where) = ((string)parameter["name"]!, (string)parameter["in"]!);
            if (where == "path")
                path = path.Replace($"{{{name}}}", Uri.EscapeDataString(PathValue(name, copy)), StringComparison.Ordinal);
            else if (where == "query" && random.Next(3) > 0)
                query.Add($"{name}={Uri.EscapeDataString(Text())}");
        }
        var request = new HttpRequestMessage(operation.Method, path + (query.Count > 0 ? "?" + string.Join('&', query) : ""));
        if (random.Next(4) == 0)
            request.Headers.TryAddWithoutValidation(
                "If-Match",
                random.Next(2) == 0 ? "*" : $"\"{new string([.. Text().Where(c => c is > (char)31 and < (char)127)])}\""
            );
        if (random.Next(4) == 0)
            request.Headers.TryAddWithoutValidation("If-None-Match", "*");
        if (operation.Description["requestBody"] is not JsonObject body)
            return request;
        var schema = body["content"]!.AsObject().First().Value!["schema"]!;
        var json = random.Next(12) switch
        {
            0 => Text(),
            1 => "null",
            2 => "[[[[[[[[[[]]]]]]]]]]",
            _ => Value(schema, document, 0)?.ToJsonString() ?? "null",
        };
        var media = random.Next(15) switch
        {
            0 => "application/json; charset=koi-99",
            1 => "text/plain",
            _ => "application/json",
        };
        sent = $"{media} {json}";
        request.Content = new ByteArrayContent(Encoding.UTF8.GetBytes(json));
        request.Content.Headers.TryAddWithoutValidation("Content-Type", media);
        return request;
    }

    private string PathValue(string name, string copy) =>
        random.Next(3) == 0
            ? Text()
            : name switch
            {
                "id" => random.Next(2) == 0 ? copy : "1",
                "name" => random.Next(2) == 0 ? "register" : "cellar",
                "kind" => random.Next(2) == 0 ? "job" : "store",
                _ => Text(),
            };

    // Absolute paths stay inside the test's own folder: what a request asks for may be done.
    private string Text() =>
        random.Next(8) switch
        {
            0 => new string('a', random.Next(5000)),
            1 => new string([.. Enumerable.Range(0, random.Next(1, 12)).Select(_ => (char)random.Next(1, 0xD7FF))]).TrimStart('/'),
            2 => $"{root}/made-{random.Next(20)}",
            _ => Odd[random.Next(Odd.Length)],
        };

    private JsonNode? Value(JsonNode schema, JsonObject document, int depth)
    {
        if (random.Next(14) == 0)
            return null;
        if (random.Next(18) == 0)
            return random.Next(3) switch
            {
                0 => JsonValue.Create(Text()),
                1 => JsonValue.Create(random.NextInt64()),
                _ => new JsonArray(),
            };
        if ((string?)schema["$ref"] is { } reference)
            return Value(document["components"]!["schemas"]![reference.Split('/')[^1]]!, document, depth);
        if (schema["oneOf"] is JsonArray either)
            return Value(either[random.Next(either.Count)]!, document, depth);
        var type = schema["type"] is JsonArray types ? (string?)types.FirstOrDefault(t => (string?)t != "null") : (string?)schema["type"];
        if (depth > 6)
            return null;
        switch (type)
        {
            case "object":
                var made = new JsonObject();
                foreach (var (name, property) in schema["properties"]?.AsObject() ?? [])
                    if (random.Next(12) > 0)
                        made[name] = Value(property!, document, depth + 1);
                if (schema["additionalProperties"] is JsonObject values)
                    for (var i = random.Next(4); i > 0; i--)
                        made[
                            random.Next(2) == 0
                                ? new[] { "takes", "into", "when", "policy", "keep", "folder", "leaves-out", "zone" }[random.Next(8)]
                                : Text()
                        ] = Value(values, document, depth + 1);
                if (random.Next(20) == 0)
                    made["stray"] = 1;
                return made;
            case "array":
                var list = new JsonArray();
                for (var i = random.Next(4); i > 0; i--)
                    list.Add(Value(schema["items"]!, document, depth + 1));
                return list;
            case "integer" or "number":
                return JsonValue.Create(
                    random.Next(6) switch
                    {
                        0 => long.MaxValue,
                        1 => long.MinValue,
                        2 => 0,
                        3 => -1,
                        _ => random.Next(1, 50),
                    }
                );
            case "boolean":
                return JsonValue.Create(random.Next(2) == 0);
            default:
                return JsonValue.Create(Text());
        }
    }

    private static string Documents()
    {
        for (var at = new DirectoryInfo(AppContext.BaseDirectory); at is not null; at = at.Parent)
            if (File.Exists(at.FullName + "/docs/api/ironkeep.json"))
                return at.FullName + "/docs/api/ironkeep.json";
        throw new FileNotFoundException("docs/api/ironkeep.json");
    }
}
