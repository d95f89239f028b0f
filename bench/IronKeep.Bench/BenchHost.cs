using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using IronKeep.Service.Hosting;
using IronKeep.Service.SignIn;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace IronKeep.Bench;

/// <summary>A service in this process and somebody who is signed in to it.</summary>
internal static class BenchHost
{
    public static async Task<(WebApplication App, HttpClient Http)> StartAsync(string folder, params string[] settings)
    {
        var app = IronKeepHost.Build(
            [
                $"--IronKeep:DataFolder={folder}/service",
                "--IronKeep:RunsAtOnce=8",
                "--IronKeep:Listen=http://127.0.0.1:0",
                "--IronKeep:Machine=heron",
                .. settings,
            ],
            b => b.Logging.ClearProviders()
        );
        await IronKeepHost.PrepareAsync(app);
        await app.StartAsync();
        var people = app.Services.GetRequiredService<People>();
        if (await people.CheckAsync("mira", "a long sentence", default) is null)
        {
            await people.AddAsync("mira", "a long sentence", default);
            await people.MakeCodeAsync(default);
        }
        var token = await people.MakeTokenAsync((await people.CheckAsync("mira", "a long sentence", default))!, "bench", default);
        var http = new HttpClient
        {
            BaseAddress = new Uri(app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First()),
        };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token.Secret);
        return (app, http);
    }

    /// <summary>Asks each path so many times, one after the other, and prints how long it took.</summary>
    public static async Task ListsAsync(HttpClient http, int times, params string[] paths)
    {
        Console.WriteLine("| asked | median, ms | 99th percentile, ms | answer |");
        Console.WriteLine("|---|---|---|---|");
        foreach (var path in paths)
        {
            var bytes = 0L;
            for (var i = 0; i < 40; i++)
                bytes = await AskAsync(http, path);
            var took = new List<double>();
            for (var i = 0; i < times; i++)
            {
                var watch = Stopwatch.StartNew();
                await AskAsync(http, path);
                took.Add(watch.Elapsed.TotalMilliseconds);
            }
            took.Sort();
            Console.WriteLine(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"| `{path}` | {took[times / 2]:0.0} | {took[times * 99 / 100 - 1]:0.0} | {bytes / 1000.0:0.0} kB |"
                )
            );
        }
    }

    /// <summary>Asks, and reads the answer without keeping it: what the asking side allocates is not the service's.</summary>
    private static async Task<long> AskAsync(HttpClient http, string path)
    {
        using var answer = await http.GetAsync("/api/v1/" + path, HttpCompletionOption.ResponseHeadersRead);
        answer.EnsureSuccessStatusCode();
        await using var body = await answer.Content.ReadAsStreamAsync();
        var bytes = 0L;
        while (await body.ReadAsync(Buffer) is > 0 and var read)
            bytes += read;
        return bytes;
    }

    private static readonly byte[] Buffer = new byte[64 * 1024];
}
