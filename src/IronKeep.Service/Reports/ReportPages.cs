using System.Globalization;
using System.Net;
using System.Text;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Reports;

/// <summary>A report as one page of HTML that asks for nothing else and prints on A4, as text, and as comma-separated values.</summary>
internal static class ReportPages
{
    /// <summary>How many jobs a mail and a page name in full; the file of values has them all.</summary>
    private const int MostJobs = 60,
        MostCauses = 12;

    private const string Look = """
        @page { size: A4; margin: 18mm 16mm }
        body { font: 10.5pt/1.4 system-ui, "Liberation Sans", Arial, sans-serif; color: #1c1f1e; margin: 2em auto; max-width: 52em; padding: 0 1em }
        h1 { font-size: 18pt; margin: 0 } h2 { font-size: 12pt; margin: 1.6em 0 .4em; break-after: avoid }
        p { margin: .3em 0 } .soft { color: #5d6461 } .wrong { color: #a3261c }
        .sums { display: grid; grid-template-columns: repeat(4, 1fr); gap: 1.2em; margin: 1.2em 0; break-inside: avoid } .sums b { display: block; font-size: 16pt }
        table { border-collapse: collapse; width: 100%; font-size: 9.5pt } thead { display: table-header-group } tr { break-inside: avoid }
        th { text-align: left; font-weight: 600; border-bottom: 1.5px solid #5d6461 } td { border-bottom: 1px solid #d9dcd8; vertical-align: top }
        th, td { padding: .28em .6em .28em 0 } td { overflow-wrap: break-word } .n { text-align: right; white-space: nowrap; font-variant-numeric: tabular-nums }
        @media print { body { margin: 0; max-width: none; padding: 0 } table { font-size: 8pt } }
        """;

    public static string Title(ReportAnswer r) => $"{(r.Every == ReportPeriod.Week ? "Week" : "Month")} {Period(r)}: {r.Name}";

    public static string Html(ReportAnswer r)
    {
        var html = new StringBuilder();
        html.Append(
            CultureInfo.InvariantCulture,
            $"<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{E(Title(r))}</title>"
        );
        html.Append(CultureInfo.InvariantCulture, $"<style>{Look}</style></head><body>\n<h1>{E(r.Name)}</h1>\n");
        html.Append(
            CultureInfo.InvariantCulture,
            $"<p class=\"soft\">Backups of {E(r.Of)}, {E(Dates(r))} ({E(r.Zone)}). Iron Keep {E(r.Machine)}, made "
                + $"{r.MadeAt.UtcDateTime:yyyy-MM-dd HH:mm} UTC.</p>\n<div class=\"sums\">"
        );
        foreach (var (value, words, wrong) in Sums(r))
            html.Append(CultureInfo.InvariantCulture, $"<div{(wrong ? " class=\"wrong\"" : "")}><b>{E(value)}</b>{E(words)}</div>");
        html.Append("</div>\n");
        html.Append(CultureInfo.InvariantCulture, $"<p>{E(Adds(r))}</p>\n");
        if (r.Causes.Count > 0)
            Table(
                html,
                "What went wrong, and why",
                ["Cause", "#Times", "Jobs"],
                r.Causes.Take(MostCauses).Select(c => new[] { c.Cause, $"{c.Times}", Counted.Named(c.Jobs) })
            );
        Table(
            html,
            "Jobs",
            ["Job", "Machine", "#Planned", "#Came off", "#Missed", "#Failed", "Promise", "#Broken", "#Copies", "#Added"],
            r.Jobs.Take(MostJobs).Select(Row)
        );
        if (r.Jobs.Count > MostJobs)
            html.Append(
                CultureInfo.InvariantCulture,
                $"<p class=\"soft\">{r.Jobs.Count - MostJobs} more jobs are in the file of values.</p>\n"
            );
        Table(
            html,
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
            Table(
                html,
                "Alerts",
                ["Class", "#Opened", "#Still open", "#Median time to repair", "#Longest"],
                r.Alerts.Classes.Select(a =>
                    new[] { Kebab.Of(a.Class), $"{a.Opened}", $"{a.StillOpen}", Took(a.MedianSeconds), Took(a.LongestSeconds) }
                )
            );
        return html.Append("</body></html>\n").ToString();
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

    /// <summary>A table; the columns whose title begins with # are numbers.</summary>
    private static void Table(StringBuilder html, string title, string[] columns, IEnumerable<string[]> rows)
    {
        string Class(int i) => columns[i][0] == '#' ? " class=\"n\"" : "";
        html.Append(CultureInfo.InvariantCulture, $"<h2>{E(title)}</h2>\n<table><thead><tr>");
        for (var i = 0; i < columns.Length; i++)
            html.Append(CultureInfo.InvariantCulture, $"<th{Class(i)}>{E(columns[i].TrimStart('#'))}</th>");
        html.Append("</tr></thead><tbody>\n");
        foreach (var row in rows)
        {
            html.Append("<tr>");
            for (var i = 0; i < row.Length; i++)
                html.Append(CultureInfo.InvariantCulture, $"<td{Class(i)}>{E(row[i])}</td>");
            html.Append("</tr>\n");
        }
        html.Append("</tbody></table>\n");
    }

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

    private static string E(string text) => WebUtility.HtmlEncode(text);
}
