using System.Diagnostics;
using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Definitions;
using IronKeep.Service.Hearing;
using IronKeep.Service.Hosting;
using IronKeep.Stores.Dated;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using NodaTime;

namespace IronKeep.Bench;

/// <summary>Watching at scale: a folder of very many dated files, many followed logs that are idle, and very many check-ins.</summary>
internal static class WatchingBench
{
    private const int Files = 100_000,
        Logs = 2_000,
        Idle = 30,
        Jobs = 1_000,
        Seconds = 60,
        Warm = 20,
        Rounds = 5;

    /// <summary>All of it, or one part: "folders", "logs" or "check-ins".</summary>
    public static async Task MeasureAsync(string folder, string? part)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}'");
        if (part is null or "folders")
            LookOver(folder);
        if (part is null or "logs")
            await FollowAsync(folder);
        if (part is null or "check-ins")
            await CheckInAsync(folder);
        Shell.Run($"rm -rf '{folder}'");
    }

    private sealed class NoMemory : IFileMemory
    {
        private long version;
        private readonly Dictionary<string, FileMark> marks = [];

        public (long Version, IReadOnlyList<FileMark>? Marks) Load(long known) =>
            known == version ? (known, null) : (version, [.. marks.Values]);

        public long? Save(long known, IReadOnlyCollection<FileMark> kept, IReadOnlyCollection<string> forgotten)
        {
            foreach (var mark in kept)
                marks[mark.Path] = mark;
            return ++version;
        }
    }

    private static void LookOver(string folder)
    {
        Directory.CreateDirectory($"{folder}/dumps");
        for (var i = 0; i < Files; i++)
            File.WriteAllText(
                $"{folder}/dumps/job-{i % 500:000}"
                    + $"_{new LocalDate(2026, 1, 1).PlusDays(i / 500).ToString("uuuuMMdd", CultureInfo.InvariantCulture)}.sql.gz",
                "dump"
            );
        var terms = new DatedFiles(NamePattern.Read("{job}_{yyyy}{MM}{dd}.sql.gz", []).Pattern!, null, DatedFiles.UsualSettledAfter);
        using var store = new DatedStore($"{folder}/dumps", terms, DateTimeZone.Utc, new NoMemory(), TimeProvider.System);
        var first = Timed(() => store.Look());
        var (find, look) = (new List<double>(), new List<double>());
        for (var i = 0; i < Rounds; i++)
        {
            find.Add(Timed(() => Shell.Run($"find '{folder}/dumps' -printf '%s %T@ %p\\n' > /dev/null")));
            look.Add(Timed(() => store.Look()));
        }
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{Files} dated files: looked over in {Median(look):0} ms, find in {Median(find):0} ms, ratio "
                    + $"{Median(look) / Median(find):0.00}; the first look {first:0} ms"
            )
        );
    }

    private static double Median(List<double> times) => times.Order().ElementAt(times.Count / 2);

    private static double Timed(Action work)
    {
        var watch = Stopwatch.StartNew();
        work();
        return watch.Elapsed.TotalMilliseconds;
    }

    private static int started;

    private static async Task<WebApplication> StartAsync(string folder, string charter)
    {
        var app = IronKeepHost.Build(
            [$"--IronKeep:DataFolder={folder}/service-{++started}", "--IronKeep:Listen=http://127.0.0.1:0", "--IronKeep:Machine=heron"],
            b => b.Logging.ClearProviders()
        );
        await IronKeepHost.PrepareAsync(app);
        await app.StartAsync();
        if (
            await app.Services.GetRequiredService<CharterDesk>().ApplyAsync(CharterDesk.Check(charter), null, "bench", default) is
            { Problem: { } problem }
        )
            throw new InvalidOperationException(problem);
        return app;
    }

    /// <summary>
    /// The service with followed logs in which nothing is written, beside the same service without; then how soon a line is seen.
    /// </summary>
    private static async Task FollowAsync(string folder)
    {
        Directory.CreateDirectory($"{folder}/logs");
        for (var i = 0; i < Logs; i++)
            File.WriteAllText($"{folder}/logs/{i}.log", "copy started\n120 files, 4 MB\nall done\ncopy ended\n");
        var without = await CpuAsync(folder, false, null);
        var delays = new List<double>();
        var with = await CpuAsync(folder, true, delays);
        delays.Sort();
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{Logs} followed logs, idle: {with:0.00} % of a core, the same service without {without:0.00} %, so {with - without:0.00} "
                    + $"% for following; a line was seen after {delays[delays.Count / 2]:0.00} s, the slowest of {delays.Count} after "
                    + $"{delays[^1]:0.00} s"
            )
        );
    }

    private static async Task<double> CpuAsync(string folder, bool heard, List<double>? delays)
    {
        var jobs = string.Concat(
            Enumerable
                .Range(0, Logs)
                .Select(i =>
                    $"  job-{i:0000}: {{ watched: yes, when: \"daily at "
                    + $"03:00\"{(heard ? $", heard-by: log, log: {folder}/logs/{i}.log, log-rules: plain" : "")} }}\n"
                )
        );
        await using var app = await StartAsync(
            folder,
            $"charter: 1\nlog-rules: {{ plain: {{ begins: copy started, ends: copy ended, ok: all done }} }}\njobs:\n{jobs}"
        );
        await Task.Delay(TimeSpan.FromSeconds(30));
        var before = Process.GetCurrentProcess().TotalProcessorTime;
        await Task.Delay(TimeSpan.FromSeconds(Idle));
        var used = (Process.GetCurrentProcess().TotalProcessorTime - before).TotalSeconds / Idle * 100;
        for (var i = 0; delays is not null && i < 20; i++)
            delays.Add(await SeenAsync(app, folder, i * 97 % Logs));
        await app.StopAsync();
        return used;
    }

    private static async Task<double> SeenAsync(WebApplication app, string folder, int log)
    {
        await using var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var job = $"job-{log:0000}";
        var known = await db.Runs.CountAsync(r => r.Job == job);
        await Task.Delay(Random.Shared.Next(900));
        var watch = Stopwatch.StartNew();
        await File.AppendAllTextAsync($"{folder}/logs/{log}.log", $"copy started\n{log} files\n");
        while (await db.Runs.CountAsync(r => r.Job == job) == known && watch.Elapsed < TimeSpan.FromSeconds(10))
            await Task.Delay(10);
        return watch.Elapsed.TotalSeconds;
    }

    /// <summary>A thousand check-ins a second for a minute: each job says in turn that it starts and that it ended well.</summary>
    private static async Task CheckInAsync(string folder)
    {
        var jobs = string.Concat(Enumerable.Range(0, Jobs).Select(i => $"  job-{i:0000}: {{ watched: yes, when: \"daily at 03:00\" }}\n"));
        await using var app = await StartAsync(folder, $"charter: 1\njobs:\n{jobs}");
        var addresses = app.Services.GetRequiredService<CheckInAddresses>();
        var secrets = new List<string>();
        for (var i = 0; i < Jobs; i++)
            secrets.Add((await addresses.MakeAsync($"job-{i:0000}", "heron", "bench", default)).Secret);
        await File.WriteAllLinesAsync($"{folder}/secrets", secrets);
        var port = new Uri(app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First()).Port;
        // A service that has been running for a while has its code compiled.
        Ask(Warm);
        GC.Collect();
        var (memory, cpu, clock) = (Environment.WorkingSet, Process.GetCurrentProcess().TotalProcessorTime, Stopwatch.StartNew());
        var (gcs, pause) = (GC.CollectionCount(0), GC.GetTotalPauseDuration().TotalSeconds);
        Ask(Seconds);
        var used = (Process.GetCurrentProcess().TotalProcessorTime - cpu) / clock.Elapsed;
        await using var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var runs = await db.Runs.CountAsync(r => r.Kind == RunKind.Watched && r.State == RunState.Ended && r.Outcome == Outcome.Ok);
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{runs} runs of {Jobs * (Seconds + Warm) / 2} in the catalogue; the service's memory {memory / 1_000_000} MB before, "
                    + $"{Environment.WorkingSet / 1_000_000} MB after, and {used * 100:0} % of a core, {GC.CollectionCount(0) - gcs} "
                    + $"collections of the heap that paused it for {GC.GetTotalPauseDuration().TotalSeconds - pause:0.0} s in all"
            )
        );
        await app.StopAsync();

        void Ask(int seconds)
        {
            using var asker = Process.Start(
                new ProcessStartInfo(
                    "dotnet",
                    [typeof(WatchingBench).Assembly.Location, "ask", $"{port}", $"{folder}/secrets", $"{Jobs}", $"{seconds}"]
                )
            )!;
            asker.WaitForExit();
        }
    }
}
