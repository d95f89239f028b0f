using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

/// <summary>
/// Windows, ceilings, watched jobs, forecasts, comparison, calendar addresses, through the API. The clock begins at 2026-11-23 09:00Z, a
/// Monday.
/// </summary>
public sealed class PlanningTests
{
    [Fact]
    public async Task Quiet_hours_shift_a_planned_run_and_when_says_why()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 1 hours", more: "quiet-hours: 10:00 to 13:00"));
        await bench.TickAsync("2026-11-23T11:30:00Z");
        Assert.Empty((await bench.GetAsync<Page<RunAnswer>>("runs")).Items);
        await bench.TickAsync("2026-11-23T13:00:01Z");
        // Three due instants came to one moment: one run, in time, nothing missed.
        var run = Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs")).Items);
        Assert.Equal("ok", run.Outcome.Word());
        var when = await bench.GetAsync<JobWhenAnswer>("jobs/register/when?asOf=2026-11-23T13:30:00Z");
        var due = when.Before[^1];
        Assert.Equal(("2026-11-23T13:00:00+00:00", "ok", run.Id), (due.Local, due.Outcome.Word(), due.RunId));
        Assert.Contains("several due instants come to one moment", due.Why);
        Assert.Contains(
            "shifted by the quiet hours 10:00 to 13:00",
            (await bench.GetAsync<JobWhenAnswer>("jobs/register/when?asOf=2026-11-23T12:00:00Z")).After[0].Why
        );
        Assert.Contains(
            "quiet hours 10:00 to 13:00 shift a run to",
            Assert.Single((await bench.GetAsync<JobWhenAnswer>("jobs/register/when?asOf=2026-11-24T12:00:00Z")).Facts)
        );
        await bench.ApplyAsync(bench.Charter("every 1 hours", more: "quiet-hours: 10:00 to 13:00\n    when-quiet: drop"));
        var dropped = (await bench.GetAsync<JobWhenAnswer>("jobs/register/when?asOf=2026-11-24T10:30:00Z")).After[0];
        Assert.True(dropped.Dropped);
        Assert.Equal("dropped: the quiet hours 10:00 to 13:00", dropped.Why);
        // What was due before the job was watched was never planned, and that is said too.
        Assert.Equal(
            "the job was not watched yet",
            (await bench.GetAsync<JobWhenAnswer>("jobs/register/when?asOf=2026-11-23T08:30:00Z")).Before[^1].Reason
        );
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Get, "jobs/nothing/when")).StatusCode);
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await bench.RawAsync(HttpMethod.Get, "jobs/register/when?asOf=2126-01-01T00:00:00Z")).StatusCode
        );
    }

    [Fact]
    public async Task Runs_that_wait_for_each_other_begin_by_importance_then_name()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            $$"""
            charter: 1
            runs-at-once: 1
            stores: { cellar: { folder: {{bench.StoreFolder}} } }
            policies: { few: { keep: newest 2 } }
            jobs:
              a-last: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 11:00, importance: 1 }
              b-second: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 11:00 }
              c-second: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 11:00 }
              d-first: { takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 11:00, importance: 5 }
            """
        );
        await bench.TickAsync("2026-11-23T11:00:01Z");
        var copies = (await bench.CopiesAsync()).OrderBy(c => c.RunId).ToList();
        Assert.Equal(4, copies.Count);
        // The runs were queued by name; the order in which their copies came is told by the log of the store: the record's own order.
        var order = new DirectoryInfo(bench.StoreFolder)
            .EnumerateFiles("*", SearchOption.AllDirectories)
            .Where(f => copies.Any(c => f.Name.StartsWith(c.Id, StringComparison.Ordinal)))
            .OrderBy(f => f.LastWriteTimeUtc)
            .Select(f => copies.First(c => f.Name.StartsWith(c.Id, StringComparison.Ordinal)).Job);
        Assert.Equal(["d-first", "b-second", "c-second", "a-last"], order);
    }

    [Fact]
    public async Task A_watched_job_is_what_it_says_of_itself_and_missed_when_it_says_nothing()
    {
        await using var bench = await Bench.StartAsync();
        const string charter = """
            charter: 1
            machines: { avocet: {} }
            jobs:
              sender: { on: avocet, watched: yes, note: /usr/local/bin/send, when: "daily at 10:00, 12:00, 14:00, 16:00, 18:00" }
            """;
        await bench.ApplyAsync(charter);
        var job = await bench.GetAsync<JobAnswer>("jobs/sender");
        Assert.Equal(("avocet", true, null, "/usr/local/bin/send"), (job.Machine, job.Watched, job.Policy, job.Note));
        Assert.Contains("something else carries it out on avocet", await TextAsync(bench, HttpMethod.Post, "jobs/sender/runs"));
        Assert.Contains("nothing to prune", await TextAsync(bench, HttpMethod.Post, "jobs/sender/prune-plans"));

        // A pause is of the job on its own machine.
        await bench.SendAsync<JobAnswer>(
            HttpMethod.Put,
            "jobs/sender/pause",
            new PauseRequest("the mast is being painted", bench.Clock.Now.AddMinutes(30))
        );
        Assert.Equal("the mast is being painted", (await bench.GetAsync<JobAnswer>("jobs/sender")).Pause?.Reason);
        // What was applied is read back at the next start.
        await bench.RestartAsync();
        await bench.TickAsync("2026-11-23T10:00:01Z");
        Assert.Null((await SayAsync(bench, "started")).Outcome);
        await bench.TickAsync("2026-11-23T11:00:00Z");
        Assert.Empty(await bench.OpenAlertsAsync());
        Assert.Equal("ok", (await SayAsync(bench, "ended")).Outcome.Word());
        // Said once more it is the same; and the next says nothing and is missed.
        Assert.Equal("2026-11-23T10:00:00", (await SayAsync(bench, "ended")).Due?.ToString("s"));
        await bench.TickAsync("2026-11-23T12:40:00Z");
        Assert.Contains("something else carries it out", Assert.Single(await bench.OpenAlertsAsync()).Message);
        // A late word mends the record and closes the alert.
        Assert.Contains("heard of late", (await SayAsync(bench, "ended")).Reason);
        Assert.Empty(await bench.OpenAlertsAsync());
        await bench.TickAsync("2026-11-23T14:00:01Z");
        Assert.Equal("failed", (await SayAsync(bench, "ended", 28)).Outcome.Word());
        Assert.Contains("exit code 28", Assert.Single(await bench.OpenAlertsAsync()).Message);
        Assert.Equal(
            ["14:00 failed", "12:00 ok", "10:00 ok"],
            (await bench.GetAsync<JobWhenAnswer>("jobs/sender/when"))
                .Before.Reverse()
                .Take(3)
                .Select(d => $"{d.Local[11..16]} {d.Outcome.Word()}")
        );
        // One that started and was not heard of again.
        await bench.TickAsync("2026-11-23T16:00:01Z");
        await SayAsync(bench, "started");
        await bench.TickAsync("2026-11-24T17:00:00Z");
        Assert.Contains((await bench.GetAsync<JobWhenAnswer>("jobs/sender/when?asOf=2026-11-23T17:00:00Z")).Before, d =>
            d.Outcome.Word() == "timed-out" && d.Reason!.Contains("nothing was heard since")
        );
    }

    [Fact]
    public async Task A_forecast_starts_from_what_exists_and_a_comparison_says_what_would_go_at_once()
    {
        await using var bench = await Bench.StartAsync();
        var charter = bench
            .Charter("daily at 23:00", "newest 5", "prune: after-success")
            .Replace("bin: 2 days", "bin: 2 days, capacity: 1 GB, reclaim: daily at 06:00", StringComparison.Ordinal);
        await bench.ApplyAsync(charter);
        for (var day = 23; day < 29; day++)
        {
            bench.Write($"f{day}", new string('x', 40_000) + day);
            await bench.TickAsync($"2026-11-{day}T23:00:01Z");
        }
        var forecast = await bench.SendAsync<ForecastAnswer>(HttpMethod.Post, "forecast", new ForecastRequest(Days: 30));
        Assert.Equal((30, 30), (forecast.Runs, forecast.Days));
        Assert.Empty(forecast.Findings);
        var job = Assert.Single(forecast.Jobs);
        Assert.Equal(("history", 5, 5), (job.From, job.CopiesNow, job.CopiesAtEnd));
        Assert.True(job.GrowthPerDay > 0 && forecast.Stores[0].Used[^1] > forecast.Stores[0].Used[0]);
        Assert.Equal(31, forecast.Dates.Count);

        var on = await bench.SendAsync<PolicyEffectAnswer>(
            HttpMethod.Post,
            "forecast/copies",
            new CopiesOnRequest("register", null, DateTimeOffset.Parse("2026-12-01T12:00:00Z", null))
        );
        Assert.Equal(5, on.Keeps);
        // Two of them are still to be made; of those that exist now, the three newest are left.
        Assert.Equal(3, on.Copies.Count(c => !c.CopyId.StartsWith("planned", StringComparison.Ordinal)));
        Assert.All(on.Copies, c => Assert.NotEmpty(c.Reasons));

        var compared = await bench.SendAsync<ComparisonAnswer>(
            HttpMethod.Post,
            "charter/compare",
            new CompareRequest(
                null,
                charter.Replace("newest 5", "newest 2", StringComparison.Ordinal),
                [DateTimeOffset.Parse("2026-12-20T12:00:00Z", null)]
            )
        );
        Assert.Equal(3, compared.AtOnce.Count);
        Assert.Equal((5, 2), (compared.Dates[0].Places[0].Before, compared.Dates[0].Places[0].After));
        Assert.Equal("policy", Assert.Single(compared.Changes).Object);

        // The same through the form: later, with the draft's policy.
        var preview = await bench.SendAsync<PreviewAnswer>(
            HttpMethod.Post,
            "definitions/policy/few/preview?on=2026-12-20T12:00:00Z",
            new DefinitionRequest(new Dictionary<string, IReadOnlyList<string>> { ["keep"] = ["newest 3"] })
        );
        Assert.Equal(3, Assert.Single(preview.Policies).Keeps);
        Assert.Contains(
            "within the coming 400 days",
            await TextAsync(
                bench,
                HttpMethod.Post,
                "definitions/policy/few/preview?on=2036-12-20T12:00:00Z",
                new DefinitionRequest(new Dictionary<string, IReadOnlyList<string>>())
            )
        );

        foreach (
            var (path, body, says) in new (string, object, string)[]
            {
                ("forecast", new ForecastRequest(Days: 0), "use 1 to 3660"),
                ("forecast", new ForecastRequest("charter: 2"), "version '2' is not known"),
                (
                    "forecast",
                    new ForecastRequest(charter.Replace("daily at 23:00", "every 1 minutes", StringComparison.Ordinal), 3660),
                    "runs would be due within 3660 days"
                ),
                (
                    "forecast",
                    new ForecastRequest(Outage: new OutageRequest(DateTimeOffset.UnixEpoch.AddDays(1), DateTimeOffset.UnixEpoch)),
                    "ends before it begins"
                ),
                (
                    "forecast/copies",
                    new CopiesOnRequest("nobody", null, DateTimeOffset.Parse("2026-12-01T12:00:00Z", null)),
                    "no job 'nobody'"
                ),
                (
                    "forecast/copies",
                    new CopiesOnRequest("register", "attic", DateTimeOffset.Parse("2026-12-01T12:00:00Z", null)),
                    "does not go into store 'attic'"
                ),
                (
                    "forecast/copies",
                    new CopiesOnRequest("register", null, DateTimeOffset.Parse("2026-01-01T12:00:00Z", null)),
                    "1 to 3660 days ahead"
                ),
                ("charter/compare", new CompareRequest(null, charter, [DateTimeOffset.UnixEpoch]), "each ahead of now"),
            }
        )
            Assert.Contains(says, await TextAsync(bench, HttpMethod.Post, path, body));
    }

    [Fact]
    public async Task The_timetable_draws_what_ran_and_what_will_and_a_rotation_set_tells_its_nights()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(
            bench.Charter("daily at 11:00, 15:00", more: "quiet-hours: 14:00 to 16:00")
                + """

                machines: { heron: { runs-at-once: 2 } }
                media-groups:
                  disks: { serves: mon-fri, media: [d-1, d-2], protected-for: 6 days }
                rotation-sets:
                  ferry: { start: "20:00", first: 2026-11-23, groups: disks }
                """
        );
        await bench.TickAsync("2026-11-23T11:00:01Z");
        var axis = await bench.GetAsync<TimetableAxis>("timetable/axis?from=2026-11-23T10:00:00Z&hours=30");
        Assert.Equal(
            ["11:00 past ok", "16:00 to come ", "11:00 to come "],
            axis.Bars.Select(b => $"{b.Due:HH:mm} {(b.Past ? "past" : "to come")} {b.Outcome.Word()}")
        );
        Assert.Equal("shifted by the quiet hours 14:00 to 16:00", axis.Bars[1].Why);
        Assert.Equal(2, axis.Quiet.Count);
        Assert.Equal([new CeilingAnswer("all", 2), new CeilingAnswer("machine heron", 2)], axis.Ceilings);
        Assert.Contains("use 1 to 336", await TextAsync(bench, HttpMethod.Get, "timetable/axis?hours=1000"));
        Assert.Contains("years away", await TextAsync(bench, HttpMethod.Get, "timetable/axis?from=2099-01-01T00:00:00Z"));

        var ferry = Assert.Single(await bench.GetAsync<IReadOnlyList<RotationAnswer>>("rotations?nights=7"));
        Assert.Equal(["d-1", "d-2", null, null, null, null, null], ferry.Nights.Select(n => n.Medium));
        Assert.Equal([false, false, true, true, true, false, false], ferry.Nights.Select(n => n.Short));
        Assert.Equal((2, 5), (ferry.Groups[0].Has, ferry.Groups[0].Enough));
        // A later look gives the same turn.
        Assert.Equal(
            ferry.Nights[4],
            (await bench.GetAsync<IReadOnlyList<RotationAnswer>>("rotations?first=2026-11-27&nights=2"))[0].Nights[0]
        );
    }

    [Fact]
    public async Task A_calendar_address_opens_the_timetable_alone_until_it_is_taken_back()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter("daily at 23:00"));
        var made = await bench.SendAsync<NewCalendarAddressAnswer>(
            HttpMethod.Post,
            "timetable/addresses",
            new CalendarAddressRequest("wall calendar")
        );
        using var anybody = bench.Anonymous();
        var text = await anybody.GetStringAsync(made.Path);
        Assert.Contains("BEGIN:VCALENDAR", text);
        var calendar = Ical.Net.Calendar.Load(text)!;
        // Sixty nights from this one on, each due instant in UTC.
        Assert.Equal(60, calendar.Events.Count);
        Assert.Equal(new DateTime(2026, 11, 23, 23, 0, 0, DateTimeKind.Utc), calendar.Events.Min(e => e.Start!.AsUtc));
        Assert.Equal(60, calendar.Events.Select(e => e.Uid).Distinct().Count());
        Assert.Equal("text/calendar", (await anybody.GetAsync(made.Path)).Content.Headers.ContentType!.MediaType);
        var listed = Assert.Single(await bench.GetAsync<IReadOnlyList<CalendarAddressAnswer>>("timetable/addresses"));
        Assert.Equal(("wall calendar", "mira", bench.Clock.Now), (listed.Label, listed.By, listed.LastReadAt));
        // The token opens nothing else, in no other place.
        var secret = made.Path.Split('/')[^1].Replace(".ics", "", StringComparison.Ordinal);
        anybody.DefaultRequestHeaders.Authorization = new("Bearer", secret);
        Assert.Equal(HttpStatusCode.Unauthorized, (await anybody.GetAsync("/api/v1/timetable")).StatusCode);
        Assert.DoesNotContain(
            Directory
                .EnumerateFiles(Path.Combine(bench.Root, "service"), "*", SearchOption.AllDirectories)
                .Where(f => !f.EndsWith(".lock", StringComparison.Ordinal)),
            f => ReadShared(f).Contains(secret, StringComparison.Ordinal)
        );
        await bench.RawAsync(HttpMethod.Delete, $"timetable/addresses/{made.Address.Id}");
        Assert.Equal(HttpStatusCode.NotFound, (await anybody.GetAsync(made.Path)).StatusCode);
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await bench.RawAsync(HttpMethod.Delete, $"timetable/addresses/{made.Address.Id}")).StatusCode
        );
        Assert.Contains(
            "1 to 100 characters",
            await TextAsync(bench, HttpMethod.Post, "timetable/addresses", new CalendarAddressRequest(" "))
        );
    }

    private static string ReadShared(string path)
    {
        using var file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var reader = new StreamReader(file, System.Text.Encoding.Latin1);
        return reader.ReadToEnd();
    }

    private static async Task<CheckInAnswer> SayAsync(Bench bench, string state, int? exitCode = null)
    {
        var answer = await bench.SendAsync<CheckInAnswer>(
            HttpMethod.Post,
            "jobs/sender/check-ins",
            new CheckInRequest(Core.Quantities.Kebab.Read<CheckInState>(state)!.Value, exitCode)
        );
        await bench.IdleAsync();
        return answer;
    }

    private static async Task<string> TextAsync(Bench bench, HttpMethod method, string path, object? body = null)
    {
        using var response = await bench.RawAsync(method, path, body);
        Assert.InRange((int)response.StatusCode, 400, 499);
        return System
            .Text.Json.JsonDocument.Parse(await response.Content.ReadAsStringAsync())
            .RootElement.GetProperty("detail")
            .GetString()!;
    }
}
