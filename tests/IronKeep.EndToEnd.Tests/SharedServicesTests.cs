using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using System.Text.RegularExpressions;
using Xunit.Abstractions;

namespace IronKeep.EndToEnd.Tests;

/// <summary>Several services on one catalogue: each serves, one has the clock, and whoever is lost is replaced without harm.</summary>
[Collection("alone")]
public sealed class SharedServicesTests(ITestOutputHelper said)
{
    private const int Services = 3,
        Jobs = 30;
    private static readonly TimeSpan ReplacedWithin = TimeSpan.FromSeconds(60);

    /// <summary>Who is not heard of for 8 s is gone.</summary>
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(9);

    /// <summary>How long it is kept up; ten minutes for the whole proof.</summary>
    private static readonly TimeSpan Lasts = TimeSpan.FromSeconds(
        double.Parse(Environment.GetEnvironmentVariable("IRONKEEP_SHARED_SECONDS") ?? "50", CultureInfo.InvariantCulture)
    );

    [Fact]
    public async Task Every_planned_run_is_served_once_or_ended_by_name_while_leaders_are_killed_stopped_and_cut_off()
    {
        var random = new Random();
        using var all = new SharedServices(Services);
        for (var job = 0; job < Jobs; job++)
            Change(all, job, random);
        for (var i = 0; i < Services; i++)
            all.Begin(i);
        for (var i = 0; i < Services; i++)
            await all.ReadyAsync(i);
        await all.SignInAsync();
        await all.SendAsync(1, HttpMethod.Put, "charter", new { yaml = Charter(all) });

        var troubles = new Dictionary<string, int>();
        var slowest = TimeSpan.Zero;
        var watch = Stopwatch.StartNew();
        while (watch.Elapsed < Lasts)
        {
            await AskAsync(all, random, TimeSpan.FromSeconds(1 + random.NextDouble() * 5));
            // Mostly whoever leads, but others as well.
            var victim = random.Next(4) > 0 ? all.Leader() ?? random.Next(Services) : random.Next(Services);
            var trouble = new[] { "KILL", "STOP", "cut", "silence" }[random.Next(4)];
            troubles[trouble] = troubles.GetValueOrDefault(trouble) + 1;
            var led = all.Leader() == victim;
            if (trouble == "cut")
                all.WayOf(victim).IsCut = true;
            else if (trouble == "silence")
                all.WayOf(victim).IsSilent = true;
            else
                all.Signal(victim, trouble);
            var since = Stopwatch.StartNew();
            var lasts = TimeSpan.FromSeconds(random.Next(3) == 0 ? random.NextDouble() * 4 : 9 + random.NextDouble() * 8);
            // A leader that is away for longer than its lease is waited for until another leads.
            while (since.Elapsed < lasts || (led && lasts > Lease && since.Elapsed < ReplacedWithin))
            {
                Change(all, random.Next(Jobs), random);
                await Task.Delay(200);
                if (!led || all.Leader() is not { } next || next == victim)
                    continue;
                led = false;
                slowest = since.Elapsed > slowest ? since.Elapsed : slowest;
            }
            Assert.False(led && lasts > Lease, $"nobody took over within {ReplacedWithin} after {trouble}: {all.Said(30)}");
            if (trouble == "KILL")
                all.Begin(victim);
            else if (trouble == "STOP")
                all.Signal(victim, "CONT");
            else
                (all.WayOf(victim).IsCut, all.WayOf(victim).IsSilent) = (false, false);
        }
        for (var i = 0; i < Services; i++)
            await all.ReadyAsync(i);
        // Troubles that fitted between two minutes have met no due instant yet.
        while (all.One("SELECT COUNT(*) FROM \"Runs\" WHERE \"Job\" = 'never' AND \"Outcome\" = 'failed'") == 0)
            await Task.Delay(200);
        await SettleAsync(all);
        var runs = all.One("SELECT COUNT(*) FROM \"Runs\"");
        var lost = all.One("SELECT COUNT(*) FROM \"Runs\" WHERE \"Failure\" = 'interrupted'");
        var ok = all.One("SELECT COUNT(*) FROM \"PlannedRuns\" WHERE \"Outcome\" = 'ok'");
        var planned = all.One("SELECT COUNT(*) FROM \"PlannedRuns\"");
        var by = string.Join(
            ", ",
            all.Rows("SELECT \"Outcome\", COUNT(*) FROM \"PlannedRuns\" GROUP BY 1 ORDER BY 2 DESC").Select(r => $"{r[1]} {r[0]}")
        );
        var term = all.One("SELECT \"Term\" FROM \"Leases\"");
        Figures(
            $"{watch.Elapsed.TotalSeconds:0} s, {string.Join(", ", troubles.Select(t => $"{t.Value} x {t.Key}"))}: {planned} planned runs "
                + $"({by}), {ok} served once, {runs} runs of which {lost} were interrupted; the clock changed hands {term - 1} times, at "
                + $"most {slowest.TotalSeconds:0.0} s after its holder was lost"
        );
        Judge(all);

        void Figures(string sentence)
        {
            said.WriteLine(sentence);
            if (Environment.GetEnvironmentVariable("IRONKEEP_SHARED_SECONDS") is not null)
                File.WriteAllText(Path.Combine(SharedServices.Root(), ".work/shared-services.txt"), sentence + "\n");
        }
    }

    [Fact]
    public async Task A_person_works_with_any_of_them_and_each_knows_what_another_did()
    {
        using var all = new SharedServices(2);
        Directory.CreateDirectory(all.Folder + "/source-0");
        await File.WriteAllTextAsync(all.Folder + "/source-0/a", "1");
        for (var i = 0; i < 2; i++)
            all.Begin(i);
        for (var i = 0; i < 2; i++)
            await all.ReadyAsync(i);
        await all.SignInAsync();
        // A page that is open at one hears what is done at the other.
        using var stream = new StreamReader(await all.Http[0].GetStreamAsync("/api/v1/events"));
        var heard = new List<string>();
        var listening = Task.Run(async () =>
        {
            while (await stream.ReadLineAsync() is { } line)
                lock (heard)
                    heard.Add(line);
        });
        await all.SendAsync(
            1,
            HttpMethod.Put,
            "charter",
            new
            {
                yaml = $"charter: 1\nzone: UTC\nstores:\n  one: {{ folder: {all.Folder}/one }}\npolicies:\n  few: {{ keep: newest 4 "
                    + $"}}\njobs:\n  job-0: {{ takes: {all.Folder}/source-0, into: one, policy: few }}\n",
            }
        );
        await UntilAsync(async () => (await all.SendAsync(0, HttpMethod.Get, "jobs")).GetArrayLength() == 1);
        await UntilAsync(() => Task.FromResult(Heard("charter")));
        var run = (await all.SendAsync(1, HttpMethod.Post, "jobs/job-0/runs")).GetProperty("id").GetInt64();
        await UntilAsync(async () => (await all.SendAsync(0, HttpMethod.Get, $"runs/{run}")).GetProperty("state").GetString() == "ended");
        Assert.Equal("ok", (await all.SendAsync(0, HttpMethod.Get, $"runs/{run}")).GetProperty("outcome").GetString());
        await UntilAsync(() => Task.FromResult(Heard($"\"id\":{run}")));
        // The log is read wherever it is asked for.
        for (var i = 0; i < 2; i++)
            Assert.Contains("first copy", (await all.SendAsync(i, HttpMethod.Get, $"runs/{run}/log")).GetRawText());
        // A sign-in of the browser holds at both: what sealed it is in the catalogue.
        // One host, two ports: a browser gives both the same cookies.
        using var browser = new HttpClient(new HttpClientHandler { AllowAutoRedirect = false });
        var hidden = Regex.Match(
            await browser.GetStringAsync(new Uri(all.Http[0].BaseAddress!, "/sign-in")),
            "name=\"(?<name>__[^\"]+)\"[^>]*value=\"(?<value>[^\"]+)\""
        );
        using var form = new FormUrlEncodedContent(
            new Dictionary<string, string>
            {
                ["name"] = "mira",
                ["password"] = "a long sentence",
                [hidden.Groups["name"].Value] = hidden.Groups["value"].Value,
            }
        );
        using (var signedIn = await browser.PostAsync(new Uri(all.Http[0].BaseAddress!, "/sign-in"), form))
            Assert.Equal("/", signedIn.Headers.Location?.OriginalString);
        for (var i = 0; i < 2; i++)
            using (var session = await browser.GetAsync(new Uri(all.Http[i].BaseAddress!, "/api/v1/session")))
                Assert.Equal(200, (int)session.StatusCode);
        // A long run is seen, and ended, from the other one.
        await File.WriteAllBytesAsync(all.Folder + "/source-0/fifo-like", new byte[1]);
        using (
            var fill = Process.Start("sh", ["-c", $"for i in $(seq 60); do head -c 20000000 /dev/urandom > {all.Folder}/source-0/$i; done"])
        )
            await fill.WaitForExitAsync();
        var one = (await all.SendAsync(0, HttpMethod.Post, "jobs/job-0/runs")).GetProperty("id").GetInt64();
        await UntilAsync(async () => (await all.SendAsync(0, HttpMethod.Get, $"runs/{one}")).GetProperty("state").GetString() == "running");
        var worker = all.Rows(
            $"SELECT w.\"ProcessId\" FROM \"Runs\" r JOIN \"Workers\" w ON w.\"Id\" = r.\"Worker\" WHERE r.\"Id\" = {one}"
        )[0][0];
        var other = (int)worker == all.ProcessOf(0) ? 1 : 0;
        await UntilAsync(async () =>
            (await all.SendAsync(other, HttpMethod.Get, $"runs/{one}")).GetProperty("figures").GetProperty("readBytes").GetInt64() > 0
            || await EndedAsync(one)
        );
        await all.SendAsync(other, HttpMethod.Post, $"runs/{one}/cancel");
        await UntilAsync(() => EndedAsync(one));
        Assert.Equal("cancelled", (await all.SendAsync(other, HttpMethod.Get, $"runs/{one}")).GetProperty("outcome").GetString());
        var findings = (await all.SendAsync(other, HttpMethod.Get, "service")).GetRawText();
        Assert.Contains("2 services on the catalogue", findings);
        // One that leaves in good order is replaced at once.
        var leader = all.Leader()!.Value;
        all.Signal(leader, "TERM");
        await UntilAsync(() => Task.FromResult(all.Leader() == 1 - leader));

        bool Heard(string what)
        {
            lock (heard)
                return heard.Exists(h => h.Contains(what, StringComparison.Ordinal));
        }

        async Task<bool> EndedAsync(long id) =>
            (await all.SendAsync(other, HttpMethod.Get, $"runs/{id}")).GetProperty("state").GetString() == "ended";
    }

    private static async Task UntilAsync(Func<Task<bool>> holds)
    {
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < TimeSpan.FromMinutes(2); await Task.Delay(50))
            if (await holds())
                return;
        Assert.Fail("it did not come to be within 2 min");
    }

    private static string Charter(SharedServices all) =>
        $$"""
            charter: 1
            zone: UTC
            runs-at-once: 4
            stores:
              one: { folder: {{all.Folder}}/one, bin: 1 minutes }
              two: { folder: {{all.Folder}}/two, bin: 1 minutes }
            policies:
              few: { keep: newest 4 }
            jobs:
            {{string.Concat(
                Enumerable.Range(0, Jobs).Select(j =>
                    $"  job-{j:00}: {{ takes: {all.Folder}/source-{j}, into: {(j % 5 == 0 ? "[one, two]" : j % 2 == 0 ? "one" : "two")}, policy: few, when: every 1 minutes, prune: after-success, start-limit: 5 minutes, catch-up: once, wait-after-return: 1 minutes, catch-up-gap: 1 minutes, retries: 2 }}\n"
                )
            )}}
              never: { takes: {{all.Folder}}/not-there, into: one, policy: few, when: every 1 minutes, retries: 0, catch-up: none }
            """;

    /// <summary>Every file says one number over and over, so that a torn or mixed one shows.</summary>
    private static void Change(SharedServices all, int job, Random random)
    {
        Directory.CreateDirectory($"{all.Folder}/source-{job}");
        var file = $"{all.Folder}/source-{job}/{random.Next(4)}";
        File.WriteAllLines(file + ".new", Enumerable.Repeat(random.Next().ToString(CultureInfo.InvariantCulture), random.Next(1, 8_000)));
        File.Move(file + ".new", file, overwrite: true);
    }

    private static async Task AskAsync(SharedServices all, Random random, TimeSpan time)
    {
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < time; await Task.Delay(random.Next(100, 800)))
        {
            var service = random.Next(Services);
            if (!all.IsUp(service))
                continue;
            try
            {
                await all.SendAsync(
                    service,
                    HttpMethod.Post,
                    random.Next(3) == 0
                        ? $"stores/{(random.Next(2) == 0 ? "one" : "two")}/checks?depth=presence"
                        : $"jobs/job-{random.Next(Jobs):00}/runs"
                );
            }
            catch (Exception e)
                when (e is HttpRequestException or TaskCanceledException or IOException
                    || e.Message.Contains(": 409", StringComparison.Ordinal)
                    || e.Message.Contains(": 503", StringComparison.Ordinal)
                )
            {
                // It is down, cut off, starting, or the job is at work.
            }
        }
    }

    /// <summary>No more comes due, and what waits comes to its end.</summary>
    private static async Task SettleAsync(SharedServices all)
    {
        var yaml = (await all.SendAsync(0, HttpMethod.Get, "charter")).GetProperty("yaml").GetString()!;
        await all.SendAsync(
            2,
            HttpMethod.Put,
            "charter?confirm=true",
            new
            {
                yaml = string.Join(
                    '\n',
                    yaml.Split('\n')
                        .Select(l =>
                            l.TrimStart().StartsWith("when:", StringComparison.Ordinal)
                                ? l[..l.IndexOf("when:", StringComparison.Ordinal)] + "when: yearly on jan 1 at 00:00"
                                : l
                        )
                ),
            }
        );
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < TimeSpan.FromMinutes(15); await Task.Delay(500))
            if (
                all.One("SELECT COUNT(*) FROM \"Runs\" WHERE \"State\" <> 'ended'") == 0
                && all.One("SELECT COUNT(*) FROM \"PlannedRuns\" WHERE \"Outcome\" IS NULL") == 0
                && all.One(
                    "SELECT COUNT(*) FROM \"Facts\" f WHERE f.\"Id\" > (SELECT MIN(\"Position\") FROM \"FollowerPositions\" WHERE \"Name\" "
                        + "= 'run-alerts') AND f.\"Kind\" = 'run-ended'"
                ) == 0
            )
                return;
        Assert.Fail(
            "runs are at work for ever: "
                + string.Join(
                    "; ",
                    all.Rows(
                            "SELECT \"Id\", \"Job\", \"State\", \"Worker\", \"NotBefore\" FROM \"Runs\" WHERE \"State\" <> 'ended' LIMIT 5"
                        )
                        .Select(r => string.Join(' ', r))
                )
                + all.Said(20)
        );
    }

    private static void Judge(SharedServices all)
    {
        foreach (var job in all.Rows("SELECT \"Job\", \"Due\" FROM \"PlannedRuns\" ORDER BY 1, 2").GroupBy(p => (string)p[0]))
        {
            // From the first to the last no minute is left out or twice.
            var due = job.Select(p => (long)p[1] / 600_000_000).ToList();
            for (var i = 1; i < due.Count; i++)
                Assert.True(
                    due[i] == due[i - 1] + 1,
                    $"{job.Key}: between minutes {due[i - 1]} and {due[i]} something is missing or twice"
                );
        }
        None(
            "planned runs were served twice",
            "SELECT \"PlannedRunId\" FROM \"Runs\" WHERE \"PlannedRunId\" IS NOT NULL AND \"Outcome\" IN ('ok','warned') GROUP BY 1 HAVING "
                + "COUNT(*) > 1"
        );
        None("runs have no outcome", "SELECT \"Id\" FROM \"Runs\" WHERE \"Outcome\" IS NULL");
        None(
            "runs of one job were good at the same time",
            "SELECT a.\"Id\", b.\"Id\" FROM \"Runs\" a JOIN \"Runs\" b ON a.\"Job\" = b.\"Job\" AND a.\"Id\" < b.\"Id\" AND a.\"Kind\" = "
                + "'backup' AND b.\"Kind\" = 'backup' AND a.\"Outcome\" = 'ok' AND b.\"Outcome\" = 'ok' AND b.\"Began\" < a.\"Ended\" AND "
                + "a.\"Began\" < b.\"Ended\""
        );
        None(
            "alerts are open twice",
            "SELECT \"Class\", \"SubjectKind\", \"SubjectJob\", \"SubjectStore\" FROM \"Alerts\" WHERE \"State\" <> 'closed' GROUP BY "
                + "\"Class\", \"SubjectKind\", \"SubjectJob\", \"SubjectMachine\", \"SubjectStore\", \"SubjectName\" HAVING COUNT(*) > 1"
        );
        None("followers stumble", "SELECT \"Name\", \"Problem\" FROM \"FollowerPositions\" WHERE \"Problem\" IS NOT NULL");
        None("copies are missing or hurt", "SELECT \"Id\" FROM \"Copies\" WHERE \"GoneAt\" IS NULL AND \"State\" IN ('missing','unsound')");
        None("copies have no run", "SELECT \"Id\" FROM \"Copies\" WHERE \"RunId\" IS NULL");
        // A job that fails each time: its alert counts each failure once, and misses none.
        var failures = all.One("SELECT COUNT(*) FROM \"Runs\" WHERE \"Job\" = 'never' AND \"Outcome\" = 'failed'");
        var counted = all.One("SELECT COALESCE(SUM(\"Count\"), 0) FROM \"Alerts\" WHERE \"SubjectJob\" = 'never' AND \"Class\" = 'failed'");
        Assert.Equal(failures, counted);
        Assert.True(failures > 0);
        // Where the last run was good nothing says that it failed.
        None(
            "alerts were not closed",
            "SELECT a.\"SubjectJob\" FROM \"Alerts\" a WHERE a.\"State\" <> 'closed' AND a.\"Class\" = 'failed' AND a.\"SubjectKind\" = "
                + "'job' AND (SELECT r.\"Outcome\" FROM \"Runs\" r WHERE r.\"Job\" = a.\"SubjectJob\" AND r.\"Kind\" = 'backup' AND "
                + "r.\"Outcome\" <> 'not-needed' ORDER BY r.\"Ended\" DESC LIMIT 1) = 'ok'"
        );
        foreach (var store in new[] { "one", "two" })
        {
            var known = all.Rows($"SELECT \"Id\" FROM \"Copies\" WHERE \"Store\" = '{store}' AND \"GoneAt\" IS NULL")
                .Select(r => (string)r[0])
                .ToHashSet();
            var there = new[] { "copies", "bin" }
                .Select(f => $"{all.Folder}/{store}/{f}")
                .Where(Directory.Exists)
                .SelectMany(Directory.EnumerateFiles)
                .Select(f => Path.GetFileNameWithoutExtension(f))
                .Select(f => f.Contains("Z-", StringComparison.Ordinal) ? f[(f.IndexOf("Z-", StringComparison.Ordinal) + 2)..] : f)
                .ToHashSet();
            Assert.Equal(there.Order(), known.Order());
        }

        void None(string what, string sql)
        {
            var found = all.Rows(sql);
            Assert.True(found.Count == 0, $"{found.Count} {what}: {string.Join("; ", found.Take(3).Select(r => string.Join(' ', r)))}");
        }
    }
}

/// <summary>Tests of many processes at once, which run while no other does.</summary>
[CollectionDefinition("alone", DisableParallelization = true)]
public sealed class Alone;
