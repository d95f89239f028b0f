using System.Globalization;
using System.Text;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Service.Basics;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Reports;

/// <summary>A report as one page of HTML that asks for nothing else and prints on A4, as text, and as comma-separated values.</summary>
internal static class ReportPages
{
    /// <summary>How many jobs a mail and a page name in full; the file of values has them all.</summary>
    private const int MostJobs = 60,
        MostCauses = 12;

    public static string Title(ReportAnswer r) => $"{(r.Every == ReportPeriod.Week ? "Week" : "Month")} {Period(r)}: {r.Name}";

    public static string Html(ReportAnswer r)
    {
        var page = new HtmlPage(Title(r), r.Name);
        page.Line(
            $"Backups of {r.Of}, {Dates(r)} ({r.Zone}). Iron Keep {r.Machine}, made {r.MadeAt.UtcDateTime:yyyy-MM-dd HH:mm} UTC.",
            isSoft: true
        );
        page.Sums(Sums(r));
        page.Line(Adds(r));
        if (r.Causes.Count > 0)
            page.Table(
                "What went wrong, and why",
                ["Cause", "#Times", "Jobs"],
                r.Causes.Take(MostCauses).Select(c => new[] { c.Cause, $"{c.Times}", Counted.Named(c.Jobs) })
            );
        page.Table(
            "Jobs",
            ["Job", "Machine", "#Planned", "#Came off", "#Missed", "#Failed", "Promise", "#Broken", "#Copies", "#Added"],
            r.Jobs.Take(MostJobs).Select(Row)
        );
        if (r.Jobs.Count > MostJobs)
            page.Line($"{r.Jobs.Count - MostJobs} more jobs are in the file of values.", isSoft: true);
        page.Table(
            "Stores",
            ["Store", "#Copies made", "#Expired", "#Removed", "#Added", "#Used", "#Room", "Full", "#Read back"],
            r.Stores.Select(s =>
                new[]
                {
                    s.Store,
                    $"{s.CopiesMade}",
                    $"{s.CopiesExpired}",
                    $"{s.CopiesRemoved}",
                    Size(s.AddedBytes),
                    s.UsedBytes is { } used ? Size(used) : "unknown",
                    s.RoomBytes is { } room ? Size(room) : "unknown",
                    s.FullOn is { } on ? $"on {on}" : "not within a year",
                    s.Reading is { TotalBytes: > 0 } read ? $"{Share(read.ReadWithin30DaysBytes, read.TotalBytes)}" : "none",
                }
            )
        );
        if (r.Alerts.Classes.Count > 0)
            page.Table(
                "Alerts",
                ["Class", "#Opened", "#Still open", "#Median time to repair", "#Longest"],
                r.Alerts.Classes.Select(a =>
                    new[] { Kebab.Of(a.Class), $"{a.Opened}", $"{a.StillOpen}", Took(a.MedianSeconds), Took(a.LongestSeconds) }
                )
            );
        return page.ToString();
    }

    public static string Text(ReportAnswer r)
    {
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture, $"Backups of {r.Of}, {Dates(r)} ({r.Zone}).\n\n");
        foreach (var (value, words, _) in Sums(r))
            text.Append(CultureInfo.InvariantCulture, $"  {value, -10} {words}\n");
        text.Append(CultureInfo.InvariantCulture, $"\n{Adds(r)}\n");
        if (r.Causes.Count > 0)
            text.Append("\nWhat went wrong, and why:\n");
        foreach (var cause in r.Causes.Take(MostCauses))
            text.Append(CultureInfo.InvariantCulture, $"  {cause.Times, 4}  {cause.Cause} ({Counted.Named(cause.Jobs)})\n");
        text.Append("\nJobs:\n");
        foreach (var job in r.Jobs.Take(MostJobs))
        {
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {job.Job, -24} {job.Succeeded} of {job.Planned} came off, {job.Missed} missed, {job.Failed} failed"
            );
            if (job.FreshWithin is { } promise)
                text.Append(CultureInfo.InvariantCulture, $"; {promise} promised, broken for {Hours(job.BrokenHours)}");
            text.Append('\n');
        }
        text.Append("\nStores:\n");
        foreach (var store in r.Stores)
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {store.Store, -24} {Size(store.AddedBytes)} added, {Counted.Of(store.CopiesRemoved, "copy", "copies")} removed; full "
                    + $"{(store.FullOn is { } on ? $"on {on}" : "not within a year")}\n"
            );
        return text.ToString();
    }

    /// <summary>A row a job, in bytes and hours; RFC 4180, and no cell that a spreadsheet would take for a formula.</summary>
    public static string Csv(ReportAnswer r)
    {
        var csv = new StringBuilder(
            "job,machine,from,to,planned,came-off,missed,failed,fresh-within,kept-hours,broken-hours,"
                + "copies-made,copies-removed,added-bytes\r\n"
        );
        foreach (var j in r.Jobs)
            csv.AppendJoin(
                    ',',
                    new[]
                    {
                        j.Job,
                        j.Machine,
                        r.From,
                        r.To,
                        N(j.Planned),
                        N(j.Succeeded),
                        N(j.Missed),
                        N(j.Failed),
                        j.FreshWithin ?? "",
                        N(j.KeptHours),
                        N(j.BrokenHours),
                        N(j.CopiesMade),
                        N(j.CopiesRemoved),
                        N(j.StoredBytes),
                    }.Select(Cell)
                )
                .Append("\r\n");
        return csv.ToString();
    }

    private static IEnumerable<(string Value, string Words, bool Wrong)> Sums(ReportAnswer r)
    {
        yield return (
            r.Runs.Rate is { } rate ? rate.ToString("0.0 %", CultureInfo.InvariantCulture) : "none",
            $"of {r.Runs.ShouldHave} runs came off",
            r.Runs.Rate < 1
        );
        var hours = r.Freshness.KeptHours + r.Freshness.BrokenHours;
        yield return (
            hours > 0 ? (r.Freshness.KeptHours / hours).ToString("0.0 %", CultureInfo.InvariantCulture) : "none",
            $"of promised hours fresh, {Hours(r.Freshness.BrokenHours)} broken",
            r.Freshness.BrokenHours > 0
        );
        yield return (Size(r.Stores.Sum(s => s.AddedBytes)), "added to stores", false);
        yield return ($"{r.Alerts.Opened}", $"alerts, {r.Alerts.StillOpen} still open", r.Alerts.StillOpen > 0);
    }

    /// <summary>That the sums add up, in words.</summary>
    private static string Adds(ReportAnswer r)
    {
        var terms = r.Runs.Outcomes.Where(o => o.Value > 0).Select(o => $"{o.Value} {o.Key}").ToList();
        if (r.Runs.StillRunning > 0)
            terms.Add($"{r.Runs.StillRunning} still running");
        return $"{r.Runs.Planned} planned{(terms.Count == 0 ? "" : " = " + string.Join(" + ", terms))}; {r.Runs.Unplanned} unplanned. "
            + $"Median time to repair: {Took(r.Alerts.MedianSeconds)}.";
    }

    private static string[] Row(ReportJob j) =>
        [
            j.Job,
            j.Machine,
            $"{j.Planned}",
            $"{j.Succeeded}",
            $"{j.Missed}",
            $"{j.Failed}",
            j.FreshWithin ?? "",
            j.BrokenHours is { } broken ? Hours(broken) : "",
            $"{j.CopiesMade}",
            Size(j.StoredBytes),
        ];

    private static string Period(ReportAnswer r) =>
        r.Every == ReportPeriod.Month
            ? LocalDatePattern.Iso.Parse(r.From).Value.ToString("MMMM uuuu", CultureInfo.InvariantCulture)
            : $"from {r.From}";

    private static string Dates(ReportAnswer r) =>
        $"{r.From} to {LocalDatePattern.Iso.Format(LocalDatePattern.Iso.Parse(r.To).Value.PlusDays(-1))}";

    private static string Took(double? seconds) =>
        seconds is not { } s ? "none"
        : s < 5400 ? $"{s / 60:0} min"
        : s < 172_800 ? $"{s / 3600:0} h"
        : $"{s / 86_400:0} days";

    private static string Hours(double? hours) => hours is { } h ? string.Create(CultureInfo.InvariantCulture, $"{h:0.#} h") : "none";

    private static string Share(long part, long whole) =>
        (whole == 0 ? 0 : (double)part / whole).ToString("0 %", CultureInfo.InvariantCulture);

    private static string Size(long bytes) => new ByteSize(bytes).ToString();

    private static string N(IFormattable? value) => value?.ToString(value is double ? "0.###" : null, CultureInfo.InvariantCulture) ?? "";

    private static string Cell(string text)
    {
        if (text.Length > 0 && text[0] is '=' or '+' or '-' or '@')
            text = "'" + text;
        return text.AsSpan().IndexOfAny(",\"\r\n") < 0 ? text : $"\"{text.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";
    }
}
