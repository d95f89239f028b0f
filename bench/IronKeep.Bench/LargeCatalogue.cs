using System.Diagnostics;
using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Definitions;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Service.Tests;
using IronKeep.Service.Timetable;
using IronKeep.Service.Upkeep;
using IronKeep.Stores.Pooled;
using Microsoft.AspNetCore.Builder;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Bench;

/// <summary>Duty and the lists over a large catalogue, asked through the API on loopback like any page asks.</summary>
internal static class LargeCatalogue
{
    /// <summary>How many jobs on how many machines each, over how many nights, with how many copies that are still there.</summary>
    private sealed record Shape(int Jobs, int Machines, int Nights, int Copies)
    {
        public int Placed => Jobs * Machines;
        public bool IsMany => Machines > 1;
    }

    private static readonly Shape OnOne = new(1_000, 1, 300, 20),
        OnMany = new(4, 300, 750, 125);
    private const int Asked = 200;

    private const int Facts = 20_000,
        Due = 2_000;

    /// <summary>The same on a SQLite file and on a PostgreSQL of its own, one after the other.</summary>
    public static async Task MeasureAsync(string folder, bool withLists)
    {
        await MeasureAsync(folder, "", withLists);
        var database = PostgresServer.NewDatabase();
        await MeasureAsync(folder, database, withLists);
        PostgresServer.Drop(database);
    }

    private static async Task MeasureAsync(string folder, string catalogue, bool withLists)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}/data'");
        var (app, http) = await BenchHost.StartAsync(folder, "--IronKeep:Ticking=false", $"--IronKeep:Catalogue={catalogue}");
        await using var _ = app;
        using var __ = http;
        await FillAsync(app, folder, OnOne);
        Say(catalogue, OnOne);
        if (withLists)
            await BenchHost.ListsAsync(
                http,
                Asked,
                "duty",
                "jobs",
                "jobs/job-0500",
                "runs?limit=100",
                "runs?job=job-0500",
                "runs?outcome=failed&limit=100",
                "copies?limit=200",
                "copies?job=job-0500",
                "alerts?state=open",
                "stores",
                "timetable?hours=48",
                "jobs/job-0500/history"
            );
        await FactsAsync(app);
        await DueAsync(app, folder);
        await app.StopAsync();
        Shell.Run($"rm -rf '{folder}'");
    }

    /// <summary>Two years of a few jobs on hundreds of machines: the pages, a start, and a tick at which all is looked over.</summary>
    public static async Task MeasureManyAsync(string folder)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}/data'");
        var (app, http) = await BenchHost.StartAsync(folder, "--IronKeep:Ticking=false");
        using (http)
        await using (app)
        {
            await FillAsync(app, folder, OnMany);
            Say("", OnMany);
            await BenchHost.ListsAsync(
                http,
                Asked,
                "duty",
                "jobs",
                "jobs?machine=tern-0100",
                "jobs?job=job-0001",
                "machines",
                "runs?limit=100",
                "runs?job=job-0001&limit=100",
                "runs?machine=tern-0100&limit=100",
                "copies?limit=200",
                "copies?job=job-0001&machine=tern-0100",
                "copies/counts",
                "timetable?hours=48"
            );
            await app.StopAsync();
        }
        var watch = Stopwatch.StartNew();
        var (again, asked) = await BenchHost.StartAsync(folder, "--IronKeep:Ticking=false");
        using (asked)
        await using (again)
        {
            (await asked.GetAsync("/health/ready")).EnsureSuccessStatusCode();
            var start = watch.Elapsed;
            watch.Restart();
            // In a service of its own this goes on beside the clock.
            await again.Services.GetRequiredService<StoreSentry>().LookAsync(default);
            var compared = watch.Elapsed;
            watch.Restart();
            await again.Services.GetRequiredService<ClockLoop>().TickAsync();
            Console.WriteLine(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"\nReady {start.TotalSeconds:0.0} s after its start; the store's {OnMany.Placed * OnMany.Copies} records compared "
                        + $"with the catalogue once in {compared.TotalSeconds:0.0} s; a tick at which everything is looked over: "
                        + $"{watch.Elapsed.TotalSeconds:0.0} s"
                )
            );
            await again.StopAsync();
        }
        Shell.Run($"rm -rf '{folder}'");
    }

    private static void Say(string catalogue, Shape shape) =>
        Console.WriteLine(
            $"\nOn {(catalogue.Length == 0 ? "SQLite" : "PostgreSQL")}: {Counted(shape)}, {shape.Placed * shape.Nights} runs, "
                + $"{shape.Placed * shape.Copies} copies; {Asked} requests each, one after the other"
        );

    private static string Counted(Shape shape) => shape.IsMany ? $"{shape.Jobs} jobs on {shape.Machines} machines" : $"{shape.Jobs} jobs";

    /// <summary>Ends of runs, as they are carried to everybody who follows from one.</summary>
    private static async Task FactsAsync(WebApplication app)
    {
        await using var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var carrier = app.Services.GetRequiredService<FactCarrier>();
        await carrier.CarryAsync(default);
        GC.Collect();
        var said = Stopwatch.StartNew();
        await using (var change = await db.BeginChangeAsync(default))
        {
            foreach (var run in await db.Runs.AsNoTracking().OrderByDescending(r => r.Id).Take(Facts).ToListAsync())
                db.SayEnded(run, run.Queued);
            await db.SaveChangesAsync();
            await change.CommitAsync(default);
        }
        said.Stop();
        var carried = Stopwatch.StartNew();
        await carrier.CarryAsync(default);
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"\n{Facts} ends of runs said in {said.Elapsed.TotalSeconds:0.0} s, carried to all followers in "
                    + $"{carried.Elapsed.TotalSeconds:0.0} s: {Facts / carried.Elapsed.TotalSeconds:0} a second"
            )
        );
    }

    /// <summary>
    /// Many jobs due at one instant whose sources are not there: what it costs to plan, queue, dispatch, end and follow, without any backup
    /// in it.
    /// </summary>
    private static async Task DueAsync(WebApplication app, string folder)
    {
        var yaml = new System.Text.StringBuilder(
            $"charter: 1\nzone: UTC\nstores:\n  s: {{ folder: {folder}/store }}\npolicies:\n  p: {{ keep: newest 20 }}\njobs:\n"
        );
        for (var j = 0; j < Due; j++)
            yaml.Append(
                CultureInfo.InvariantCulture,
                $"  due-{j:0000}: {{ takes: {folder}/nowhere, into: s, when: every 1 minutes, policy: p }}\n"
            );
        if (
            await app.Services.GetRequiredService<CharterDesk>().ApplyAsync(CharterDesk.Check(yaml.ToString()), null, "bench", default) is
            { Problem: { } problem }
        )
            throw new InvalidOperationException(problem);
        var next = DateTimeOffset.UtcNow.AddSeconds(60 - DateTimeOffset.UtcNow.Second + 0.5);
        await Task.Delay(next - DateTimeOffset.UtcNow);
        var watch = Stopwatch.StartNew();
        await app.Services.GetRequiredService<ClockLoop>().TickAsync();
        var queued = watch.Elapsed;
        await app.Services.GetRequiredService<Dispatch>().WhenIdleAsync();
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{Due} due runs planned and queued in {queued.TotalSeconds:0.0} s, dispatched, ended and followed after "
                    + $"{watch.Elapsed.TotalSeconds:0.0} s"
            )
        );
    }

    private static async Task FillAsync(WebApplication app, string folder, Shape shape)
    {
        var yaml = new System.Text.StringBuilder(
            $"charter: 1\nzone: Europe/London\nstores:\n  s: {{ folder: {folder}/store }}\npolicies:\n  p: {{ keep: newest "
                + $"{shape.Copies} }}\n"
        );
        if (shape.IsMany)
        {
            yaml.Append("machines:\n");
            for (var m = 0; m < shape.Machines; m++)
                yaml.Append(CultureInfo.InvariantCulture, $"  tern-{m:0000}: {{ site: hides }}\n");
        }
        yaml.Append("jobs:\n");
        var on = shape.IsMany ? "on: site = hides, spread: 30 minutes, " : "";
        for (var j = 0; j < shape.Jobs; j++)
            yaml.Append(
                CultureInfo.InvariantCulture,
                $"  job-{j:0000}: {{ {on}takes: {folder}/data, into: s, when: 'daily at {j % 24:00}:{j % 60:00}', policy: p, "
                    + $"fresh-within: 2 days }}\n"
            );
        if (
            await app.Services.GetRequiredService<CharterDesk>().ApplyAsync(CharterDesk.Check(yaml.ToString()), null, "bench", default) is
            { Problem: { } problem }
        )
            throw new InvalidOperationException(problem);
        await using var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        var now = SystemClock.Instance.GetCurrentInstant().ToUnixTimeTicks();
        const string minute = "CAST(600000000 AS BIGINT)",
            day = "CAST(864000000000 AS BIGINT)";
        var placed = shape.Placed;
        var job = Named("job-", $"i % {shape.Jobs}");
        var machine = shape.IsMany ? Named("tern-", $"i % {placed} / {shape.Jobs}") : "'heron'";
        var numbers =
            $"WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i + 1 < {placed * shape.Nights}), r AS (SELECT i + 1 AS "
            + $"id, {job} AS job, {machine} AS machine, {now} - ({shape.Nights} - i / {placed}) * {day} + (i % {placed} % 1440 + 120) * "
            + $"{minute} AS at, CASE WHEN (i / {placed} * 31 + i % {placed}) % 97 = 0 THEN 'failed' ELSE 'ok' END AS outcome FROM n)";

        string Named(string begins, string number) =>
            db.IsPostgres() ? $"'{begins}' || lpad(({number})::text, 4, '0')" : $"printf('{begins}%04d', {number})";

        await InsertAsync(
            db,
            numbers,
            "Runs",
            ("Id", "id"),
            ("Kind", "'backup'"),
            ("Job", "job"),
            ("Machine", "machine"),
            ("Store", "'s'"),
            ("ByKind", "'schedule'"),
            ("State", "'ended'"),
            ("Outcome", "outcome"),
            ("Sentence", "'copy: 1000 items, 5 GB taken; 20 MB read, 15 MB new, 9 MB stored'"),
            ("PlannedRunId", "id"),
            ("Due", "at"),
            ("Queued", "at"),
            ("Began", "at"),
            ("Ended", $"at + 9 * {minute}"),
            ("CopyIds", "'c' || id"),
            ("Attempt", "0"),
            ("Items", "1000"),
            ("SelectedBytes", "5000000000"),
            ("ReadBytes", "20000000"),
            ("NewBytes", "15000000"),
            ("StoredBytes", "9000000"),
            ("Skipped", "0")
        );
        await InsertAsync(
            db,
            numbers,
            "PlannedRuns",
            ("Id", "id"),
            ("Job", "job"),
            ("Machine", "machine"),
            ("Due", "at"),
            ("Outcome", "outcome"),
            ("RunId", "id")
        );
        await InsertAsync(
            db,
            numbers,
            "Copies",
            ("Id", "'c' || id"),
            ("Origin", "'c' || id"),
            ("NoteDue", "false"),
            ("Job", "job"),
            ("Machine", "machine"),
            ("Store", "'s'"),
            ("Taken", "at"),
            ("Ended", "at"),
            ("State", "'sound'"),
            ("Items", "1000"),
            ("Bytes", "5000000000"),
            ("Skipped", "0"),
            ("NewBytes", "15000000"),
            ("StoredBytes", "9000000"),
            ("Damage", "''"),
            ("DamageCount", "0"),
            ("RunId", "id")
        );
        var gone = (long)(shape.Nights - shape.Copies) * placed;
        await db.Copies.Where(c => c.RunId <= gone).ExecuteDeleteAsync();
        if (shape.IsMany)
            await RecordAsync(app, db);
        // A catalogue that has grown over the years has never been told to look at itself, where it is a file.
        if (db.IsPostgres() || !shape.IsMany)
            await db.Database.ExecuteSqlRawAsync("ANALYZE;");
        if (db.IsPostgres())
            await db.Database.ExecuteSqlRawAsync(
                "SELECT setval(pg_get_serial_sequence('\"Runs\"', 'Id'), (SELECT MAX(\"Id\") FROM \"Runs\")), "
                    + "setval(pg_get_serial_sequence('\"PlannedRuns\"', 'Id'), (SELECT MAX(\"Id\") FROM \"PlannedRuns\"))"
            );
    }

    /// <summary>The store has the record of each copy that is in force; their content is nothing that is asked for here.</summary>
    private static async Task RecordAsync(WebApplication app, KeepContext db)
    {
        var declared = app.Services.GetRequiredService<CharterInForce>().Charter.Stores["s"];
        await app.Services.GetRequiredService<StoreRoom>().MakeFirstAsync(declared, default);
        var store = (PooledStore)app.Services.GetRequiredService<OpenStores>().Get("s");
        var folder = Directory.CreateDirectory(Path.Combine(declared.Folder, "copies")).FullName;
        await foreach (var c in db.Copies.AsNoTracking().AsAsyncEnumerable())
        {
            var (taken, ended) = (c.Taken.ToDateTimeOffset(), c.Ended.ToDateTimeOffset());
            var record = new CopyRecord(c.Id, c.Job, c.Machine, taken, ended, ["/data"], c.Items, c.Bytes, 0, 0, []);
            await File.WriteAllBytesAsync(Path.Combine(folder, c.Id + ".copy"), record.ToBytes(store.Keys));
        }
    }

#pragma warning disable EF1002, EF1003 // Every part of it stands in this file.
    internal static Task<int> InsertAsync(KeepContext db, string numbers, string table, params (string Column, string Value)[] values) =>
        db.Database.ExecuteSqlRawAsync(
            $"INSERT INTO \"{table}\" ({string.Join(", ", values.Select(v => $"\"{v.Column}\""))}) {numbers} SELECT "
                + $"{string.Join(", ", values.Select(v => v.Value))} FROM r"
        );
}
