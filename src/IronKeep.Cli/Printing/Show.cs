using System.Globalization;
using System.Text.Json;
using IronKeep.Cli.Client;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using Spectre.Console;

namespace IronKeep.Cli.Printing;

/// <summary>How answers look in a terminal. State is told in words, never by colour alone.</summary>
internal static class Show
{
    /// <summary>How a run ended, or else how it stands.</summary>
    public static string Stands(RunAnswer run) => run.Outcome.Word() ?? run.State.Word();

    private static readonly IAnsiConsole Terminal = MakeTerminal();

    public static void Json<T>(T answer) => Console.Out.WriteLine(JsonSerializer.Serialize(answer, ClientJson.Of<T>(ClientJson.Pretty)));

    public static void Line(string text = "") => Console.Out.WriteLine(Clean(text));

    public static void Error(string text) => Console.Error.WriteLine(Clean(text));

    /// <summary>
    /// A table; columns whose title begins with '>' are set to the right. Says <paramref name="empty"/> when there are no rows.
    /// </summary>
    public static void Table(string[] titles, IEnumerable<string[]> rows, string empty)
    {
        var table = new Table().Border(TableBorder.None).Expand();
        table.Width = null;
        table.Collapse();
        foreach (var title in titles)
        {
            var right = title.StartsWith('>');
            var column = new TableColumn(new Markup($"[bold]{Markup.Escape(title.TrimStart('>'))}[/]")).PadLeft(0).PadRight(2);
            if (right)
                column.RightAligned();
            table.AddColumn(column);
        }
        var any = false;
        foreach (var row in rows)
        {
            any = true;
            table.AddRow([.. row.Select(cell => new Markup(Tinted(Clean(cell))))]);
        }
        if (any)
            Terminal.Write(table);
        else
            Line(Sentence.Begin(empty));
    }

    /// <summary>A line of progress that replaces itself in a terminal; nothing in a pipe.</summary>
    public static void Progress(string text)
    {
        if (Console.IsErrorRedirected)
            return;
        var width = Math.Max(20, Terminal.Profile.Width - 1);
        var shown = Clean(text);
        Console.Error.Write("\r" + (shown.Length > width ? shown[..width] : shown.PadRight(width)));
    }

    public static void EndProgress()
    {
        if (!Console.IsErrorRedirected)
            Console.Error.WriteLine();
    }

    public static string Size(long? bytes) => bytes is { } b ? new ByteSize(b).ToString() : "-";

    /// <summary>Whether times are shown in UTC and not in the terminal's zone.</summary>
    public static bool InUtc { get; set; }

    /// <summary>
    /// Local time of this terminal, to the minute, with its distance from UTC: other times in the same table may be in another zone.
    /// In UTC where that was asked for.
    /// </summary>
    public static string When(DateTimeOffset? at) => at is { } then ? Clock(InUtc ? then.ToUniversalTime() : then.ToLocalTime()) : "-";

    /// <summary>
    /// A time that comes with the zone it is meant in, as RFC 3339; shown in that zone, or in UTC where that was asked for.
    /// </summary>
    public static string Zoned(string rfc3339) =>
        DateTimeOffset.TryParse(rfc3339, CultureInfo.InvariantCulture, out var at) ? Clock(InUtc ? at.ToUniversalTime() : at) : rfc3339;

    /// <summary>The same to the second, for the lines of a log.</summary>
    public static string ToTheSecond(DateTimeOffset at) => Clock(InUtc ? at.ToUniversalTime() : at.ToLocalTime(), "yyyy-MM-dd HH:mm:ss");

    private static string Clock(DateTimeOffset at, string form = "yyyy-MM-dd HH:mm") =>
        at.ToString(form, CultureInfo.InvariantCulture)
        + (at.Offset == TimeSpan.Zero ? "Z" : at.ToString("zzz", CultureInfo.InvariantCulture));

    public static string Took(double? seconds) =>
        seconds switch
        {
            null => "-",
            < 60 => seconds.Value.ToString("0.0", CultureInfo.InvariantCulture) + " s",
            < 3600 => TimeSpan.FromSeconds(seconds.Value).ToString(@"m\:ss", CultureInfo.InvariantCulture) + " min",
            < 86_400 => TimeSpan.FromSeconds(seconds.Value).ToString(@"h\:mm", CultureInfo.InvariantCulture) + " h",
            _ => (seconds.Value / 86_400).ToString("0.#' days'", CultureInfo.InvariantCulture),
        };

    /// <summary>"3 hours ago" and its like.</summary>
    public static string Ago(DateTimeOffset? at, DateTimeOffset now)
    {
        if (at is not { } then)
            return "never";
        var age = now - then;
        return age.TotalMinutes < 1 ? "just now"
            : age.TotalHours < 1 ? $"{(int)age.TotalMinutes} min ago"
            : age.TotalDays < 2 ? $"{(int)age.TotalHours} h ago"
            : $"{(int)age.TotalDays} days ago";
    }

    // Names come from elsewhere: control characters must not reach the terminal.
    private static string Clean(string text) =>
        text.Any(c => char.IsControl(c) && c is not '\n')
            ? new string([.. text.Select(c => char.IsControl(c) && c is not '\n' ? '\uFFFD' : c)])
            : text;

    private static string Tinted(string cell)
    {
        var text = Markup.Escape(cell);
        return cell switch
        {
            "ok" or "sound" or "keep" => $"[green]{text}[/]",
            "warned" or "suspect" or "frozen" or "missed" or "held-back" => $"[yellow]{text}[/]",
            "failed" or "timed-out" or "unsound" or "refused" or "expire" or "missing" => $"[red]{text}[/]",
            _ => text,
        };
    }

    private static IAnsiConsole MakeTerminal()
    {
        var console = AnsiConsole.Create(new AnsiConsoleSettings { Out = new AnsiConsoleOutput(Console.Out) });
        if (Console.IsOutputRedirected)
            console.Profile.Width = 240;
        return console;
    }
}
