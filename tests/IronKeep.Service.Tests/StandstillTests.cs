using System.Net;
using System.Net.Sockets;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Copies;
using IronKeep.Service.Definitions;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using IronKeep.Stores.Places;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging.Abstractions;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>
/// What hangs, is full, fails each time or dies in the middle keeps nothing else from its work, and what it left undone is done.
/// </summary>
public sealed class StandstillTests
{
    [Fact]
    public async Task A_store_that_hangs_stops_neither_clock_nor_start_nor_charter_nor_the_jobs_of_others_and_is_told_of_as_away()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        var places = new HangingPlaces("attic");
        bench.Change = b => b.Services.AddSingleton<StorePlaces>(places);
        await bench.RestartAsync();
        bench.Services.GetRequiredService<OpenStores>().Waits = TimeSpan.FromMilliseconds(300);
        var charter =
            bench
                .Charter("daily at 10:00")
                .Replace("policies:", $"  attic: {{ folder: {bench.Root}/attic }}\npolicies:", StringComparison.Ordinal)
            + $"\n  upstairs: {{ takes: {bench.Source}, into: attic, policy: few, when: daily at 10:00 }}\n  again: {{ takes: "
            + $"{bench.Source}, into: attic, policy: few, when: daily at 10:00 }}";
        await bench.ApplyAsync(charter);
        await bench.BackUpAsync();
        places.Answers.Reset();
        try
        {
            var watch = System.Diagnostics.Stopwatch.StartNew();
            bench.Clock.Now = new DateTimeOffset(2026, 11, 24, 10, 0, 1, TimeSpan.Zero);
            await bench.Services.GetRequiredService<Timetable.ClockLoop>().TickAsync();
            Assert.Contains(await bench.OpenAlertsAsync(), a =>
                a is { Subject.Store: "attic", Class: AlertClass.Failed } && a.Message.Contains("does not answer", StringComparison.Ordinal)
            );
            // Two runs hang in it, and two are all that may be at work: the job of the other store runs all the same.
            while ((await bench.CopiesAsync()).Count(c => c.Store == "cellar") < 2)
                await Task.Delay(20);
            await bench.ApplyAsync(charter.Replace("daily at 10:00", "daily at 11:00", StringComparison.Ordinal));
            Assert.False((await bench.GetAsync<IReadOnlyList<StoreAnswer>>("stores")).Single(s => s.Name == "attic").Reachable);
            Assert.Equal(HttpStatusCode.OK, (await bench.Anonymous().GetAsync("/health/ready")).StatusCode);
            Assert.True(watch.Elapsed < TimeSpan.FromMinutes(3));
        }
        finally
        {
            places.Answers.Set();
        }
        await bench.IdleAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(11);
        await bench.Services.GetRequiredService<Timetable.ClockLoop>().TickAsync();
        await bench.IdleAsync();
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Subject.Words == "store attic");
    }

    [Fact]
    public async Task An_end_that_the_catalogue_does_not_take_is_tried_until_it_does()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        bench.Services.GetRequiredService<Dispatch>().TriesAgainAfter = TimeSpan.FromMilliseconds(30);
        await using var db = await bench.KeepAsync();
        await db.Database.ExecuteSqlRawAsync(
            PostgresServer.IsWanted
                ? "CREATE FUNCTION refuse() RETURNS trigger AS $$ BEGIN RAISE EXCEPTION 'no room'; END $$ LANGUAGE plpgsql; CREATE TRIGGER "
                    + "refuse BEFORE UPDATE ON \"Runs\" FOR EACH ROW WHEN (NEW.\"State\" = 'ended') EXECUTE FUNCTION refuse()"
                : "CREATE TRIGGER refuse BEFORE UPDATE ON Runs WHEN NEW.State = 'ended' BEGIN SELECT RAISE(ABORT, 'no room'); END"
        );
        var run = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        while ((await bench.CopiesAsync()).Count == 0)
            await Task.Delay(10);
        await Task.Delay(200);
        Assert.Equal("running", (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).State.Word());
        await db.Database.ExecuteSqlRawAsync(PostgresServer.IsWanted ? "DROP TRIGGER refuse ON \"Runs\"" : "DROP TRIGGER refuse");
        await bench.IdleAsync();
        Assert.Equal("ok", (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome.Word());
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
    }

    [Fact]
    public async Task What_follows_from_an_end_or_from_a_missed_run_is_done_after_a_crash_between_the_two_and_only_once()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00", more: "prune: after-success"));
        for (var i = 0; i < 3; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        long failed;
        await using (var db = await bench.KeepAsync())
        {
            // As if the process had died when the end was written, and nothing after it.
            var run = new Run
            {
                Kind = RunKind.Backup,
                State = RunState.Ended,
                Outcome = Outcome.Failed,
                Failure = FailureClass.SourceUnreadable,
                Sentence = "the source is gone",
                Job = "register",
                Machine = "heron",
                Store = "cellar",
                By = Actor.Person("mira"),
                Queued = Instant.FromDateTimeOffset(bench.Clock.Now),
            };
            db.Runs.Add(run);
            var planned = new PlannedRun
            {
                Job = "register",
                Machine = "heron",
                Due = Instant.FromDateTimeOffset(bench.Clock.Now.AddHours(-1)),
                Outcome = Outcome.Missed,
                Reason = "not started",
            };
            db.PlannedRuns.Add(planned);
            await db.SaveChangesAsync();
            db.SayEnded(run, run.Queued);
            Serving.Say(db, [planned], run.Queued);
            await db.SaveChangesAsync();
            failed = run.Id;
        }
        await bench.RestartAsync();
        await bench.IdleAsync();
        var alert = Assert.Single(await bench.OpenAlertsAsync(), a => a.Class.Word() == "failed");
        Assert.Equal((failed, 1), (alert.RunId!.Value, alert.Count));
        await bench.RestartAsync();
        await bench.IdleAsync();
        Assert.Equal(1, Assert.Single(await bench.OpenAlertsAsync(), a => a.Class.Word() == "failed").Count);
        var missed = Assert.Single(await bench.OpenAlertsAsync(), a => a.Class.Word() == "missed");
        Assert.Contains("makes up for it", missed.Message);
        await bench.TickAsync($"{bench.Clock.Now:u}");
        Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs")).Items, r => r.By.Words == "catch-up");
    }

    [FileCatalogueFact]
    public async Task A_run_that_says_running_with_nobody_at_work_is_ended()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.RestartAsync(() =>
        {
            using var connection = new SqliteConnection($"Data Source={bench.Root}/service/catalogue.db;Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText =
                "INSERT INTO Runs (Kind, Job, Machine, Store, ByKind, State, Queued, Attempt, CopyIds, Items, SelectedBytes, ReadBytes, "
                + "NewBytes, StoredBytes, Skipped) VALUES "
                + "('backup','register','heron','cellar','schedule','running',0,0,'',0,0,0,0,0,0)";
            command.ExecuteNonQuery();
        });
        Assert.Equal("failed", (await bench.GetAsync<Page<RunAnswer>>("runs")).Items[0].Outcome.Word());
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
    }

    private static Addressee To(string channel) => new(channel, null, null, null, "it is named");

    [Fact]
    public async Task A_channel_that_hangs_keeps_no_other_waiting()
    {
        await using var bench = await Bench.StartAsync();
        using var silent = new TcpListener(IPAddress.Loopback, 0);
        silent.Start();
        await bench.ApplyAsync(
            $"charter: 1\ntells: [drop]\nchannels:\n  drop: {{ mail-to: a@b.example, mail-from: e@f.example, pickup: {bench.Root}/drop "
                + $"}}\n  hook: {{ webhook: 'http://127.0.0.1:{((IPEndPoint)silent.LocalEndpoint).Port}/x' }}"
        );
        await using (var db = await bench.KeepAsync())
        {
            var desk = bench.Services.GetRequiredService<TellingDesk>();
            Words Saying(string what) => new(what, "x", "x", new ChannelTestAnswer(true, null));
            await desk.WriteAsync(db, Enumerable.Repeat(To("hook"), 250), Saying("waits"), default);
            await desk.WriteAsync(db, [To("drop")], Saying("goes"), default);
        }
        // By the service's own loop.
        for (
            var i = 0;
            i < 500 && (!Directory.Exists(bench.Root + "/drop") || !Directory.EnumerateFiles(bench.Root + "/drop", "*.eml").Any());
            i++
        )
            await Task.Delay(20);
        Assert.Single(Directory.EnumerateFiles(bench.Root + "/drop", "*.eml"));
        Assert.Empty(Directory.EnumerateFiles(bench.Root + "/drop", "*.part"));
    }

    [FileCatalogueFact]
    public async Task A_catalogue_that_is_missing_empty_foreign_older_or_without_its_newest_part_is_refused_with_the_way_out()
    {
        await using var bench = await Bench.StartAsync();
        await using var other = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.TickAsync("2026-11-23T09:00:10Z");
        var (folder, database, mark) = (
            bench.Root + "/service",
            bench.Root + "/service/catalogue.db",
            bench.Root + "/service/catalogue.known"
        );
        await bench.StopAsync();
        await other.StopAsync();
        File.Copy(database, bench.Root + "/older.db");
        var known = File.ReadAllText(mark);
        void Refused(string why)
        {
            var message = Assert.Throws<StartRefusedException>(() => CatalogueGuard.RefuseLost(folder, database)).Message;
            Assert.Contains(why, message);
            Assert.Contains($"remove {mark}", message);
        }
        CatalogueGuard.RefuseLost(folder, database);
        File.Delete(database + "-wal");
        File.WriteAllText(mark, known.Replace("closed", "open", StringComparison.Ordinal));
        Refused("lacks its newest part");
        File.WriteAllText(mark, known);
        File.Copy(other.Root + "/service/catalogue.db", database, overwrite: true);
        Refused("another than the one that was there");
        File.WriteAllBytes(database, []);
        Refused("is empty");
        File.Delete(database);
        Refused("is gone");
        await Assert.ThrowsAsync<StartRefusedException>(() => bench.RestartAsync());
        await bench.StopAsync();
        // An older one, on purpose.
        File.Copy(bench.Root + "/older.db", database, overwrite: true);
        File.WriteAllText(
            mark,
            $"{known.Split(' ')[0]} {Instant.FromDateTimeOffset(bench.Clock.Now.AddDays(3)).ToUnixTimeTicks()} closed\n"
        );
        Refused("is older than the one that was there");
        File.Delete(mark);
        await bench.RestartAsync();
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
    }

    [Fact]
    public async Task A_full_disk_under_the_catalogue_is_said_nothing_is_half_recorded_and_it_recovers_by_itself()
    {
        if (Environment.UserName != "root")
            return;
        var mount = Directory.CreateTempSubdirectory("full-").FullName;
        Shell($"mount -t tmpfs -o size=6m none {mount}");
        try
        {
            await using var bench = await Bench.StartAsync(under: mount);
            await bench.ApplyAsync(bench.Charter());
            await using (var db = await bench.KeepAsync())
                db.Alerts.Add(
                    new Alert
                    {
                        Subject = Subject.OfStore("cellar"),
                        Class = AlertClass.Failed,
                        Message = "m",
                        Remedy = "r",
                    }
                );
            Shell($"dd if=/dev/zero of={mount}/ballast bs=64k 2>/dev/null; dd if=/dev/zero of={mount}/ballast2 bs=512 2>/dev/null");
            HttpResponseMessage answer;
            do answer = await bench.RawAsync(
                HttpMethod.Put,
                "jobs/register/pause",
                new PauseRequest(new string('x', 400), bench.Clock.Now.AddDays(2))
            );
            while (answer.IsSuccessStatusCode);
            Assert.True(
                HttpStatusCode.ServiceUnavailable == answer.StatusCode,
                await answer.Content.ReadAsStringAsync() + bench.Services.GetRequiredService<CatalogueGuard>().Problem
            );
            Assert.Contains("is full", await answer.Content.ReadAsStringAsync());
            using var nobody = bench.Anonymous();
            Assert.Equal(HttpStatusCode.ServiceUnavailable, (await nobody.GetAsync("/health/ready")).StatusCode);
            Assert.Contains((await bench.GetAsync<SelfCheckAnswer>("service")).Findings, f =>
                f is { What: "catalogue", State: FindingState.Failed } && f.Sentence.Contains("full", StringComparison.Ordinal)
            );
            Assert.Single(await bench.GetAsync<IReadOnlyList<JobAnswer>>("jobs"));
            File.Delete(mount + "/ballast");
            File.Delete(mount + "/ballast2");
            // What was being written when room was made may be refused a moment later; the rounds that follow are not.
            for (var minute = 10; minute < 15; minute++)
                await bench.TickAsync($"2026-11-23T09:{minute}:00Z");
            Assert.Equal(HttpStatusCode.OK, (await nobody.GetAsync("/health/ready")).StatusCode);
            Assert.True(
                (
                    await bench.RawAsync(HttpMethod.Put, "jobs/register/pause", new PauseRequest("paint", bench.Clock.Now.AddDays(2)))
                ).IsSuccessStatusCode
            );
        }
        finally
        {
            SqliteConnection.ClearAllPools();
            Shell($"umount -l {mount}; rmdir {mount}");
        }
    }

    [Fact]
    public async Task A_loop_that_never_completes_a_round_is_not_ready_and_an_alert_and_its_other_parts_do_their_work()
    {
        await using var bench = await Bench.StartAsync(ticking: true);
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench.Charter("every 1 hours") + $"\n  other: {{ takes: {bench.Source}, into: cellar, policy: few, when: every 1 hours }}"
        );
        await using var db = await bench.KeepAsync();
        // One odd letter in one row.
        await db.Database.ExecuteSqlRawAsync(
            "INSERT INTO \"Runs\" (\"Kind\", \"Job\", \"Machine\", \"Store\", \"ByKind\", \"State\", \"Queued\", \"Attempt\", \"CopyIds\", "
                + "\"Items\", \"SelectedBytes\", \"ReadBytes\", \"NewBytes\", \"StoredBytes\", \"Skipped\") VALUES "
                + "('backup','gone','heron','cellar','schedule','queud',0,0,'',0,0,0,0,0,0)"
        );
        using var nobody = bench.Anonymous();
        bench.Clock.Now = new DateTimeOffset(2026, 11, 23, 10, 0, 1, TimeSpan.Zero);
        for (var i = 0; i < 5000 && (await nobody.GetAsync("/health/ready")).IsSuccessStatusCode; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
            await Task.Delay(20);
        }
        Assert.Equal(HttpStatusCode.ServiceUnavailable, (await nobody.GetAsync("/health/ready")).StatusCode);
        for (var i = 0; i < 3000 && (await bench.OpenAlertsAsync()).Count == 0; i++)
            await Task.Delay(20);
        Assert.Contains(await bench.OpenAlertsAsync(), a => a is { Class: AlertClass.Service, Subject.Name: "the clock loop" });
        // What comes due is planned all the same, and runs when the row is mended.
        Assert.Equal(2, await db.PlannedRuns.CountAsync());
        await db.Database.ExecuteSqlRawAsync("DELETE FROM \"Runs\" WHERE \"State\" = 'queud'");
        for (var i = 0; i < 5000 && (await bench.CopiesAsync()).Count < 2; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
            await Task.Delay(20);
        }
        Assert.Equal(2, (await bench.CopiesAsync()).Count);
        // Ready first, and then the alert closes.
        for (
            var i = 0;
            i < 500
                && (
                    !(await nobody.GetAsync("/health/ready")).IsSuccessStatusCode
                    || (await bench.OpenAlertsAsync()).Any(a => a.Class.Word() == "service")
                );
            i++
        )
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
            await Task.Delay(20);
        }
        Assert.Equal(HttpStatusCode.OK, (await nobody.GetAsync("/health/ready")).StatusCode);
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "service");
    }

    [Fact]
    public async Task A_long_absence_is_a_span_with_a_bound_on_its_rows_and_its_sums_are_right()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 1 minutes", more: "catch-up: once"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        await bench.TickAsync("2027-12-28T09:00:10Z");
        await using var db = await bench.KeepAsync();
        Assert.InRange(await db.PlannedRuns.CountAsync(), 2, 1100);
        var minutes = (int)(bench.Clock.Now - new DateTimeOffset(2026, 11, 23, 9, 0, 0, TimeSpan.Zero)).TotalMinutes;
        Assert.InRange(await db.PlannedRuns.SumAsync(p => p.Times), minutes - 1, minutes + 1);
        // The run that is due next makes up for them, and has closed it.
        var alert = Assert.Single((await bench.GetAsync<Page<AlertAnswer>>("alerts")).Items, a => a.Class.Word() == "missed");
        Assert.True(alert.Count > 570_000 && alert.Message.Contains("makes up for it", StringComparison.Ordinal));
        var board = (await bench.GetAsync<DutyAnswer>("duty")).Board[0].Nights;
        Assert.Equal(30, board.Count(n => n.Outcome is Outcome.Missed));
        await bench.TickAsync("2027-12-28T09:00:20Z");
        Assert.InRange(await db.PlannedRuns.SumAsync(p => p.Times), minutes - 1, minutes + 1);
    }

    [Fact]
    public async Task A_clock_that_was_moved_while_the_service_was_off_is_in_doubt_by_the_boot_clock_or_for_want_of_one()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        // The same boot: its clock says that no time has passed.
        await bench.RestartAsync(() => bench.Clock.Jump(TimeSpan.FromDays(30)));
        await bench.TickAsync("2026-12-23T09:01:10Z");
        Assert.Contains("jumped forward by 30 days", (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "clock").Message);
        Assert.Equal("held-back", (await bench.RunAsync("stores/cellar/reclaims")).Outcome.Word());
        await bench.RestartAsync(() => bench.Clock.Jump(TimeSpan.FromDays(-30)));
        await bench.TickAsync("2026-11-23T09:02:10Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
        // Time that passed, by the same clock, is none.
        await bench.RestartAsync(() => bench.Clock.Now = bench.Clock.Now.AddDays(9));
        await bench.TickAsync("2026-12-02T09:03:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
        // Another boot, and nobody keeps the clock right: nothing proves the time that it says.
        await bench.RestartAsync(() =>
            (bench.Clock.BootId, bench.Clock.IsKeptRight, bench.Clock.Now) = ("boot-2", false, bench.Clock.Now.AddDays(9))
        );
        await bench.TickAsync("2026-12-11T09:04:00Z");
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
        await bench.RawAsync(HttpMethod.Post, "service/confirm-clock");
        await bench.TickAsync("2026-12-11T09:06:00Z");
        await bench.RestartAsync(() =>
            (bench.Clock.BootId, bench.Clock.IsKeptRight, bench.Clock.Now) = ("boot-3", true, bench.Clock.Now.AddDays(9))
        );
        await bench.TickAsync("2026-12-20T09:07:00Z");
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class.Word() == "clock");
    }

    [Fact]
    public async Task A_clock_that_jumps_hours_ahead_and_back_leaves_no_false_miss_and_schedules_go_on_in_the_new_time()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 1 hours", more: "catch-up: none"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        bench.Clock.Jump(TimeSpan.FromHours(5));
        await bench.TickAsync("2026-11-23T14:31:00Z");
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class.Word() == "missed");
        bench.Clock.Jump(TimeSpan.FromHours(-5));
        await bench.TickAsync("2026-11-23T09:32:00Z");
        await bench.TickAsync("2026-11-23T10:00:05Z");
        await bench.TickAsync("2026-11-23T11:00:05Z");
        await using var db = await bench.KeepAsync();
        Assert.Equal(
            ["10 ok", "11 ok"],
            (await db.PlannedRuns.OrderBy(p => p.Due).ToListAsync()).Select(p =>
                $"{p.Due.ToDateTimeUtc().Hour} {p.Outcome.ToString()!.ToLowerInvariant()}"
            )
        );
        // Back by two days: what is due in the new time runs, and what ran is not run twice.
        bench.Clock.Jump(TimeSpan.FromDays(-2));
        await bench.TickAsync("2026-11-21T11:01:00Z");
        await bench.TickAsync("2026-11-21T12:00:05Z");
        Assert.Equal(1, await db.PlannedRuns.CountAsync(p => p.Due < Instant.FromUtc(2026, 11, 22, 0, 0) && p.Outcome == Outcome.Ok));
        Assert.Contains("by the new time", (await bench.OpenAlertsAsync()).Single(a => a.Class.Word() == "clock").Message);
        Assert.Equal(3, await db.PlannedRuns.CountAsync());
    }

    [Fact]
    public async Task Durations_come_from_the_steady_clock_and_a_copy_of_the_future_hides_nothing()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter(more: "fresh-within: 1 days"));
        await bench.TickAsync("2026-11-23T09:00:10Z");
        var live = new LiveRun(
            new Run { Machine = "heron", By = Actor.Person("mira") },
            new RunLogFile(Path.GetTempFileName(), bench.Clock, NullLogger.Instance),
            bench.Clock,
            default
        );
        bench.Clock.Jump(TimeSpan.FromMinutes(993));
        bench.Clock.Now = bench.Clock.Now.AddSeconds(7);
        Assert.Equal(Duration.FromSeconds(7), live.Elapsed);
        bench.Clock.Jump(TimeSpan.FromMinutes(-993));
        await bench.BackUpAsync();
        await using var db = await bench.KeepAsync();
        await db.Copies.ExecuteUpdateAsync(s => s.SetProperty(c => c.Taken, Instant.FromUtc(2027, 3, 1, 0, 0)));
        await bench.TickAsync("2026-11-25T09:00:10Z");
        Assert.Contains(await bench.OpenAlertsAsync(), a => a.Class.Word() == "stale");
    }

    [Fact]
    public async Task The_machine_keeps_its_name_until_somebody_renames_it_and_then_everything_goes_with_it()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        await bench.BackUpAsync();
        bench.Machine = "egret";
        var refused = await Assert.ThrowsAsync<StartRefusedException>(() => bench.RestartAsync());
        Assert.Contains("knows it as 'heron'", refused.Message);
        bench.Machine = "heron";
        await bench.RestartAsync();
        Assert.Equal(
            "heron",
            (await bench.SendAsync<RenameAnswer>(HttpMethod.Post, "service/rename-machine", new RenameRequest("egret"))).Before
        );
        Assert.Contains("nothing had changed", (await bench.BackUpAsync()).Sentence);
        Assert.Equal(2, (await bench.CopiesAsync()).Count(c => c.Machine == "egret"));
        bench.Machine = "egret";
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T23:00:05Z");
        Assert.Equal(3, (await bench.CopiesAsync()).Count);
        // A store goes on saying the old name of the old copies.
        await using (var db = await bench.KeepAsync())
            await db.Copies.ExecuteDeleteAsync();
        await bench.Services.GetRequiredService<Copies.ShelfKeeper>().SettleAsync("cellar", true, default);
        Assert.Equal(3, (await bench.CopiesAsync()).Count(c => c.Machine == "egret"));
    }

    [FileCatalogueFact]
    public async Task A_torn_line_hides_no_other_and_a_long_log_comes_page_by_page()
    {
        await using var bench = await Bench.StartAsync();
        var logs = bench.Services.GetRequiredService<IRunLogs>();
        RunLogAnswer Read(int from) => logs.ReadAsync(7, from, LogSeverity.Info, default).Result;
        using (var log = logs.Open(7))
            for (var i = 0; i < 2500; i++)
                log.Write(LogSeverity.Info, $"line {i}");
        var file = bench.Root + "/service/run-logs/0000/7.jsonl";
        File.AppendAllText(file, "{\"at\":\"2026-11-23T09:0");
        using (var log = logs.Open(7))
            log.Write(LogSeverity.Error, "after the crash");
        var seen = new List<string>();
        for (RunLogAnswer part = Read(0); ; part = Read(part.Next))
        {
            seen.AddRange(part.Lines.Select(l => l.Text));
            if (!part.More)
                break;
        }
        Assert.Equal(2501, seen.Count);
        Assert.Equal("after the crash", seen[^1]);
    }

    [Fact]
    public async Task A_failed_head_names_what_it_holds_and_a_rerun_that_succeeds_lets_it_go()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench.Charter("daily at 10:00") + $"\n  later: {{ takes: {bench.Source}, into: cellar, policy: few, after: register }}"
        );
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-23T10:00:05Z");
        await bench.TickAsync("2026-11-23T10:00:15Z");
        Assert.Contains("job later, which follows it, is held back", (await bench.OpenAlertsAsync())[0].Message);
        Directory.Move(bench.Source + "-away", bench.Source);
        await using (var db = await bench.KeepAsync())
            Assert.Equal(Outcome.HeldBack, (await db.PlannedRuns.SingleAsync(p => p.Job == "later")).Outcome);
        Assert.Equal("ok", (await bench.BackUpAsync()).Outcome.Word());
        await bench.TickAsync("2026-11-23T10:00:25Z");
        Assert.Contains((await bench.GetAsync<Page<RunAnswer>>("runs?job=later")).Items, r => r.Outcome.Word() == "ok");
    }

    [Fact]
    public async Task A_person_closes_what_nothing_else_will_a_warned_run_is_told_and_a_paused_job_is_on_duty()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench
                .Charter(more: "tells: drop")
                .Replace(
                    "jobs:",
                    $"channels:\n  drop: {{ mail-to: a@b.example, mail-from: e@f.example, pickup: {bench.Root}/drop }}\njobs:",
                    StringComparison.Ordinal
                )
        );
        await bench
            .Services.GetRequiredService<AlertBook>()
            .RaiseAsync(new Matter(Subject.OfJob("gone", "heron"), AlertClass.Failed, "m", "r"), default);
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        using (var why = await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/close", new AlertCloseRequest("")))
            Assert.Equal(HttpStatusCode.BadRequest, why.StatusCode);
        var closed = await bench.SendAsync<AlertAnswer>(
            HttpMethod.Post,
            $"alerts/{alert.Id}/close",
            new AlertCloseRequest("the job left the charter")
        );
        Assert.Equal(("closed", "mira", "the job left the charter"), (closed.State.Word(), closed.ClosedBy, closed.ClosedReason));
        Assert.False(
            await bench.Services.GetRequiredService<AlertBook>().IsOpenAsync(Subject.OfJob("gone", "heron"), AlertClass.Failed, default)
        );
        using (var seen = await bench.RawAsync(HttpMethod.Post, $"alerts/{alert.Id}/acknowledge"))
            Assert.Equal(HttpStatusCode.NotFound, seen.StatusCode);
        await bench.RawAsync(HttpMethod.Put, "jobs/register/pause", new PauseRequest("paint", bench.Clock.Now.AddDays(2)));
        Assert.Equal("paint", (await bench.GetAsync<DutyAnswer>("duty")).Board[0].Pause!.Reason);
        await using var db = await bench.KeepAsync();
        await bench
            .Services.GetRequiredService<TellingDesk>()
            .TellAsync(
                db,
                new Run
                {
                    Kind = RunKind.Backup,
                    Job = "register",
                    Machine = "heron",
                    By = Actor.Person("mira"),
                    Outcome = Outcome.Warned,
                    Sentence = "3 skipped",
                    State = RunState.Ended,
                },
                default
            );
        Assert.Contains("3 skipped", (await db.Messages.OrderByDescending(m => m.Id).FirstAsync(m => m.Type == "run-ended")).Body);
    }

    [Fact]
    public async Task What_a_charter_means_for_copies_is_part_of_its_difference_and_asks()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        foreach (
            var (yaml, says) in new[]
            {
                (
                    bench.Charter().Replace(bench.StoreFolder, bench.Root + "/elsewhere", StringComparison.Ordinal),
                    "store cellar moves from"
                ),
                ("charter: 1", "store cellar leaves the charter"),
                (bench.Charter().Replace("register:", "other:", StringComparison.Ordinal), "no policy governs them"),
            }
        )
        {
            var diff = await bench.SendAsync<CharterDiffAnswer>(HttpMethod.Post, "charter/diff", new CharterText(yaml));
            Assert.Contains(diff.Consequences, c =>
                c.Contains(says, StringComparison.Ordinal) && c.Contains("1 copy", StringComparison.Ordinal)
            );
            using var refused = await bench.RawAsync(HttpMethod.Put, "charter", new CharterText(yaml));
            Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
            Assert.Contains(says, await refused.Content.ReadAsStringAsync());
        }
        Assert.Empty(
            (
                await bench.SendAsync<CharterDiffAnswer>(HttpMethod.Post, "charter/diff", new CharterText(bench.Charter("daily at 04:00")))
            ).Consequences
        );
        var check = await bench.SendAsync<CharterCheckAnswer>(
            HttpMethod.Post,
            "charter/check",
            new CharterText(bench.Charter().Replace(bench.Source, "/nowhere/at/all", StringComparison.Ordinal))
        );
        Assert.True(check.Well);
        Assert.Contains("does not exist now", Assert.Single(check.Notes).Message);
    }

    private static void Shell(string command)
    {
        using var process = System.Diagnostics.Process.Start("/bin/bash", ["-c", command]);
        process.WaitForExit();
    }
}
