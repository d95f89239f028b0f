using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Client;

/// <summary>A refusal or failure, as a sentence for the person and the exit code that goes with it.</summary>
public sealed class AnswerException(int exitCode, string message, IReadOnlyList<MistakeAnswer>? mistakes = null, string? code = null)
    : Exception(Sentence.Begin(message))
{
    public int ExitCode { get; } = exitCode;
    public IReadOnlyList<MistakeAnswer> Mistakes { get; } = mistakes ?? [];

    /// <summary>The refusal's code (see <see cref="ProblemCodes"/>), where it has one.</summary>
    public string? Code { get; } = code;
}

/// <summary>Talks to the service with a personal token.</summary>
public sealed class KeepClient : IDisposable
{
    private readonly HttpClient http;

    private KeepClient(string url, string? token)
    {
        http = new HttpClient { BaseAddress = new Uri(url.TrimEnd('/') + "/"), Timeout = TimeSpan.FromMinutes(5) };
        if (token is not null)
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
    }

    /// <summary>A client for the given address, else the one in IRONKEEP_URL, else the one signed in to.</summary>
    public static KeepClient Open(string? url)
    {
        var saved = Credentials.Read();
        var address = url ?? Environment.GetEnvironmentVariable("IRONKEEP_URL") ?? saved?.Url ?? "http://127.0.0.1:7420";
        if (!Uri.TryCreate(address, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
            throw new AnswerException(Root.NotUnderstood, $"'{address}' is not an address; write http://127.0.0.1:7420, say");
        // A token goes only to the service it was made by.
        var token = Environment.GetEnvironmentVariable("IRONKEEP_TOKEN") ?? (saved?.Url == address ? saved.Token : null);
        return new KeepClient(address, token);
    }

    public string Address => http.BaseAddress!.ToString().TrimEnd('/');

    public Task<T> GetAsync<T>(string path, CancellationToken cancel) => SendAsync<T>(HttpMethod.Get, path, null, cancel);

    public Task<T> PostAsync<T>(string path, object? body, CancellationToken cancel) => SendAsync<T>(HttpMethod.Post, path, body, cancel);

    public Task<T> PutAsync<T>(string path, object body, CancellationToken cancel, string? ifMatch = null) =>
        SendAsync<T>(HttpMethod.Put, path, body, cancel, ifMatch);

    public Task<T> DeleteAsync<T>(string path, CancellationToken cancel, string? ifMatch = null) =>
        SendAsync<T>(HttpMethod.Delete, path, null, cancel, ifMatch);

    /// <summary>An answer that is text as it stands.</summary>
    public async Task<string> GetTextAsync(string path, CancellationToken cancel)
    {
        using var response = await ReachAsync(() => http.GetAsync(new Uri("api/v1/" + path, UriKind.Relative), cancel));
        await CheckAsync(response, cancel);
        return await response.Content.ReadAsStringAsync(cancel);
    }

    /// <summary>Writes an answer to a stream as it comes; one that breaks off is a failure.</summary>
    public async Task GetBytesAsync(string path, Stream into, CancellationToken cancel)
    {
        using var response = await ReachAsync(() =>
            http.GetAsync(new Uri("api/v1/" + path, UriKind.Relative), HttpCompletionOption.ResponseHeadersRead, cancel)
        );
        await CheckAsync(response, cancel);
        try
        {
            await using var from = await response.Content.ReadAsStreamAsync(cancel);
            await from.CopyToAsync(into, cancel);
        }
        catch (Exception e) when (e is HttpRequestException or IOException)
        {
            throw new AnswerException(
                Root.Failed,
                $"The service at {Address} broke off in the middle: {e.Message}; what was written is not whole, and the service's log says "
                    + $"why"
            );
        }
    }

    /// <summary>All pages of a list, up to a number of items.</summary>
    public async Task<List<T>> ListAsync<T>(string path, int most, CancellationToken cancel)
    {
        var items = new List<T>();
        string? next = null;
        do
        {
            var separator = path.Contains('?') ? '&' : '?';
            var page = await GetAsync<Page<T>>(
                $"{path}{separator}limit={Math.Min(1000, most - items.Count)}{(next is null ? "" : $"&cursor={next}")}",
                cancel
            );
            items.AddRange(page.Items);
            next = page.Next;
        } while (next is not null && items.Count < most);
        return items;
    }

    /// <summary>The live events of the service, until cancelled.</summary>
    public async IAsyncEnumerable<KeepEvent> EventsAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, "api/v1/events");
        using var response = await ReachAsync(() => http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel));
        await CheckAsync(response, cancel);
        await using var stream = await response.Content.ReadAsStreamAsync(cancel);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(cancel))
            yield return JsonSerializer.Deserialize(item.Data, ClientJson.Of<KeepEvent>())!;
    }

    public void Dispose() => http.Dispose();

    private async Task<T> SendAsync<T>(HttpMethod method, string path, object? body, CancellationToken cancel, string? ifMatch = null)
    {
        using var request = new HttpRequestMessage(method, "api/v1/" + path);
        if (body is not null)
            request.Content = JsonContent.Create(body, ClientJson.Options.GetTypeInfo(body.GetType()));
        // "*" asks for something new: it must not be there yet.
        if (ifMatch is not null)
            request.Headers.TryAddWithoutValidation(ifMatch == "*" ? "If-None-Match" : "If-Match", ifMatch);
        using var response = await ReachAsync(() => http.SendAsync(request, cancel));
        await CheckAsync(response, cancel);
        return response.StatusCode == HttpStatusCode.NoContent
            ? default!
            : (await response.Content.ReadFromJsonAsync(ClientJson.Of<T>(), cancel))!;
    }

    private async Task<HttpResponseMessage> ReachAsync(Func<Task<HttpResponseMessage>> send)
    {
        try
        {
            return await send();
        }
        catch (HttpRequestException e)
        {
            throw new AnswerException(
                Root.Failed,
                $"The service at {Address} cannot be reached ({e.InnerException?.Message ?? e.Message}); start it, or name another with "
                    + $"--url"
            );
        }
    }

    private static async Task CheckAsync(HttpResponseMessage response, CancellationToken cancel)
    {
        if (response.IsSuccessStatusCode)
            return;
        var detail = $"The service answered {(int)response.StatusCode}";
        IReadOnlyList<MistakeAnswer>? mistakes = null;
        string? code = null;
        try
        {
            using var problem = JsonDocument.Parse(await response.Content.ReadAsStringAsync(cancel));
            detail = problem.RootElement.GetProperty("detail").GetString() ?? detail;
            var facts = new Dictionary<string, string>();
            if (problem.RootElement.TryGetProperty("facts", out var told))
                foreach (var fact in told.EnumerateObject())
                    facts[fact.Name] = fact.Value.GetString() ?? "";
            code = problem.RootElement.TryGetProperty("code", out var given) ? given.GetString() : null;
            if (WaysOut.Of(code, facts) is { } wayOut)
                detail = $"{detail}; {wayOut}";
            if (problem.RootElement.TryGetProperty("mistakes", out var list))
                mistakes = list.Deserialize(ClientJson.Of<List<MistakeAnswer>>());
        }
        catch (Exception e) when (e is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            // Something between us and the service answered; its status is all there is.
        }
        throw new AnswerException(
            (int)response.StatusCode switch
            {
                400 => Root.NotUnderstood,
                >= 500 => Root.Failed,
                _ => Root.Refused,
            },
            detail,
            mistakes,
            code
        );
    }
}
