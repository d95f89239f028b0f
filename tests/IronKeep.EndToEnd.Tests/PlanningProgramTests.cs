using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// The calculators, which need no service, and the planning commands, which do: their JSON as promised, their exit codes.
/// </summary>
public sealed class PlanningProgramTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    [Fact]
    public async Task The_calculators_answer_in_the_promised_form_and_need_no_service()
    {
        var schedule = await JsonAsync(
            0,
            "try",
            "schedule",
            "daily at 02:15",
            "--zone",
            "Europe/Berlin",
            "--as-of",
            "2027-03-27T12:00:00Z",
            "--count",
            "2"
        );
        Assert.Equal(
            """{"sentence":"daily at 02:15","zone":"Europe/Berlin","due":[{"utc":"2027-03-28T01:00:00Z","local":"2027-03-28T03:00:00+02:00","note":"the clock leaves out 02:15 on this date"},{"utc":"2027-03-29T00:15:00Z","local":"2027-03-29T02:15:00+02:00","note":null}]}""",
            Squeezed(schedule)
        );
        var autumn = await JsonAsync(
            0,
            "try",
            "schedule",
            "15 2 * * *",
            "--zone",
            "Europe/Berlin",
            "--as-of",
            "2027-10-30T12:00:00Z",
            "--count",
            "1"
        );
        Assert.Equal(
            ("daily at 02:15", "2027-10-31T00:15:00Z"),
            (autumn.GetProperty("sentence").GetString(), autumn.GetProperty("due")[0].GetProperty("utc").GetString())
        );

        // A copy every noon from 2026-06-01 to 2026-07-15.
        var csv = Path.Combine(programs.Root, "copies.csv");
        await File.WriteAllLinesAsync(
            csv,
            Enumerable
                .Range(0, 45)
                .Select(i =>
                    $"c{i:00},{new DateTime(2026, 6, 1, 12, 0, 0, DateTimeKind.Utc).AddDays(i):yyyy-MM-ddTHH:mm:ssZ},unchecked,,"
                    + $"{(i == 3 ? "yes" : "")}"
                )
                .Prepend("id,taken,state,base,held")
        );
        var kept = await JsonAsync(
            0,
            "try",
            "retention",
            "--policy",
            "newest 2 then 2 daily then 2 weekly then 2 monthly",
            "--zone",
            "UTC",
            "--as-of",
            "2026-07-15T18:00:00Z",
            "--copies",
            csv
        );
        Assert.Equal(
            ["c44", "c43", "c42", "c41", "c34", "c27"],
            kept.GetProperty("copies")
                .EnumerateArray()
                .Where(c => c.GetProperty("verdict").GetString() == "keep")
                .Select(c => c.GetProperty("id").GetString()!)
        );
        Assert.Equal((6, 1, 38, 0), (Count("keep"), Count("held"), Count("expire"), Count("frozen")));
        Assert.Equal(["policy", "asOf", "frozen", "copies", "counts"], kept.EnumerateObject().Select(p => p.Name));
        Assert.Equal(["id", "verdict", "reasons", "leavesAt"], kept.GetProperty("copies")[0].EnumerateObject().Select(p => p.Name));
        var frozen = await JsonAsync(
            0,
            "try",
            "retention",
            "--policy",
            "newest 2",
            "--as-of",
            "2026-09-15T18:00:00Z",
            "--copies",
            csv,
            "--fresh-within",
            "30 hours"
        );
        Assert.True(frozen.GetProperty("frozen").GetBoolean());
        Assert.Equal(42, frozen.GetProperty("counts").GetProperty("frozen").GetInt32());

        var set = Path.Combine(programs.Root, "set.yaml");
        await File.WriteAllTextAsync(
            set,
            """
            start: "20:00"
            groups:
              - {name: nights, serves: daily, media: [d-2, d-1], protected-for: 6 days, fill-window: 12 hours, run-length: 3 hours}
            """
        );
        var rotation = await JsonAsync(
            1,
            "try",
            "rotation",
            "--set",
            set,
            "--zone",
            "Europe/London",
            "--first",
            "2026-11-23",
            "--nights",
            "3"
        );
        Assert.Equal(
            """{"nights":[{"date":"2026-11-23","group":"nights","medium":"d-1","protectedUntil":"2026-11-29T23:00:00Z","shortage":null},{"date":"2026-11-24","group":"nights","medium":"d-2","protectedUntil":"2026-11-30T23:00:00Z","shortage":null},{"date":"2026-11-25","group":"nights","medium":null,"protectedUntil":null,"shortage":{"firstFree":"d-1","at":"2026-11-29T23:00:00Z"}}],"firstShortage":"2026-11-25"}""",
            Squeezed(rotation)
        );

        int Count(string verdict) => kept.GetProperty("counts").GetProperty(verdict).GetInt32();
    }

    [Theory]
    [InlineData("'daily at' is not whole", "a time such as 23:00", "schedule", "daily at")]
    [InlineData("no such zone", "did you mean 'Europe/Berlin'", "schedule", "daily at 02:00", "--zone", "Europe/Berln")]
    [InlineData("as-of", "is not an instant", "schedule", "daily at 02:00", "--as-of", "yesterday")]
    [InlineData("count", "from 1 to 100000", "schedule", "daily at 02:00", "--count", "0")]
    [InlineData("policy", "never both", "retention", "--policy", "newest 2 then 2 daily and 1 weekly", "--copies", "/dev/null")]
    [InlineData("header", "write 'id,taken,state,base,held'", "retention", "--policy", "newest 2", "--copies", "/etc/hostname")]
    [InlineData("no file", "cannot be read", "retention", "--policy", "newest 2", "--copies", "/no/such/file")]
    [InlineData("no groups", "has mistakes", "rotation", "--set", "/dev/null", "--first", "2026-11-23")]
    public async Task A_calculator_that_is_asked_badly_says_so_and_ends_with_2(string why, string says, params string[] args)
    {
        var said = await programs.ClientAsync(["try", .. args]);
        Assert.True(said.ExitCode == 2 && said.Error.Contains(says, StringComparison.Ordinal), $"{why}: {said}");
        Assert.DoesNotContain("   at ", said.Error);
    }

    [Fact]
    public async Task A_crontab_is_adopted_forecast_compared_and_put_on_the_calendar()
    {
        await programs.BeginAsync();
        var crontab = Path.Combine(programs.Root, "crontab");
        // Far from now, whatever the hour: a check-in near a due instant would be that one's.
        var hour = (DateTime.UtcNow.Hour + 8) % 24;
        await File.WriteAllTextAsync(crontab, $"15 {hour} * * 1-5 /usr/local/bin/save\n@reboot /usr/local/bin/start\n");
        var adopted = await programs.ClientAsync(
            "charter",
            "adopt",
            "--crontab",
            crontab,
            "--machine",
            "avocet",
            "--zone",
            "Europe/London"
        );
        Assert.Equal(1, adopted.ExitCode);
        Assert.Contains($"when: weekdays at {hour:00}:15", adopted.Out);
        Assert.Contains("Line 2", adopted.Error);
        var charter = Path.Combine(programs.Root, "watched.yaml");
        await File.WriteAllTextAsync(charter, adopted.Out);
        Assert.Equal(0, (await programs.ClientAsync("charter", "check", charter)).ExitCode);

        var compared = await programs.ClientAsync("charter", "compare", "current", charter, "--on", "2 weeks");
        Assert.Equal(1, compared.ExitCode);
        Assert.Contains("added    job save", compared.Out);
        Assert.Contains("removed  job by-hand", compared.Out);
        Assert.Equal(0, (await programs.ClientAsync("charter", "apply", charter)).ExitCode);
        var forecast = await JsonAsync(0, "forecast", "--for", "2 weeks");
        Assert.Equal(10, forecast.GetProperty("runs").GetInt32());
        Assert.Equal(2, (await programs.ClientAsync("forecast", "--for", "soon")).ExitCode);
        Assert.Contains($"weekdays at {hour:00}:15", (await programs.ClientAsync("job", "when", "save", "--as-of", "2027-01-01")).Out);
        Assert.Contains("counts as unplanned", (await programs.ClientAsync("job", "check-in", "save")).Out);

        Assert.Contains("SUMMARY:save on avocet", (await programs.ClientAsync("timetable", "export", "--ics", "--for", "14d")).Out);
        var subscribed = await programs.ClientAsync("timetable", "subscribe", "wall");
        var address = subscribed.Out.Split('\n')[0];
        using var http = new HttpClient();
        Assert.Contains("BEGIN:VEVENT", await http.GetStringAsync(address));
        Assert.Equal(0, (await programs.ClientAsync("timetable", "unsubscribe", "1")).ExitCode);
        Assert.Equal(System.Net.HttpStatusCode.NotFound, (await http.GetAsync(address)).StatusCode);
        Assert.DoesNotContain(address.Split('/')[^1][..40], programs.ServiceOutput);
    }

    [Fact]
    public async Task A_ready_scheme_is_shown_brought_in_and_takes_turns()
    {
        await programs.BeginAsync();
        Assert.Contains("No rotation set is declared", (await programs.ClientAsync("rotation", "tonight")).Out);
        Assert.Equal(3, (await programs.ClientAsync("rotation", "calendar", "punt")).ExitCode);
        Assert.Contains("tower-of-hanoi: ", (await programs.ClientAsync("rotation", "schemes")).Out);
        string[] wish = ["rotation", "scheme", "two-disks", "--set", "punt", "--with", "nights=2"];
        var shown = await programs.ClientAsync([.. wish, "--first", "2027-03-01", "--nights", "3"]);
        Assert.Equal(0, shown.ExitCode);
        Assert.Contains("Mon 1 Mar  punt-disk-1  begun anew", shown.Out);
        Assert.Contains("Wed 3 Mar  punt-disk-2  begun anew", shown.Out);
        Assert.Contains("they always hold 2 nights or more, the oldest at least 2 days back", shown.Out);
        Assert.Contains("fill-window: 36 hours", shown.Out);
        // Only looked at so far.
        Assert.Empty((await JsonAsync(0, "rotation", "tonight")).EnumerateArray());
        Assert.Equal(2, (await programs.ClientAsync([.. wish, "--with", "nights"])).ExitCode);
        Assert.Contains("'moons'", (await programs.ClientAsync([.. wish, "--with", "moons=1"])).Out);
        Assert.Equal(0, (await programs.ClientAsync([.. wish, "--add"])).ExitCode);
        var again = await programs.ClientAsync([.. wish, "--add"]);
        Assert.Equal((2, true), (again.ExitCode, again.Out.Contains("There is a rotation set punt already", StringComparison.Ordinal)));
        Assert.Contains("punt-disk-1", (await programs.ClientAsync("rotation", "tonight")).Out);
        Assert.Equal(
            ["punt-disk-1", "punt-disk-1", "punt-disk-2", "punt-disk-2", "punt-disk-1"],
            (await JsonAsync(0, "rotation", "calendar", "punt", "--nights", "5"))
                .GetProperty("nights")
                .EnumerateArray()
                .Select(n => n.GetProperty("medium").GetString()!)
        );
        Assert.Matches(@"punt +punt-disks +2 +2 ", (await programs.ClientAsync("rotation", "needs")).Out);
    }

    private async Task<JsonElement> JsonAsync(int exitCode, params string[] args)
    {
        var said = await programs.ClientAsync([.. args, "--output", "json"]);
        Assert.True(said.ExitCode == exitCode, said.ToString());
        return JsonSerializer.Deserialize<JsonElement>(said.Out);
    }

    private static readonly JsonSerializerOptions Plain = new()
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    private static string Squeezed(JsonElement json) => JsonSerializer.Serialize(json, Plain);
}
