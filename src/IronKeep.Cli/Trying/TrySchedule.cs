using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Core.Schedules;

namespace IronKeep.Cli.Trying;

internal static class TrySchedule
{
    internal sealed record DueLine(string Utc, string Local, string? Note);

    internal sealed record Answer(string Sentence, string Zone, IReadOnlyList<DueLine> Due);

    public static Command Make()
    {
        var text = new Argument<string>("SCHEDULE") { Description = "A sentence, five crontab fields, or 'DTSTART:… RRULE:…'" };
        var (zoneOption, asOfOption) = (TryCommands.ZoneOption, TryCommands.AsOfOption);
        var count = new Option<int>("--count")
        {
            Description = "How many due instants to show, at most 100,000",
            DefaultValueFactory = _ => 5,
        };
        var command = new Command("schedule", "Shows when a schedule is due next") { text, zoneOption, asOfOption, count };
        command.SetAction(parsed =>
        {
            var sentence = parsed.GetValue(text)!;
            var zone = TryCommands.Zone(parsed.GetValue(zoneOption)!);
            var asOf = TryCommands.AsOf(parsed.GetValue(asOfOption));
            if (parsed.GetValue(count) is < 1 or > 100_000)
                throw TryCommands.NotUnderstood("--count goes from 1 to 100000");
            var (schedule, problem) = ScheduleText.Read(sentence);
            if (schedule is null)
                throw TryCommands.Misread(sentence, problem!);
            if (schedule.NamedZone is { } named && named != zone.Id)
                throw TryCommands.NotUnderstood($"the rule says its times are in {named}, but --zone says {zone.Id}; make them agree");
            var due = new DueTimes(schedule, zone);
            // One at a time: a schedule can be due every minute, and a rare one once in decades.
            var lines = due.Between(asOf, asOf + NodaTime.Duration.FromDays(366 * 100))
                .Take(parsed.GetValue(count))
                .Select(i => new DueLine(TryCommands.Utc(i), TryCommands.Local(i, zone), DueInstants.Note(schedule, zone, i)))
                .ToList();
            if (Common.AsJson(parsed))
            {
                Show.Json(new Answer(schedule.Words, zone.Id, lines));
                return Root.Done;
            }
            Show.Line($"{schedule.Words}  ({zone.Id})");
            Show.Table(
                ["Local", "UTC", "Note"],
                lines.Select(l => new[] { Show.Zoned(l.Local), Show.Zoned(l.Utc), l.Note ?? "" }),
                $"is not due again after {Show.Zoned(TryCommands.Local(asOf, zone))}"
            );
            foreach (var remark in schedule.Remarks)
                Show.Line(remark);
            return Root.Done;
        });
        return command;
    }
}
