using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>How backups went over weeks and months: the reports that are kept, and making one now.</summary>
internal static class ReportCommands
{
    private static readonly TimeSpan AsksEvery = TimeSpan.FromMilliseconds(300);

    public static Command Make()
    {
        var report = new Command("report", "How backups went over weeks and months");
        report.Subcommands.Add(List());
        report.Subcommands.Add(One());
        report.Subcommands.Add(MakeOne());
        return report;
    }

    private static Command List() => Common.Verb("list", "The reports that are kept, newest first", async (parsed, client, cancel) =>
        {
            var page = await client.GetAsync<Page<ReportListAnswer>>("reports?limit=200", cancel);
            if (Common.AsJson(parsed))
                Show.Json(page);
            else
                Show.Table(
                    ["report", "name", "from", "to", "made"],
                    page.Items.Select(r =>
                        new[] { $"{r.Id}", r.Name, r.From, r.To, r.Problem ?? (r.MadeAt is { } at ? Show.When(at) : "not yet") }
                    ),
                    "no report has been made yet"
                );
            return Root.Done;
        });

    private static Command One()
    {
        var id = new Argument<long>("REPORT") { Description = "The report's number" };
        var form = new Option<string>("--as") { Description = "text, html or csv", DefaultValueFactory = _ => "text" };
        form.AcceptOnlyFromAmong("text", "html", "csv");
        return Common.Verb(
            "show",
            "One report: what came off, why the rest did not, promises, stores, alerts",
            async (parsed, client, cancel) =>
            {
                var path = $"reports/{parsed.GetValue(id)}";
                if (parsed.GetValue(form) is { } other and not "text")
                    Console.Out.Write(await client.GetTextAsync($"{path}/{other}", cancel));
                else
                {
                    var report = await client.GetAsync<ReportAnswer>(path, cancel);
                    if (Common.AsJson(parsed))
                        Show.Json(report);
                    else
                        Print(report);
                }
                return Root.Done;
            },
            id,
            form
        );
    }

    private static Command MakeOne()
    {
        var name = new Argument<string>("NAME") { Description = "The report as the charter names it" };
        var from = new Option<string?>("--from")
        {
            Description = "The first day of the period, such as 2026-11-23; the last whole one where it is left out",
        };
        return Common.Verb(
            "make",
            "Makes a report now and keeps it; it is told to nobody",
            async (parsed, client, cancel) =>
            {
                var asked = await client.PostAsync<ReportListAnswer>(
                    "reports",
                    new ReportRequest(parsed.GetValue(name)!, parsed.GetValue(from)),
                    cancel
                );
                var stands = asked;
                while (stands is { MadeAt: null, Problem: null })
                {
                    await Task.Delay(AsksEvery, cancel);
                    stands = (await client.GetAsync<Page<ReportListAnswer>>($"reports?name={asked.Name}&limit=200", cancel)).Items.First(
                        r => r.Id == asked.Id
                    );
                }
                if (stands.Problem is { } why)
                {
                    Show.Error($"Report {asked.Id} could not be made: {why}");
                    return Root.Refused;
                }
                var report = await client.GetAsync<ReportAnswer>($"reports/{asked.Id}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(report);
                else
                    Print(report);
                return Root.Done;
            },
            name,
            from
        );
    }

    private static void Print(ReportAnswer r)
    {
        Show.Line($"{r.Name}: backups of {r.Of}, {r.From} to before {r.To} ({r.Zone})");
        Show.Line(
            $"  {(r.Runs.Rate is { } rate ? rate.ToString("0.0 %", CultureInfo.InvariantCulture) : "none")} of {r.Runs.ShouldHave} runs "
                + $"came off; {r.Runs.Planned} planned, {r.Runs.Unplanned} unplanned"
        );
        Show.Line(
            $"  promises were kept for {r.Freshness.KeptHours:0} h and broken for {r.Freshness.BrokenHours:0} h, "
                + $"by {r.Freshness.Broken} of {Counted.Of(r.Freshness.Promised, "job")}"
        );
        Show.Line(
            $"  {Counted.Of(r.Alerts.Opened, "alert")}, {r.Alerts.StillOpen} still open; "
                + $"{Show.Took(r.Alerts.MedianSeconds)} to repair (median)"
        );
        foreach (var cause in r.Causes.Take(10))
            Show.Line($"  {cause.Times, 5} x {cause.Cause} ({Counted.Named(cause.Jobs)})");
        Show.Table(
            ["job", "machine", "planned", "came off", "missed", "failed", "promise", "broken", "copies", "added"],
            r.Jobs.Select(j =>
                new[]
                {
                    j.Job,
                    j.Machine,
                    $"{j.Planned}",
                    $"{j.Succeeded}",
                    $"{j.Missed}",
                    $"{j.Failed}",
                    j.FreshWithin ?? "",
                    j.BrokenHours is { } broken ? $"{broken:0.#} h" : "",
                    $"{j.CopiesMade}",
                    $"{new ByteSize(j.StoredBytes)}",
                }
            ),
            "no job is in it"
        );
        Show.Table(
            ["store", "added", "expired", "removed", "used", "full"],
            r.Stores.Select(s =>
                new[]
                {
                    s.Store,
                    $"{new ByteSize(s.AddedBytes)}",
                    $"{s.CopiesExpired}",
                    $"{s.CopiesRemoved}",
                    s.UsedBytes is { } used ? $"{new ByteSize(used)}" : "unknown",
                    s.FullOn ?? "not within a year",
                }
            ),
            "no store is in it"
        );
    }
}
