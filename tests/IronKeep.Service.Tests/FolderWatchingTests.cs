using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Hearing;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Folders of dated files that something else writes, from the file to run, alert, plan and bin.</summary>
public sealed class FolderWatchingTests
{
    private static async Task<Bench> BeginAsync(
        string job = "heard-by: folder",
        string store = "name: \"{job}_{yyyy}{MM}{dd}T{HH}{mm}.sql\"",
        string keep = "newest 3",
        string more = ""
    )
    {
        var bench = await Bench.StartAsync();
        Directory.CreateDirectory(bench.Root + "/dumps");
        await bench.ApplyAsync(
            $$"""
            charter: 1
            stores: { dumps: { folder: {{bench.Root}}/dumps, layout: dated-files, {{store}}, bin: 2 days } }
            policies: { few: { keep: {{keep}} } }
            jobs:
              counts: { watched: yes, {{job}}, leaves-copy-in: dumps, policy: few, when: "daily at 03:00", run-limit: 1 hours, start-limit: 10 minutes {{more}} }
            """
        );
        return bench;
    }

    private static void Write(Bench bench, string name, int size, string utc)
    {
        var path = Path.Combine(bench.Root, "dumps", name);
        File.WriteAllBytes(path, new byte[size]);
        File.SetLastWriteTimeUtc(
            path,
            DateTime.Parse(utc, System.Globalization.CultureInfo.InvariantCulture, System.Globalization.DateTimeStyles.AdjustToUniversal)
        );
    }

    /// <summary>Two looks, some minutes apart, so that what is there settles.</summary>
    private static async Task LookAsync(Bench bench, string utc)
    {
        var at = DateTimeOffset.Parse(utc, System.Globalization.CultureInfo.InvariantCulture);
        await bench.TickAsync(at.AddMinutes(-3).ToString("O"));
        await bench.Services.GetRequiredService<FolderWatching>().LookAsync(default);
        await bench.TickAsync(utc);
        await bench.Services.GetRequiredService<FolderWatching>().LookAsync(default);
        await bench.IdleAsync();
    }

    private static async Task<string[]> NightsAsync(Bench bench) =>
        [.. (await bench.GetAsync<JobWhenAnswer>("jobs/counts/when")).Before.Select(b => $"{b.Utc.UtcDateTime:MM-dd} {b.Outcome.Word()}")];

    [Fact]
    public async Task Copies_that_come_are_runs_that_stay_away_are_missed_and_the_newest_good_ones_always_stay()
    {
        await using var bench = await BeginAsync(more: ", prune: after-success");
        // What lay there long before is a copy, and no news.
        Write(bench, "counts_20261001T0310.sql", 2000, "2026-10-01T03:10:00Z");
        await LookAsync(bench, "2026-11-23T10:00:00Z");
        Assert.Empty((await bench.GetAsync<Page<RunAnswer>>("runs?job=counts")).Items);
        for (var day = 24; day <= 27; day++)
        {
            Write(bench, $"counts_202611{day}T0305.sql", 2000, $"2026-11-{day}T03:09:00Z");
            await LookAsync(bench, $"2026-11-{day}T03:20:00Z");
        }
        Assert.Equal(["11-24 ok", "11-25 ok", "11-26 ok", "11-27 ok"], (await NightsAsync(bench))[^4..]);
        var run = (await bench.GetAsync<JobAnswer>("jobs/counts")).LastRun!;
        Assert.Equal(
            (RunKind.Watched, 2000, "2026-11-27T03:05:00", "2026-11-27T03:09:00"),
            (run.Kind, run.Figures.SelectedBytes, run.Began!.Value.UtcDateTime.ToString("s"), run.Ended!.Value.UtcDateTime.ToString("s"))
        );
        Assert.Equal([EvidenceSource.Folder], run.Evidence!.Heard.Select(h => h.Source));
        Assert.Contains("counts_20261127T0305.sql", run.Sentence);
        // Those of before were not seen being made, so the brake held the first prune; a person lets it go.
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/counts/prune-plans");
        Assert.Equal(2, plan.Counts["expire"]);
        Assert.Contains(plan.Brake, b => b.Contains("learned from the store", StringComparison.Ordinal));
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=yes%20they%20may%20go")).Outcome.Word());
        Assert.Equal(
            ["counts_20261125T0305.sql", "counts_20261126T0305.sql", "counts_20261127T0305.sql"],
            Directory.GetFiles(bench.Root + "/dumps").Select(Path.GetFileName).Order()
        );
        var back = await bench.SendAsync<CopyAnswer>(HttpMethod.Post, "copies/counts_20261124T0305.sql/take-back");
        Assert.Null(back.BinnedAt);
        Assert.True(File.Exists(bench.Root + "/dumps/counts_20261124T0305.sql"));

        // Nothing comes any more: each night is missed by name, and the floor stays whatever its age.
        await bench.TickAsync("2026-11-28T03:00:30Z");
        await LookAsync(bench, "2026-11-28T04:20:00Z");
        Assert.Equal("11-28 missed", (await NightsAsync(bench))[^1]);
        Assert.Contains("left no copy in dumps", (await bench.GetAsync<JobWhenAnswer>("jobs/counts/when")).Before[^1].Reason);
        Assert.Equal(AlertClass.Missed, Assert.Single(await bench.OpenAlertsAsync()).Class);
        await bench.TickAsync("2027-02-28T12:00:00Z");
        Assert.Equal(1, (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/counts/prune-plans")).Counts["expire"]);
        // A late one is its night's after all.
        Assert.Equal(4, Directory.GetFiles(bench.Root + "/dumps").Length);
    }

    [Fact]
    public async Task A_folder_on_a_machine_is_looked_over_pruned_and_read_back_by_its_agent()
    {
        await using var bench = await MachineTests.StartAsync();
        var dumps = Directory.CreateDirectory(bench.Root + "/dumps").FullName;
        await bench.ApplyAsync(
            $$"""
            charter: 1
            machines: { curlew: {} }
            stores: { dumps: { folder: {{dumps}}, via: agent, on: curlew, layout: dated-files, name: "{job}_{yyyy}{MM}{dd}T{HH}{mm}.sql", bin: 2 days } }
            policies: { few: { keep: newest 1, at-least: 1 } }
            jobs:
              counts: { watched: yes, on: curlew, heard-by: folder, leaves-copy-in: dumps, policy: few, when: "daily at 03:00", run-limit: 1 hours, start-limit: 10 minutes }
            """
        );
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var served = new ServedPlace(new FolderPlace(dumps), new LocalDatedFolder(dumps));
        using var stop = new CancellationTokenSource();
        var answering = curlew.AnswerAsync(served, stop.Token);
        for (var day = 24; day <= 26; day++)
        {
            Write(bench, $"counts_202611{day}T0305.sql", 2000 + day, $"2026-11-{day}T03:09:00Z");
            await AtAsync($"2026-11-{day}T03:17:00Z");
            await AtAsync($"2026-11-{day}T03:20:00Z");
        }
        Assert.Equal(["11-24 ok", "11-25 ok", "11-26 ok"], (await NightsAsync(bench))[^3..]);
        Assert.Equal("curlew", (await bench.GetAsync<JobAnswer>("jobs/counts")).LastRun!.Machine);

        var check = await bench.RunAsync("stores/dumps/checks");
        Assert.Equal("ok", check.Outcome.Word());
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/counts/prune-plans");
        Assert.Equal(2, plan.Counts["expire"]);
        Assert.Equal("ok", (await bench.RunAsync($"prune-plans/{plan.Fingerprint}/apply?confirm=yes%20they%20may%20go")).Outcome.Word());
        Assert.Equal(["counts_20261126T0305.sql"], Directory.GetFiles(dumps).Select(Path.GetFileName));
        await bench.SendAsync<CopyAnswer>(HttpMethod.Post, "copies/counts_20261125T0305.sql/take-back");
        Assert.True(File.Exists(dumps + "/counts_20261125T0305.sql"));
        var back = await bench.RunAsync("copies/counts_20261126T0305.sql/restores", new RestoreRequest([], bench.Root + "/back"));
        Assert.Equal("ok", back.Outcome.Word());
        Assert.Equal(2026, new FileInfo(bench.Root + "/back/counts_20261126T0305.sql").Length);

        // Bytes that changed under the same size and time are found by reading, on the machine.
        var time = File.GetLastWriteTimeUtc(dumps + "/counts_20261126T0305.sql");
        await File.WriteAllBytesAsync(dumps + "/counts_20261126T0305.sql", [.. Enumerable.Repeat((byte)7, 2026)]);
        File.SetLastWriteTimeUtc(dumps + "/counts_20261126T0305.sql", time);
        check = await bench.RunAsync("stores/dumps/checks");
        Assert.Equal("failed", check.Outcome.Word());
        Assert.Contains("counts_20261126T0305.sql", check.Sentence + string.Concat((await bench.OpenAlertsAsync()).Select(a => a.Message)));
        await stop.CancelAsync();
        await answering;

        async Task AtAsync(string utc)
        {
            await bench.TickAsync(utc);
            await curlew.HelloAsync();
            // To the line a day has gone by without a word, so the first call finds it lost.
            for (var i = 0; i < 2; i++)
                await bench.Services.GetRequiredService<FolderWatching>().LookAsync(default);
            await bench.IdleAsync();
        }
    }

    [Fact]
    public async Task Success_that_is_said_and_leaves_no_copy_is_failed_unconfirmed_until_it_comes_late()
    {
        await using var bench = await BeginAsync("heard-by: [check-in, folder]");
        await LookAsync(bench, "2026-11-23T10:00:00Z");
        await bench.TickAsync("2026-11-24T03:05:00Z");
        await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/counts/check-ins", new CheckInRequest(CheckInState.Ended));
        await LookAsync(bench, "2026-11-24T04:10:00Z");
        Assert.Equal("11-24 ok", (await NightsAsync(bench))[^1]);
        // One that is there and still grows is no copy yet.
        await bench.TickAsync("2026-11-24T04:14:30Z");
        Write(bench, "counts_20261124T0304.sql", 2000, "2026-11-24T04:14:00Z");
        await bench.Services.GetRequiredService<FolderWatching>().LookAsync(default);
        var run = (await bench.GetAsync<JobAnswer>("jobs/counts")).LastRun!;
        Assert.Equal((Outcome.Failed, FailureClass.Unconfirmed), (run.Outcome!.Value, run.Failure!.Value));
        Assert.Contains("is there and still being written", run.Sentence);
        Assert.Equal("11-24 failed", (await NightsAsync(bench))[^1]);
        await LookAsync(bench, "2026-11-24T04:30:00Z");
        run = (await bench.GetAsync<JobAnswer>("jobs/counts")).LastRun!;
        Assert.Equal(Outcome.Warned, run.Outcome);
        Assert.StartsWith("its copy came late", run.Sentence);
        Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?job=counts")).Items);
        Assert.Empty(await bench.OpenAlertsAsync());

        // The next night both agree, and it is one run; looked at again after a restart it stays one.
        await bench.TickAsync("2026-11-25T03:05:00Z");
        await bench.SendAsync<CheckInAnswer>(HttpMethod.Post, "jobs/counts/check-ins", new CheckInRequest(CheckInState.Ended));
        Write(bench, "counts_20261125T0301.sql", 2100, "2026-11-25T03:04:00Z");
        await LookAsync(bench, "2026-11-25T05:00:00Z");
        await bench.RestartAsync();
        await LookAsync(bench, "2026-11-25T06:00:00Z");
        Assert.Equal("11-25 ok", (await NightsAsync(bench))[^1]);
        run = (await bench.GetAsync<JobAnswer>("jobs/counts")).LastRun!;
        Assert.Equal([EvidenceSource.CheckIn, EvidenceSource.Folder], run.Evidence!.Heard.Select(h => h.Source));
        Assert.Equal(2100, run.Figures.SelectedBytes);
        Assert.Equal(2, (await bench.GetAsync<Page<RunAnswer>>("runs?job=counts")).Items.Count);
    }

    [Fact]
    public async Task A_copy_of_another_size_is_suspect_and_a_finished_one_that_changes_is_told()
    {
        await using var bench = await BeginAsync(more: ", band: 50 % and 1 KB", keep: "newest 20");
        await LookAsync(bench, "2026-11-23T10:00:00Z");
        for (var day = 24; day <= 28; day++)
        {
            Write(bench, $"counts_202611{day}T0305.sql", day < 28 ? 20_000 : 900, $"2026-11-{day}T03:09:00Z");
            await LookAsync(bench, $"2026-11-{day}T03:20:00Z");
        }
        Assert.Equal(["ok", "ok", "ok", "ok", "suspect"], (await NightsAsync(bench))[^5..].Select(n => n[6..]));
        var copies = await bench.CopiesAsync();
        Assert.NotNull(copies[0].Doubt);
        Assert.All(copies.Skip(1), c => Assert.Null(c.Doubt));
        // Two files for one night are two copies.
        Write(bench, "counts_20261128T0306.sql", 20_000, "2026-11-28T03:09:00Z");
        await LookAsync(bench, "2026-11-28T03:40:00Z");
        Assert.Equal(6, (await bench.CopiesAsync()).Count);

        File.AppendAllText(bench.Root + "/dumps/counts_20261126T0305.sql", "more");
        await LookAsync(bench, "2026-11-28T04:00:00Z");
        var alert = Assert.Single(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Unsound);
        Assert.Contains("changed after it was complete: counts_20261126T0305.sql", alert.Message);
        Assert.Equal(20_004, (await bench.CopiesAsync()).First(c => c.Id == "counts_20261126T0305.sql").Bytes);
        // A verification that finds all well says so, and closes it; the next finds what changed behind its back.
        Assert.Equal("ok", (await bench.RunAsync("stores/dumps/checks")).Outcome.Word());
        Assert.DoesNotContain(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Unsound);
        File.WriteAllText(bench.Root + "/dumps/SHA256SUMS", new string('0', 64) + "  counts_20261127T0305.sql\n");
        var check = await bench.RunAsync("stores/dumps/checks");
        Assert.Equal("failed", check.Outcome.Word());
        Assert.Contains("counts_20261127T0305.sql is not what it was: its bytes are not those that SHA256SUMS says", check.Sentence);
        Assert.Equal("unsound", (await bench.CopiesAsync()).First(c => c.Id == "counts_20261127T0305.sql").State.Word());
        Assert.Equal(1, (await bench.GetAsync<StoreAnswer>("stores/dumps")).Others);
    }

    [Fact]
    public async Task Ids_with_slashes_serve_everywhere_and_what_others_delete_is_missed_and_never_guessed()
    {
        await using var bench = await BeginAsync(
            store: "name: \"{yyyy}/{kind}_{yyyy}{MM}{dd}.tar\", kinds: { full: F, incremental: I }",
            job: "heard-by: folder, early: 12 hours",
            keep: "newest 1"
        );
        Directory.CreateDirectory(bench.Root + "/dumps/2026");
        foreach (var (name, day) in new[] { ("F", 20), ("I", 21), ("I", 22), ("F", 23) })
            Write(bench, $"2026/{name}_202611{day}.tar", 1000, $"2026-11-{day}T03:01:00Z");
        await LookAsync(bench, "2026-11-23T10:00:00Z");
        Assert.Equal(
            ["2026/F_20261123.tar full", "2026/I_20261122.tar incremental", "2026/I_20261121.tar incremental", "2026/F_20261120.tar full"],
            (await bench.CopiesAsync()).Select(c => $"{c.Id} {c.Kind!.Value.Word()}")
        );
        var id = Uri.EscapeDataString("2026/I_20261122.tar");
        Assert.Equal("counts", (await bench.GetAsync<CopyAnswer>($"copies/{id}")).Job);
        // The partial one stays with the policy's floor of two, and so does what it needs.
        var plan = await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/counts/prune-plans");
        Assert.Equal(["Keep", "Keep", "Support", "Support"], plan.Copies.Select(c => c.Verdict.ToString()));
        await bench.SendAsync<CopyAnswer>(
            HttpMethod.Put,
            $"copies/{id}/hold",
            new HoldRequest(
                "the count of the year",
                DateTimeOffset.Parse("2027-11-01T00:00:00Z", System.Globalization.CultureInfo.InvariantCulture)
            )
        );
        Assert.Contains("held", string.Join(' ', (await bench.GetAsync<CopyWhyAnswer>($"copies/{id}/why")).Reasons));
        using (var browse = await bench.RawAsync(HttpMethod.Get, $"copies/{id}/entries"))
            Assert.Equal(HttpStatusCode.Conflict, browse.StatusCode);
        var restore = await bench.RunAsync($"copies/{id}/restores", new RestoreRequest([], bench.Root + "/back"));
        Assert.Equal(("ok", 3), (restore.Outcome.Word(), Directory.GetFiles(bench.Root + "/back").Length));

        // What somebody else moves into the bin is seen at the next look, told and put back.
        Directory.CreateDirectory(bench.Root + "/dumps/.ironkeep-bin/20261101-000000/2026");
        File.Move(bench.Root + "/dumps/2026/F_20261123.tar", bench.Root + "/dumps/.ironkeep-bin/20261101-000000/2026/F_20261123.tar");
        await LookAsync(bench, "2026-11-23T10:20:00Z");
        Assert.True(File.Exists(bench.Root + "/dumps/2026/F_20261123.tar"));
        Assert.Contains("they were put back", Assert.Single(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Unsound).Message);
        Assert.Equal("ok", (await bench.RunAsync("stores/dumps/checks")).Outcome.Word());

        File.Delete(bench.Root + "/dumps/2026/F_20261120.tar");
        await LookAsync(bench, "2026-11-23T10:30:00Z");
        Assert.Equal("missing", (await bench.CopiesAsync()).First(c => c.Id == "2026/F_20261120.tar").State.Word());
        Assert.Contains("has lost 1 copy", Assert.Single(await bench.OpenAlertsAsync(), a => a.Class == AlertClass.Unsound).Message);
        Assert.Equal(
            ["Keep", "Held", "Support", "Support"],
            (await bench.SendAsync<PrunePlanAnswer>(HttpMethod.Post, "jobs/counts/prune-plans")).Copies.Select(c => c.Verdict.ToString())
        );
        // An emptied folder, without the bin that was in it, is a missing disk: nothing is called lost, and nothing is done.
        Directory.Delete(bench.Root + "/dumps/.ironkeep-bin", recursive: true);
        Directory.Delete(bench.Root + "/dumps/2026", recursive: true);
        await LookAsync(bench, "2026-11-23T11:00:00Z");
        Assert.Equal(1, (await bench.CopiesAsync()).Count(c => c.State == CopyState.Missing));
        Assert.False((await bench.GetAsync<StoreAnswer>("stores/dumps")).Reachable);
    }
}
