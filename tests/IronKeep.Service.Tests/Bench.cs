using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Service.SignIn;
using IronKeep.Service.Timetable;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace IronKeep.Service.Tests;

/// <summary>A clock that stands where it is set. Setting it forward lets that time pass; a jump is a clock that somebody moved.</summary>
internal sealed class StandingClock(DateTimeOffset now) : TimeProvider, IronKeep.Stores.Posix.ISteadyClock
{
    /// <summary>As long as it is the same, the machine was not started anew.</summary>
    public string BootId { get; set; } = "boot-1";
    public bool IsKeptRight { get; set; } = true;

    private long passed = 1;

    public DateTimeOffset Now
    {
        get;
        set
        {
            passed += Math.Max(0, (value - field).Ticks);
            field = value;
        }
    } = now;

    public override long TimestampFrequency => TimeSpan.TicksPerSecond;

    public override DateTimeOffset GetUtcNow() => Now;

    public override long GetTimestamp() => passed;

    public void Jump(TimeSpan by)
    {
        var before = passed;
        Now += by;
        passed = before;
    }
}

/// <summary>
/// The real service on loopback over a folder of its own, under a clock that the test sets, called through its API. It can be
/// stopped and started again over the same folder.
/// </summary>
internal sealed class Bench : IAsyncDisposable
{
    public const string Name = "mira";
    public const string Password = "a long sentence";
    private static readonly Lazy<string> Template = new(MakeTemplate);
    private WebApplication? app;
    private string? token;

    private Bench(string root) => Root = root;

    public string Root { get; }
    public string Source => Path.Combine(Root, "source");
    public string StoreFolder => Path.Combine(Root, "cellar");
    public StandingClock Clock { get; } = new(new DateTimeOffset(2026, 11, 23, 9, 0, 0, TimeSpan.Zero));
    public HttpClient Http { get; private set; } = null!;
    public IServiceProvider Services => app!.Services;
    public string? Code { get; private set; }

    /// <summary>Tests let hours pass between two looks, which is no silence unless they mean it.</summary>
    public string Silence { get; set; } = "1000 days";

    private bool Ticking { get; init; }

    /// <summary>The connection string of the catalogue, where it is not a file.</summary>
    public string Catalogue { get; set; } = "";

    /// <summary>A database with the tables, so that each test need not make them.</summary>
    private static string MakeTemplate()
    {
        var made = PostgresServer.NewDatabase();
        using (
            var db = new KeepContext((DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(made).Options)
        )
            db.Database.Migrate();
        Npgsql.NpgsqlConnection.ClearAllPools();
        return new Npgsql.NpgsqlConnectionStringBuilder(made).Database!;
    }

    /// <summary>What the next start replaces among the service's parts, and the settings that it gets besides.</summary>
    public Action<WebApplicationBuilder>? Change { get; set; }
    public string[] More { get; set; } = [];
    public string Machine { get; set; } = "heron";

    /// <summary>Whether the client takes any certificate.</summary>
    public bool Unchecked { get; set; }

    public static async Task<Bench> StartAsync(bool withPerson = true, bool ticking = false, string? under = null)
    {
        var root = under is null
            ? Directory.CreateTempSubdirectory("bench-").FullName
            : Directory.CreateDirectory(Path.Combine(under, $"bench-{Guid.NewGuid():n}")).FullName;
        var bench = new Bench(root) { Ticking = ticking };
        if (PostgresServer.IsWanted && under is null)
            bench.Catalogue = PostgresServer.NewDatabase(Template.Value);
        Directory.CreateDirectory(bench.Source);
        await bench.StartServiceAsync(withPerson);
        return bench;
    }

    public async Task RestartAsync(Action? meanwhile = null)
    {
        await StopAsync();
        meanwhile?.Invoke();
        await StartServiceAsync(false);
    }

    public Task<KeepContext> KeepAsync() => Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();

    public HttpClient Anonymous() =>
        new(new HttpClientHandler { AllowAutoRedirect = false, UseCookies = true }) { BaseAddress = Http.BaseAddress };

    /// <summary>A charter with one job of the source folder; lines can be replaced.</summary>
    public string Charter(string when = "daily at 23:00", string keep = "newest 2", string more = "") =>
        $"""
            charter: 1
            zone: Europe/London
            stores:
              cellar: {"{"} folder: {StoreFolder}, bin: 2 days {"}"}
            policies:
              few: {"{"} keep: {keep} {"}"}
            jobs:
              register:
                takes: {Source}
                into: cellar
                when: {when}
                policy: few
                {more}
            """;

    public async Task ApplyAsync(string yaml) =>
        await SendAsync<CharterDiffAnswer>(HttpMethod.Put, "charter?confirm=true", new CharterText(yaml));

    public Task<T> GetAsync<T>(string path) => SendAsync<T>(HttpMethod.Get, path);

    /// <summary>Sends, expects success, and reads the answer.</summary>
    public async Task<T> SendAsync<T>(HttpMethod method, string path, object? body = null)
    {
        using var response = await RawAsync(method, path, body);
        var text = await response.Content.ReadAsStringAsync();
        Assert.True(response.IsSuccessStatusCode, $"{method} {path}: {(int)response.StatusCode} {text}");
        return JsonSerializer.Deserialize<T>(text, ContractJson.Options)!;
    }

    public async Task<HttpResponseMessage> RawAsync(HttpMethod method, string path, object? body = null)
    {
        using var request = new HttpRequestMessage(method, "/api/v1/" + path);
        if (body is not null)
            request.Content = JsonContent.Create(body, body.GetType(), options: ContractJson.Options);
        return await Http.SendAsync(request);
    }

    /// <summary>Sets the clock, lets the loop look at it, and waits until all work is done.</summary>
    public async Task TickAsync(string utc)
    {
        Clock.Now = DateTimeOffset.Parse(utc, System.Globalization.CultureInfo.InvariantCulture);
        await Services.GetRequiredService<ClockLoop>().TickAsync();
        await IdleAsync();
    }

    /// <summary>The catalogue is lost, and another is begun with the next start.</summary>
    public void LoseCatalogue()
    {
        foreach (var file in Directory.EnumerateFiles(Root + "/service", "catalogue.*"))
            File.Delete(file);
        if (Catalogue.Length == 0)
            return;
        PostgresServer.Drop(Catalogue);
        Catalogue = PostgresServer.NewDatabase(Template.Value);
    }

    public Task<IDisposable> HoldLoopAsync() => Services.GetRequiredService<ClockLoop>().HoldAsync(default);

    public Task IdleAsync() => Services.GetRequiredService<Dispatch>().WhenIdleAsync();

    /// <summary>Begins a run and waits for its end.</summary>
    public async Task<RunAnswer> RunAsync(string path, object? body = null)
    {
        var run = await SendAsync<RunAnswer>(HttpMethod.Post, path, body);
        await IdleAsync();
        return await GetAsync<RunAnswer>($"runs/{run.Id}");
    }

    public Task<RunAnswer> BackUpAsync() => RunAsync("jobs/register/runs");

    public async Task<IReadOnlyList<AlertAnswer>> OpenAlertsAsync() => (await GetAsync<Page<AlertAnswer>>("alerts?state=open")).Items;

    public async Task<IReadOnlyList<CopyAnswer>> CopiesAsync() => (await GetAsync<Page<CopyAnswer>>("copies")).Items;

    public void Write(string path, string content)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(Source, path))!);
        File.WriteAllText(Path.Combine(Source, path), content);
    }

    private async Task StartServiceAsync(bool withPerson)
    {
        app = IronKeepHost.Build(
            [
                $"--IronKeep:DataFolder={Root}/service",
                "--IronKeep:Listen=http://127.0.0.1:0",
                $"--IronKeep:Machine={Machine}",
                $"--IronKeep:Ticking={Ticking}",
                $"--IronKeep:Silence={Silence}",
                $"--IronKeep:Catalogue={Catalogue}",
                .. More,
            ],
            b =>
            {
                b.Services.AddSingleton<TimeProvider>(Clock);
                b.Logging.ClearProviders();
                Change?.Invoke(b);
            }
        );
        Code = await IronKeepHost.PrepareAsync(app);
        await app.StartAsync();
        var handler = new HttpClientHandler();
        if (Unchecked)
            handler.ServerCertificateCustomValidationCallback = (_, _, _, _) => true;
        Http = new HttpClient(handler)
        {
            BaseAddress = new Uri(app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First()),
        };
        var people = Services.GetRequiredService<People>();
        // A catalogue that was begun anew knows nobody.
        if (withPerson || (token is not null && Code is not null))
            token = await SignInAsync(people);
        if (token is not null)
            Http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
    }

    private static async Task<string> SignInAsync(People people)
    {
        Assert.Null(await people.AddAsync(Name, Password, default));
        await people.MakeCodeAsync(default);
        return (await people.MakeTokenAsync((await people.CheckAsync(Name, Password, default))!, "test", default)).Secret;
    }

    /// <summary>Stops the service; the folder stays.</summary>
    public async Task StopAsync()
    {
        if (app is null)
            return;
        Http.Dispose();
        await app.StopAsync();
        await app.DisposeAsync();
        app = null;
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        if (Catalogue.Length > 0)
            PostgresServer.Drop(Catalogue);
        // The standard library cannot delete names that are not UTF-8.
        using var remove = System.Diagnostics.Process.Start("rm", ["-rf", Root]);
        await remove.WaitForExitAsync();
    }
}
