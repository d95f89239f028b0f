using System.Net;
using System.Text;

namespace IronKeep.Service.Basics;

/// <summary>
/// A page of HTML that asks for nothing else: it can be mailed, kept as a file, and printed on A4. Whatever is put into it is text.
/// </summary>
internal sealed class HtmlPage
{
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

    private readonly StringBuilder html = new();

    /// <param name="title">What a window or a list of files calls it.</param>
    /// <param name="heading">What stands at its head.</param>
    public HtmlPage(string title, string heading) =>
        html.Append($"<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{E(title)}</title>")
            .Append($"<style>{Look}</style></head><body>\n<h1>{E(heading)}</h1>\n");

    public void Line(string text, bool isSoft = false) => html.Append($"<p{(isSoft ? " class=\"soft\"" : "")}>{E(text)}</p>\n");

    public void Heading(string text) => html.Append($"<h2>{E(text)}</h2>\n");

    /// <summary>Large figures beside each other, each with its words.</summary>
    public void Sums(IEnumerable<(string Value, string Words, bool IsWrong)> sums)
    {
        html.Append("<div class=\"sums\">");
        foreach (var (value, words, isWrong) in sums)
            html.Append($"<div{(isWrong ? " class=\"wrong\"" : "")}><b>{E(value)}</b>{E(words)}</div>");
        html.Append("</div>\n");
    }

    /// <summary>A table; the columns whose title begins with # are numbers. A line feed in a cell begins a new line.</summary>
    public void Table(string title, string[] columns, IEnumerable<string[]> rows)
    {
        string Class(int i) => columns[i][0] == '#' ? " class=\"n\"" : "";
        html.Append($"<h2>{E(title)}</h2>\n<table><thead><tr>");
        for (var i = 0; i < columns.Length; i++)
            html.Append($"<th{Class(i)}>{E(columns[i].TrimStart('#'))}</th>");
        html.Append("</tr></thead><tbody>\n");
        foreach (var row in rows)
        {
            html.Append("<tr>");
            for (var i = 0; i < row.Length; i++)
                html.Append($"<td{Class(i)}>{E(row[i]).Replace("\n", "<br>", StringComparison.Ordinal)}</td>");
            html.Append("</tr>\n");
        }
        html.Append("</tbody></table>\n");
    }

    public override string ToString() => html + "</body></html>\n";

    private static string E(string text) => WebUtility.HtmlEncode(text);
}
