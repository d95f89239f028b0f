using System.Diagnostics;
using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Definitions;
using IronKeep.Service.Facts;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using NodaTime;

namespace IronKeep.Bench;

/// <summary>
/// Alerts and telling: the lists over a catalogue with many alerts, Duty over many jobs, how soon a fact reaches a webhook, and how many
/// failures of one store become one alert and one mail. The service's own loops turn, as they do anywhere.
/// </summary>
internal static class TellingBench
{
    private const int Jobs = 10_000,
        Nights = 14,
        Alerts = 100_000,
        Open = 60,
        Asked = 100,
        Failing = 500,
        Facts = 20;

    /// <param name="folder">Emptied.</param>
    /// <param name="part">"lists" or "told"; null: both.</param>
    public static async Task MeasureAsync(string folder, string? part)
    {
        if (part is null or "lists")
            await ListsAsync(folder + "/lists");
        if (part is null or "told")
            await TellAsync(folder + "/told");
    }

    private static async Task ListsAsync(string folder)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}/data'");
        var (app, http) = await BenchHost.StartAsync(folder, "--IronKeep:Ticking=false");
        await using var _ = app;
        using var __ = http;
        await ApplyAsync(
            app,
            folder,
            Jobs,
            j => $"when: 'daily at {j % 24:00}:{j % 60:00}', fresh-within: 2 days, tags: [tag-{j % 40}]",
            ""
        );
        await using (var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
            await FillAsync(db);
        Console.WriteLine($"\n{Jobs} jobs, {Jobs * Nights} planned runs, {Alerts} alerts ({Open} open); {Asked} requests each\n");
        await BenchHost.ListsAsync(
            http,
            Asked,
            "alerts?state=open",
            "alerts?limit=100",
            "alerts?job=job-0500",
            "alerts?severity=danger&limit=100",
            "alerts?find=is+not+there&limit=100",
            "alerts?find=nowhere+to+be+found",
            "alerts/50000",
            "duty",
            "duty?by=machine"
        );
        await app.StopAsync();
    }

    private static async Task FillAsync(KeepContext db)
    {
        var now = SystemClock.Instance.GetCurrentInstant().ToUnixTimeTicks();
        const string minute = "600000000",
            day = "864000000000";
        string Numbers(int count) => $"WITH RECURSIVE r(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM r WHERE i + 1 < {count})";
        const string job = "printf('job-%04d', i % 10000)";
        var opened = $"{now} - (365 * {day} / {Alerts}) * ({Alerts} - i)";
        await LargeCatalogue.InsertAsync(
            db,
            Numbers(Jobs * Nights),
            "PlannedRuns",
            ("Job", job),
            ("Machine", "'heron'"),
            ("Due", $"{now} - ({Nights} - i / {Jobs}) * {day} + (i % 1440) * {minute}"),
            ("Outcome", "CASE WHEN i % 97 = 0 THEN 'failed' ELSE 'ok' END")
        );
        await LargeCatalogue.InsertAsync(
            db,
            Numbers(Jobs * 2),
            "Copies",
            ("Id", "'c' || i"),
            ("Origin", "'c' || i"),
            ("NoteDue", "false"),
            ("Job", job),
            ("Machine", "'heron'"),
            ("Store", "'s'"),
            ("Taken", $"{now} - (i / {Jobs}) * {day} - (i % 1440) * {minute}"),
            ("Ended", $"{now} - (i / {Jobs}) * {day} - (i % 1440) * {minute}"),
            ("State", "'sound'"),
            ("Items", "1000"),
            ("Bytes", "5000000000"),
            ("Skipped", "0"),
            ("NewBytes", "15000000"),
            ("StoredBytes", "9000000"),
            ("Damage", "''"),
            ("DamageCount", "0")
        );
        await LargeCatalogue.InsertAsync(
            db,
            Numbers(Alerts),
            "Alerts",
            ("SubjectKind", "'job'"),
            ("SubjectJob", job),
            ("SubjectMachine", "'heron'"),
            ("Class", "CASE i % 3 WHEN 0 THEN 'failed' WHEN 1 THEN 'missed' ELSE 'stale' END"),
            ("Severity", "CASE i % 50 WHEN 0 THEN 'danger' WHEN 1 THEN 'broken-promise' ELSE 'failure' END"),
            ("State", $"CASE WHEN i >= {Alerts - Open} THEN 'open' ELSE 'closed' END"),
            ("Message", $"'The folder /srv/data/' || {job} || ' is not there'"),
            ("Remedy", "'See to it that the folder is mounted'"),
            ("Affected", "''"),
            ("Count", "1"),
            ("OpenedAt", opened),
            ("LastAt", opened),
            ("ClosedAt", $"CASE WHEN i >= {Alerts - Open} THEN NULL ELSE {opened} + {day} END")
        );
        await db.Database.ExecuteSqlRawAsync("ANALYZE");
    }

    private static async Task TellAsync(string folder)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}/data' '{folder}/drop'");
        var arrived = new System.Collections.Concurrent.ConcurrentQueue<(TimeSpan At, string Body)>();
        var steady = Stopwatch.StartNew();
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        await using var hook = builder.Build();
        hook.Urls.Add("http://127.0.0.1:0");
        hook.Run(async context =>
        {
            using var reader = new StreamReader(context.Request.Body);
            arrived.Enqueue((steady.Elapsed, await reader.ReadToEndAsync()));
            context.Response.StatusCode = StatusCodes.Status204NoContent;
        });
        await hook.StartAsync();
        var (app, http) = await BenchHost.StartAsync(folder);
        await using var _ = app;
        using var __ = http;
        await ApplyAsync(
            app,
            folder,
            Failing + Facts,
            _ => $"when: 'daily at {DateTime.UtcNow.AddHours(11):HH:mm}'",
            $"channels:\n  hook: {{ webhook: {hook.Urls.Single()}/ }}\n"
                + $"  drop: {{ mail-to: mira@saltmere.example, mail-from: keep@saltmere.example, pickup: {folder}/drop }}\n"
                + "tells: [hook, drop]\n"
        );
        // A plain call of the same address is the yardstick of what the network takes.
        var plain = new List<double>();
        var told = new List<double>();
        for (var i = 0; i < Facts; i++)
        {
            var asked = Stopwatch.StartNew();
            using (await http.PostAsync(hook.Urls.Single(), new StringContent("{}")))
                plain.Add(asked.Elapsed.TotalMilliseconds);
            // What was told before would make a flood of it.
            await using (var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
                await db.Messages.Where(m => m.EndedAt != null).ExecuteDeleteAsync();
            arrived.Clear();
            var said = await SayAsync(app, [$"job-{Failing + i:0000}"], FailureClass.SourceUnreadable, steady);
            while (arrived.IsEmpty)
                await Task.Delay(1);
            told.Add((arrived.First().At - said).TotalMilliseconds);
        }
        plain.Sort();
        told.Sort();
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"\nFrom the fact to the webhook, {Facts} times: median {told[Facts / 2]:0} ms, longest {told[^1]:0} ms; a plain call of "
                    + $"the same address takes {plain[Facts / 2]:0.0} ms"
            )
        );
        await Task.Delay(TimeSpan.FromSeconds(3));
        await using (var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
            await db.Messages.ExecuteDeleteAsync();
        foreach (var mail in Directory.EnumerateFiles(folder + "/drop"))
            File.Delete(mail);
        arrived.Clear();
        var begun = await SayAsync(
            app,
            [.. Enumerable.Range(0, Failing).Select(j => $"job-{j:0000}")],
            FailureClass.StoreUnreachable,
            steady
        );
        while (!Directory.EnumerateFiles(folder + "/drop").Any())
            await Task.Delay(5);
        var first = steady.Elapsed - begun;
        await app.Services.GetRequiredService<FactCarrier>().CarryAsync(default);
        var all = steady.Elapsed - begun;
        // What would come besides has time to.
        await Task.Delay(TimeSpan.FromSeconds(20));
        await using var after = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var alert = await after.Alerts.AsNoTracking().Where(a => a.SubjectKind == SubjectKind.Store).ToListAsync();
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{Failing} runs fail on one store at once: {alert.Count} alert with {alert[0].Affected.Split('\n').Length} jobs, "
                    + $"{Mails("FAILED")} mail when it began and {Mails("closed")} when the store answered, {arrived.Count} calls of the "
                    + $"webhook; the first mail after "
                    + $"{first.TotalSeconds:0.0} s, all facts followed after {all.TotalSeconds:0.0} s"
            )
        );
        await app.StopAsync();

        int Mails(string word) =>
            Directory.EnumerateFiles(folder + "/drop").Count(f => File.ReadLines(f).Any(l => l.StartsWith("Subject:") && l.Contains(word)));
    }

    /// <summary>Says that runs of the jobs have failed, as a worker that ends them does; when it was said.</summary>
    private static async Task<TimeSpan> SayAsync(WebApplication app, string[] jobs, FailureClass why, Stopwatch steady)
    {
        await using var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        await using var change = await db.BeginChangeAsync(default);
        var now = SystemClock.Instance.GetCurrentInstant();
        var runs = jobs.Select(job => new Run
            {
                Kind = RunKind.Backup,
                Job = job,
                Machine = "heron",
                Store = "s",
                By = Actor.Schedule,
                State = RunState.Ended,
                Outcome = Outcome.Failed,
                Failure = why,
                FailedStore = why == FailureClass.StoreUnreachable ? "s" : null,
                Sentence = why == FailureClass.StoreUnreachable ? "The store s does not answer" : "The folder is not there",
                Queued = now,
                Began = now,
                Ended = now,
            })
            .ToList();
        db.Runs.AddRange(runs);
        await db.SaveChangesAsync();
        foreach (var run in runs)
            db.SayEnded(run, now);
        await db.SaveChangesAsync();
        await change.CommitAsync(default);
        app.Services.GetRequiredService<FactSignal>().Wake();
        return steady.Elapsed;
    }

    private static async Task ApplyAsync(WebApplication app, string folder, int jobs, Func<int, string> more, string channels)
    {
        var yaml = new System.Text.StringBuilder(
            $"charter: 1\nzone: Europe/London\n{channels}stores:\n  s: {{ folder: {folder}/store }}\n"
                + "policies:\n  p: { keep: newest 20 }\njobs:\n"
        );
        for (var j = 0; j < jobs; j++)
            yaml.Append(CultureInfo.InvariantCulture, $"  job-{j:0000}: {{ takes: {folder}/data, into: s, policy: p, {more(j)} }}\n");
        if (
            await app.Services.GetRequiredService<CharterDesk>().ApplyAsync(CharterDesk.Check(yaml.ToString()), null, "bench", default) is
            { Problem: { } problem }
        )
            throw new InvalidOperationException(problem);
    }
}
