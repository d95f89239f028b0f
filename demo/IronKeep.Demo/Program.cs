using System.Security.Cryptography;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Demo;
using IronKeep.Service.Basics;
using IronKeep.Service.Definitions;
using IronKeep.Service.Hearing;
using IronKeep.Service.Hosting;
using IronKeep.Service.SignIn;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;

Privileges.GiveUpReadingAnything();

// Arguments: the folder to work in (made anew), the charter's file, then settings for the service.
if (args.Length < 2)
{
    await Console.Error.WriteLineAsync("usage: ironkeep-demo FOLDER CHARTER [--IronKeep:Listen http://127.0.0.1:7420]");
    return 2;
}
var folder = Path.GetFullPath(args[0]);
var marker = Path.Combine(folder, ".ironkeep-demo");
if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any() && !File.Exists(marker))
{
    await Console.Error.WriteLineAsync($"{folder} is not empty and was not made by the demo; name another folder");
    return 3;
}
const string person = "mira";
try
{
    var now = DateTimeOffset.UtcNow;
    var charterText = await File.ReadAllTextAsync(args[1]);
    var zone = CharterDesk.Check(Placed(charterText, "", "http://127.0.0.1:1")).Charter?.Zone
        ?? throw new StartRefusedException($"the charter {args[1]} has mistakes; check it");
    var clock = new PlayedClock(Nights.Before(now, zone));
    var settings = new[]
    {
        $"--IronKeep:DataFolder={folder}/service",
        "--IronKeep:Machine=heron",
        "--IronKeep:Ticking=false",
        "--IronKeep:Silence=20 hours",
        "--IronKeep:SyslogListen=udp://127.0.0.1:0",
        "--IronKeep:AgentListen=https://127.0.0.1:0",
    };
    // The service's own folder is claimed first: a demo that still runs must not have its folder taken away.
    Directory.CreateDirectory(folder);
    await File.WriteAllTextAsync(marker, "made by the demo; it is made anew at every start\n");
    using (OnlyOne.Claim($"{folder}/service"))
        foreach (var old in Directory.EnumerateDirectories(folder))
            Directory.Delete(old, true);
    await using var app = IronKeepHost.Build([.. settings, .. args[2..]], b =>
    {
        b.Services.AddSingleton<TimeProvider>(clock);
        b.Logging.SetMinimumLevel(LogLevel.Warning);
    });
    await IronKeepHost.PrepareAsync(app);
    var password = $"{Word()}-{Word()}-{Word()}-{RandomNumberGenerator.GetInt32(10, 99)}";
    var people = app.Services.GetRequiredService<People>();
    await people.AddAsync(person, password, CancellationToken.None);
    await people.MakeCodeAsync(CancellationToken.None);

    Directory.CreateDirectory($"{folder}/stores");
    Directory.CreateDirectory($"{folder}/keys");
    using var ticketDesk = await DeskProcess.BeginAsync($"{folder}/desk", $"{folder}/keys/desk.token");
    await File.WriteAllBytesAsync($"{folder}/keys/lighthouse.key", RandomNumberGenerator.GetBytes(32));
    File.SetUnixFileMode($"{folder}/keys/lighthouse.key", UnixFileMode.UserRead | UnixFileMode.UserWrite);
    var data = new SaltmereData($"{folder}/data");
    data.Begin(DateOnly.FromDateTime(now.AddDays(-Nights.Count).UtcDateTime));
    Elsewhere.Begin($"{folder}/data", $"{folder}/stores");
    var charter = Placed(charterText, folder, ticketDesk.Address);
    await File.WriteAllTextAsync($"{folder}/saltmere.yaml", charter);
    await app.StartAsync();
    var address = app.Urls.First();
    var desk = app.Services.GetRequiredService<CharterDesk>();
    if (await desk.ApplyAsync(CharterDesk.Check(charter, desk.Machine), null, person, CancellationToken.None) is { Problem: { } problem })
        throw new StartRefusedException(problem);

    Console.WriteLine($"Saltmere Bird Observatory: playing {Nights.Count} nights through the engine");
    await new Nights(app.Services, clock, data, $"{folder}/stores", person).PlayAsync(now, CancellationToken.None);
    clock.EndPlay();
    data.Begin();
    charter = Placed(await Machines.InAsync(charter, args[1]), folder, ticketDesk.Address);
    await File.WriteAllTextAsync($"{folder}/saltmere.yaml", charter);
    var grown = CharterDesk.Check(charter, desk.Machine);
    if (await desk.ApplyAsync(grown, null, person, CancellationToken.None) is { Problem: { } refused })
        throw new StartRefusedException(refused);
    await SaveClientAsync(app.Services, address);

    var life = app.Services.GetRequiredService<IHostApplicationLifetime>();
    var ticking = TickAsync(app.Services, life.ApplicationStopping);
    using var machines = await Machines.BeginAsync(app.Services, grown.Charter!, folder, person);
    Console.WriteLine(
        $"""

        Iron Keep is ready.
          console   {address}
          name      {person}
          password  {password}
          client    demo/ironkeep duty      (signed in already)
          tickets   {ticketDesk.Address}
        Stop it with Ctrl+C.
        """
    );
    await app.WaitForShutdownAsync();
    await ticking;
    return 0;

    async Task SaveClientAsync(IServiceProvider services, string url)
    {
        var factory = services.GetRequiredService<IDbContextFactory<KeepContext>>();
        await using var db = await factory.CreateDbContextAsync();
        var (_, secret) = await people.MakeTokenAsync(await db.People.SingleAsync(), "the demo's client", CancellationToken.None);
        Directory.CreateDirectory($"{folder}/client/ironkeep");
        WritePrivate($"{folder}/client/ironkeep/client.json", new { Url = url, Token = secret });
        WritePrivate(
            $"{folder}/sign-in.json",
            new
            {
                Url = url,
                Name = person,
                Password = password,
            }
        );
    }
}
catch (StartRefusedException e)
{
    await Console.Error.WriteLineAsync($"the demo cannot start: {e.Message}");
    return 3;
}

static async Task TickAsync(IServiceProvider services, CancellationToken stopping)
{
    var (loop, logs, folders) = (
        services.GetRequiredService<ClockLoop>(),
        services.GetRequiredService<LogWatching>(),
        services.GetRequiredService<FolderWatching>()
    );
    using var timer = new PeriodicTimer(TimeSpan.FromSeconds(1));
    try
    {
        for (var second = 0; await timer.WaitForNextTickAsync(stopping); second++)
        {
            await loop.TickAsync(stopping);
            await logs.LookAsync(stopping);
            if (second % 20 == 0)
                await folders.LookAsync(stopping);
        }
    }
    catch (OperationCanceledException)
    {
        // The service stops.
    }
}

static string Placed(string text, string folder, string desk) =>
    text.Replace("{data}", $"{folder}/data")
        .Replace("{stores}", $"{folder}/stores")
        .Replace("{fleet}", $"{folder}/fleet")
        .Replace("{mail}", $"{folder}/mail")
        .Replace("{keys}", $"{folder}/keys")
        .Replace("{desk}", desk);

static void WritePrivate(string path, object content)
{
    File.Delete(path);
    using var file = new FileStream(
        path,
        new FileStreamOptions
        {
            Mode = FileMode.CreateNew,
            Access = FileAccess.Write,
            UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
        }
    );
    JsonSerializer.Serialize(file, content);
}

static string Word() =>
    RandomNumberGenerator.GetItems<string>(
        [
            "shingle",
            "samphire",
            "curlew",
            "estuary",
            "lantern",
            "reedbed",
            "driftwood",
            "sandbar",
            "heather",
            "skerry",
            "plover",
            "tideline",
        ],
        1
    )[0];
