using System.Globalization;
using System.Net;
using System.Text;

namespace IronKeep.Demo.Desk;

/// <summary>The desk's two pages: all tickets, newest first, and one.</summary>
internal static class Pages
{
    public static string All(IReadOnlyList<Ticket> tickets)
    {
        var rows = new StringBuilder();
        foreach (var t in tickets.Reverse())
            rows.Append(
                CultureInfo.InvariantCulture,
                $"<tr class=\"{E(t.State)}\"><td><a href=\"/tickets/S-{t.Number}\">S-{t.Number}</a></td><td>{E(t.State)}</td>"
                    + $"<td>{E(t.What.Urgency)}</td><td>{E(t.What.Title)}</td><td>{E(t.What.Since)}</td></tr>\n"
            );
        return Page(
            "Saltmere desk",
            $"<h1>Saltmere desk</h1><p>{tickets.Count(t => t.State == "open")} open, {tickets.Count} in all</p>"
                + $"<table><tr><th>Ticket</th><th>State</th><th>Urgency</th><th>What</th><th>Since</th></tr>\n{rows}</table>"
        );
    }

    public static string One(Ticket ticket)
    {
        var notes = string.Concat(ticket.Notes.Select(n => $"<pre>{E(n)}</pre>\n"));
        return Page(
            $"S-{ticket.Number}",
            $"<p><a href=\"/\">All tickets</a></p><h1>S-{ticket.Number}: {E(ticket.What.Title)}</h1>"
                + $"<p>{E(ticket.State)}, {E(ticket.What.Urgency)}, since {E(ticket.What.Since)}</p>"
                + $"<pre>{E(ticket.What.Text)}</pre>\n{notes}"
        );
    }

    private static string Page(string title, string body) =>
        $"<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{E(title)}</title><style>"
        + "body{font:15px/1.45 sans-serif;margin:2em auto;max-width:70em;padding:0 1em;color:#222}"
        + "table{border-collapse:collapse;width:100%}"
        + "td,th{text-align:left;padding:.35em .8em .35em 0;border-bottom:1px solid #ddd;vertical-align:top}tr.done{color:#888}"
        + "pre{white-space:pre-wrap;background:#f5f5f2;padding:.8em 1em}</style></head><body>"
        + $"{body}</body></html>";

    private static string E(string text) => WebUtility.HtmlEncode(text);
}
