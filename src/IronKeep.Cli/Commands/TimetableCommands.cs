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
        var timetable = Common.Verb(
            "timetable",
            "What is due in the coming hours",
            async (parsed, client, cancel) =>
            {
                var hours = Hours(parsed.GetValue(next)!);
                var entries = await client.GetAsync<IReadOnlyList<TimetableEntry>>($"timetable?hours={hours}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(entries);
                else
                    Show.Table(
                        ["local time", "zone", "UTC", "job", "machine", "store"],
                        entries.Select(e =>
                            new[]
                            {
                                Show.Zoned(e.Local),
                                e.Zone,
                                e.Utc.UtcDateTime.ToString("yyyy-MM-dd HH:mm'Z'", CultureInfo.InvariantCulture),
                                e.Job,
                                e.Machine,
                                string.Join(", ", e.Into),
                            }
                        ),
                        $"nothing is due in the next {hours} hours"
                    );
                return Root.Done;
            },
            next
        );
        foreach (var verb in (Command[])[Export(), CalendarAddresses(), Subscribe(), Unsubscribe()])
            timetable.Subcommands.Add(verb);
        return timetable;
    }

    private static Command Export()
    {
        var ics = new Option<bool>("--ics") { Description = "As iCalendar (RFC 5545)", Required = true };
        var days = new Option<string>("--for") { Description = "How far ahead: 60d, 8w, 6 months", DefaultValueFactory = _ => "60d" };
        return Common.Verb(
            "export",
            "Prints every expected due instant for a calendar program",
            async (parsed, client, cancel) =>
            {
                Console.Out.Write(await client.GetTextAsync($"timetable.ics?days={ForecastCommands.Days(parsed.GetValue(days)!)}", cancel));
                return Root.Done;
            },
            ics,
            days
        );
    }

    private static Command CalendarAddresses() =>
        Common.Verb("addresses", "The calendar addresses that are in use", async (parsed, client, cancel) =>
        {
            var addresses = await client.GetAsync<IReadOnlyList<CalendarAddressAnswer>>("timetable/addresses", cancel);
            if (Common.AsJson(parsed))
                Show.Json(addresses);
            else
                Show.Table(
                    [">id", "for", "made by", "made", "last read"],
                    addresses.Select(f => new[] { $"{f.Id}", f.Label, f.By, Show.When(f.MadeAt), Show.When(f.LastReadAt) }),
                    "no calendar address is in use; make one with 'ironkeep timetable subscribe LABEL'"
                );
            return Root.Done;
        });

    private static Command Subscribe()
    {
        var label = new Argument<string>("LABEL") { Description = "What the address is for, such as 'wall calendar'" };
        return Common.Verb(
            "subscribe",
            "Makes an address that a calendar program reads the timetable from; shown once, opens nothing else",
            async (parsed, client, cancel) =>
            {
                var made = await client.PostAsync<NewCalendarAddressAnswer>(
                    "timetable/addresses",
                    new CalendarAddressRequest(parsed.GetValue(label)!),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(made);
                else
                    Show.Line(
                        $"{client.Address}{made.Path}\nWhoever has this address can read the timetable; take it back with 'ironkeep "
                            + $"timetable unsubscribe {made.Address.Id}'"
                    );
                return Root.Done;
            },
            label
        );
    }

    private static Command Unsubscribe()
    {
        var id = new Argument<long>("ID") { Description = "The address's id" };
        return Common.Verb(
            "unsubscribe",
            "Takes a calendar address out of use at once",
            async (parsed, client, cancel) =>
            {
                await client.DeleteAsync<object>($"timetable/addresses/{parsed.GetValue(id)}", cancel);
                if (!Common.AsJson(parsed))
                    Show.Line($"Calendar address {parsed.GetValue(id)} opens nothing any more");
                return Root.Done;
            },
            id
        );
    }

    private static int Hours(string text)
    {
        if (
            text.Length > 1
            && int.TryParse(text[..^1], NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            && count is > 0 and <= 8784
        )
        {
            if (text[^1] == 'h')
                return count;
            if (text[^1] == 'd' && count <= 366)
                return count * 24;
        }
        throw new AnswerException(Root.NotUnderstood, $"'{text}' is not a span; write 48h or 7d, up to 366d");
    }
}
