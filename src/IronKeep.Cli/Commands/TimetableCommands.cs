using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;

namespace IronKeep.Cli.Commands;

internal static class TimetableCommands
{
    public static Command Make()
    {
        var next = new Option<string>("--next") { Description = "How far ahead: 48h or 7d", DefaultValueFactory = _ => "48h" };
        return Common.Verb("timetable", "What is due in the coming hours", async (parsed, client, cancel) =>
        {
            var hours = Hours(parsed.GetValue(next)!);
            var entries = await client.GetAsync<IReadOnlyList<TimetableEntry>>($"timetable?hours={hours}", cancel);
            if (Common.AsJson(parsed)) Show.Json(entries);
            else Show.Table(["local time", "zone", "UTC", "job", "machine", "store"],
                entries.Select(e => new[] { e.Local, e.Zone, e.Utc.UtcDateTime.ToString("yyyy-MM-dd HH:mm'Z'", CultureInfo.InvariantCulture), e.Job, e.Machine, string.Join(", ", e.Into) }),
                $"nothing is due in the next {hours} hours");
            return Root.Done;
        }, next);
    }

    private static int Hours(string text)
    {
        if (text.Length > 1 && int.TryParse(text[..^1], NumberStyles.None, CultureInfo.InvariantCulture, out var count) && count is > 0 and <= 8784)
        {
            if (text[^1] == 'h') return count;
            if (text[^1] == 'd' && count <= 366) return count * 24;
        }
        throw new AnswerException(Root.NotUnderstood, $"'{text}' is not a span; write 48h or 7d, up to 366d");
    }
}
