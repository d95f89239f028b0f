using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>
/// Hours in which no run begins: "08:00 to 18:00 on weekdays", local, from the first minute up to but not including the last. A
/// window that ends before it starts runs past midnight and belongs to the day it starts on; equal ends mean the whole day.
/// </summary>
public sealed record QuietHours(LocalTime From, LocalTime To, Weekdays Days)
{
    /// <summary>The hours, or the problem; exactly one of the two is null.</summary>
    public static (QuietHours? Hours, SentenceProblem? Problem) Read(string sentence)
    {
        var words = new SentenceWords(sentence, "write '08:00 to 18:00 on weekdays'");
        try
        {
            var from = words.Time();
            words.Expect("to", "then the end of the quiet hours");
            var to = words.Time();
            var days = Weekdays.Daily;
            if (words.Take("on"))
            {
                var (text, at, _) = words.Until();
                if (!Weekdays.TryParse(text, out days))
                    throw SentenceWords.Wrong(at, $"'{text}' cannot be read as weekdays; write 'mon-fri' or 'sat,sun'");
            }
            words.End();
            if (days == Weekdays.Daily && from == to)
                throw SentenceWords.Wrong(0, "these quiet hours never end; leave some time for runs to begin");
            return (new QuietHours(from, to, days), null);
        }
        catch (SentenceException e)
        {
            return (null, new SentenceProblem(e.Position, e.Message));
        }
    }

    public override string ToString() =>
        $"{SentenceWords.Time(From)} to {SentenceWords.Time(To)}{(Days == Weekdays.Daily ? "" : $" on {Days}")}";

    /// <summary>The window that an instant lies in, as instants [start, end); null when it lies in none.</summary>
    internal (Instant Start, Instant End)? Around(Instant instant, DateTimeZone zone)
    {
        var date = instant.InZone(zone).Date;
        // A window of the day before may reach past midnight.
        for (var day = date.PlusDays(-1); day <= date; day = day.PlusDays(1))
        {
            if (!Days.Contains(day.DayOfWeek))
                continue;
            var start = (day + From).InZoneLeniently(zone).ToInstant();
            var end = ((To > From ? day : day.PlusDays(1)) + To).InZoneLeniently(zone).ToInstant();
            if (instant >= start && instant < end)
                return (start, end);
        }
        return null;
    }
}
